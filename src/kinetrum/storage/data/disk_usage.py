"""How much room things take, and freeing the records of runs for good."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from kinetrum.core.base.run_document import RunDoc, pack
from kinetrum.storage.data import artifacts
from kinetrum.storage.db.clock import now
from kinetrum.storage.db.database import execute, named_rows, places, query
from kinetrum.storage.live import events
from kinetrum.storage.runs.runs import load_doc
from kinetrum.storage.tables.data import ArtifactVersion, RunArtifact
from kinetrum.storage.tables.people import NoteRow
from kinetrum.storage.tables.runs import RunRow


@dataclass(frozen=True)
class Taken:
    """What one artifact or experiment takes: `files` and `size_bytes` count every stored file once.

    `alone_bytes` is held by nothing else in the project, `binned_bytes` belongs to what is in its bin.
    """

    name: str
    things: int
    files: int
    size_bytes: int
    alone_bytes: int
    binned: int
    binned_bytes: int


_STORED = "NOT v.by_reference AND v.purged_at IS NULL"


def room_of_artifacts(project_id: int) -> list[Taken]:
    """Return what each artifact of a project takes, the largest first."""
    counts = {
        name: (int(count), int(binned))
        for name, count, binned in query(
            "SELECT a.name, COUNT(*), COALESCE(SUM(v.binned_at IS NOT NULL), 0) FROM artifact_version v"
            " JOIN artifact a USING (artifact_id) WHERE a.project_id = %s AND v.purged_at IS NULL GROUP BY a.name",
            project_id,
        )
    }
    holders = (
        "SELECT DISTINCT mb.sha256, a.name AS holder FROM artifact_version v JOIN artifact a USING (artifact_id)"
        f" JOIN manifest_blob mb ON mb.digest = v.digest WHERE a.project_id = %s AND {_STORED}"
    )
    return _taken(holders, project_id, counts)


def room_of_experiments(project_id: int) -> list[Taken]:
    """Return what the stored outputs of each experiment's runs take, the largest first."""
    counts = {
        name: (int(count), int(binned or 0))
        for name, count, binned in query(
            "SELECT e.name, COUNT(r.run_id), SUM(r.binned_at IS NOT NULL) FROM experiment e LEFT JOIN run r ON"
            " r.experiment_id = e.experiment_id AND r.purged_at IS NULL WHERE e.project_id = %s GROUP BY e.name",
            project_id,
        )
    }
    holders = (
        "SELECT DISTINCT mb.sha256, e.name AS holder FROM run_artifact x JOIN run r USING (run_id)"
        " JOIN experiment e USING (experiment_id) JOIN artifact_version v USING (version_id)"
        " JOIN manifest_blob mb ON mb.digest = v.digest WHERE e.project_id = %s AND x.relation = 'generated'"
        f" AND {_STORED}"
    )
    return _taken(holders, project_id, counts)


def _taken(holders: str, project_id: int, counts: dict[str, tuple[int, int]]) -> list[Taken]:
    rows = query(
        "SELECT h.holder, COUNT(*), SUM(b.size_bytes), SUM(IF(o.holders = 1, b.size_bytes, 0))"
        f" FROM ({holders}) h JOIN blob_file b USING (sha256)"
        f" JOIN (SELECT sha256, COUNT(*) AS holders FROM ({holders}) i GROUP BY sha256) o USING (sha256)"
        " GROUP BY h.holder",
        project_id,
        project_id,
    )
    sizes = {name: (int(files), int(size), int(alone)) for name, files, size, alone in rows}
    binned = {
        name: int(size)
        for name, size in query(
            "SELECT a.name, SUM(m.size_bytes) FROM artifact_version v JOIN artifact a USING (artifact_id)"
            f" JOIN manifest m USING (digest) WHERE a.project_id = %s AND v.binned_at IS NOT NULL AND {_STORED}"
            " GROUP BY a.name",
            project_id,
        )
    }
    found = [
        Taken(name, things, *sizes.get(name, (0, 0, 0)), in_bin, binned.get(name, 0))
        for name, (things, in_bin) in counts.items()
    ]
    return sorted(found, key=lambda taken: (-taken.size_bytes, taken.name))


def stored_in_project(project_id: int) -> tuple[int, int]:
    """Return how many files a project holds, and their bytes."""
    ((files, size),) = query(
        "SELECT COUNT(*), COALESCE(SUM(b.size_bytes), 0) FROM blob_in_project p JOIN blob_file b USING (sha256)"
        " WHERE p.project_id = %s",
        project_id,
    )
    return int(files), int(size)


def stored_by_project() -> list[tuple[str, int, int]]:
    """Return (project, files, bytes), the largest first; what two projects hold counts in both."""
    return [
        (name, int(files), int(size))
        for name, files, size in query(
            "SELECT pr.name, COUNT(p.sha256), COALESCE(SUM(b.size_bytes), 0) AS total FROM project pr LEFT JOIN"
            " blob_in_project p USING (project_id) LEFT JOIN blob_file b USING (sha256) GROUP BY pr.name"
            " ORDER BY total DESC, pr.name"
        )
    ]


def recorded_bytes(run_ids: Sequence[int]) -> int:
    """Return about how many bytes of points, printed output and documents runs have in the database."""
    wanted = list(run_ids)
    if not wanted:
        return 0
    inside = places(wanted)
    ((size,),) = query(
        "SELECT (SELECT COALESCE(SUM(LENGTH(c.data)), 0) FROM point_chunk c JOIN series s USING (series_id)"
        f" WHERE s.run_id IN {inside}) + (SELECT COALESCE(SUM(LENGTH(payload)), 0) FROM output_block WHERE run_id IN"
        f" {inside}) + (SELECT COALESCE(SUM(LENGTH(doc)), 0) FROM run_doc WHERE run_id IN {inside})"
        f" + (SELECT COALESCE(SUM(LENGTH(payload)), 0) FROM plot WHERE run_id IN {inside})",
        *wanted,
        *wanted,
        *wanted,
        *wanted,
    )
    return int(size)


_TABLES = (
    "point_tail",
    "result_record",
    "value_num",
    "value_text",
    "run_ingest",
    "run_output",
    "output_block",
    "output_writer",
    "resource_block",
    "plot",
)


def purge_run(run_id: int, person_id: int) -> None:
    """Free what a run recorded; its row, its inputs and its outputs stay as a tombstone."""
    doc = load_doc(run_id)
    execute("DELETE c FROM point_chunk c JOIN series s USING (series_id) WHERE s.run_id = %s", run_id)
    execute("DELETE r FROM point_rollup r JOIN series s USING (series_id) WHERE s.run_id = %s", run_id)
    execute("DELETE FROM series WHERE run_id = %s", run_id)
    for table in _TABLES:
        execute(f"DELETE FROM {table} WHERE run_id = %s", run_id)
    execute("DELETE FROM note WHERE subject_kind = 'run' AND subject_id = %s", run_id)
    left = RunDoc(used=doc.used, generated=doc.generated)
    execute("UPDATE run_doc SET doc = %s WHERE run_id = %s", pack(left), run_id)
    execute(
        "UPDATE run SET purged_at = %s, purged_by = %s, reason = NULL, changed_at = %s WHERE run_id = %s",
        now(),
        person_id,
        now(),
        run_id,
    )
    events.tell_run(run_id)


def mark_version_purged(version_id: int, person_id: int) -> None:
    """Leave a version as a tombstone: its number, digest and list of files stay, its bytes are no longer held."""
    execute(
        "UPDATE artifact_version SET purged_at = %s, purged_by = %s WHERE version_id = %s", now(), person_id, version_id
    )


def generated_by(run_ids: Sequence[int]) -> list[int]:
    """Return the versions that runs generated."""
    wanted = list(run_ids)
    if not wanted:
        return []
    links = (
        RunArtifact.select(RunArtifact.version_id)
        .where(RunArtifact.run_id.in_(wanted), RunArtifact.relation == "generated")
        .distinct()
    )
    return sorted(row.version_id for row in named_rows(links))


def generated_by_these_alone(run_ids: Sequence[int]) -> list[int]:
    """Return the versions that these runs generated and that nobody would miss without them.

    Every other run that used or generated such a version was purged, no model rests on it, and it has neither labels
    nor notes, by which people say that something is worth keeping.
    """
    wanted, generated = list(run_ids), generated_by(run_ids)
    if not generated:
        return []
    elsewhere = (
        RunArtifact.select(RunArtifact.version_id)
        .join(RunRow, on=RunRow.run_id == RunArtifact.run_id)
        .where(RunArtifact.version_id.in_(generated), RunRow.purged_at.is_null(), RunRow.run_id.not_in(wanted))
    )
    noted = NoteRow.select(NoteRow.subject_id.alias("version_id")).where(
        NoteRow.subject_kind == "artifact@", NoteRow.subject_id.in_(generated)
    )
    missed = {row.version_id for found in (elsewhere, noted) for row in named_rows(found)}
    left = [version_id for version_id in generated if version_id not in missed]
    plain = ArtifactVersion.select(ArtifactVersion.version_id).where(
        ArtifactVersion.version_id.in_(left or [0]),
        ArtifactVersion.purged_at.is_null(),
        ArtifactVersion.labels.in_(["", "{}"]),
    )
    unlabelled = {row.version_id for row in named_rows(plain)}
    return sorted(unlabelled - artifacts.models_on(sorted(unlabelled)).keys())


def models_on_runs(run_ids: Sequence[int]) -> dict[int, str]:
    """Return the registered version (`frost-alarm@3`) that rests on each of these runs, itself or its evidence."""
    wanted = list(run_ids)
    if not wanted:
        return {}
    return {
        int(run_id): reference
        for run_id, reference in query(
            "SELECT e.run_id, CONCAT(m.name, '@', e.number) FROM evidence e JOIN model m USING (model_id)"
            f" WHERE e.run_id IN {places(wanted)} UNION ALL"
            " SELECT mv.run_id, CONCAT(m.name, '@', mv.number) FROM model_version mv JOIN model m USING (model_id)"
            f" WHERE mv.run_id IN {places(wanted)}",
            *wanted,
            *wanted,
        )
    }
