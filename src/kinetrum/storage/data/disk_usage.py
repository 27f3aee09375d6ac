"""How much room things take, and freeing the records of runs for good."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from peewee import JOIN, SQL, Expression, Field, ModelSelect, Node, Select, fn

from kinetrum.core.base.run_document import RunDoc, pack
from kinetrum.storage.data import artifacts
from kinetrum.storage.data.artifacts import Dependent
from kinetrum.storage.db.clock import now
from kinetrum.storage.db.database import named_rows, one_row
from kinetrum.storage.live import events
from kinetrum.storage.runs.run_documents import load_doc
from kinetrum.storage.tables.data import (
    Artifact,
    ArtifactVersion,
    BlobFile,
    BlobInProject,
    Manifest,
    ManifestBlob,
    RunArtifact,
)
from kinetrum.storage.tables.people import Experiment, NoteRow, Person, Project
from kinetrum.storage.tables.registry import EvidenceRecord, ModelVersion, RegisteredModel
from kinetrum.storage.tables.runs import (
    OutputBlock,
    OutputWriter,
    PointChunk,
    PointRollup,
    PointTail,
    ResourceBlock,
    ResultRecord,
    RunDocument,
    RunIngest,
    RunOutput,
    RunRow,
    Series,
    StoredPlot,
)
from kinetrum.storage.tables.search import NumberValue, TextValue


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


def room_of_artifacts(project_id: int) -> list[Taken]:
    """Return what each artifact of a project takes, the largest first."""
    counts = (
        ArtifactVersion.select(
            Artifact.name, fn.COUNT(ArtifactVersion.version_id).alias("things"), _binned(ArtifactVersion.binned_at)
        )
        .join(Artifact, on=Artifact.artifact_id == ArtifactVersion.artifact_id)
        .where(Artifact.project_id == project_id, ArtifactVersion.purged_at.is_null())
        .group_by(Artifact.name)
    )
    holders = (
        ManifestBlob.select(ManifestBlob.sha256, Artifact.name.alias("holder"))
        .join(ArtifactVersion, on=ArtifactVersion.digest == ManifestBlob.digest)
        .join(Artifact, on=Artifact.artifact_id == ArtifactVersion.artifact_id)
        .where(Artifact.project_id == project_id, *_stored())
        .distinct()
    )
    return _taken(holders, project_id, counts)


def _binned(binned_at: Field) -> Node:
    return fn.COALESCE(fn.SUM(binned_at.is_null(False)), 0).alias("binned")


def _stored() -> tuple[Expression, Expression]:
    return ArtifactVersion.by_reference == False, ArtifactVersion.purged_at.is_null()  # noqa: E712


def room_of_experiments(project_id: int) -> list[Taken]:
    """Return what the stored outputs of each experiment's runs take, the largest first."""
    counts = (
        Experiment.select(Experiment.name, fn.COUNT(RunRow.run_id).alias("things"), _binned(RunRow.binned_at))
        .join(
            RunRow,
            JOIN.LEFT_OUTER,
            on=(RunRow.experiment_id == Experiment.experiment_id) & RunRow.purged_at.is_null(),
        )
        .where(Experiment.project_id == project_id)
        .group_by(Experiment.name)
    )
    holders = (
        RunArtifact.select(ManifestBlob.sha256, Experiment.name.alias("holder"))
        .join(RunRow, on=RunRow.run_id == RunArtifact.run_id)
        .join(Experiment, on=Experiment.experiment_id == RunRow.experiment_id)
        .join(ArtifactVersion, on=ArtifactVersion.version_id == RunArtifact.version_id, src=RunArtifact)
        .join(ManifestBlob, on=ManifestBlob.digest == ArtifactVersion.digest)
        .where(Experiment.project_id == project_id, RunArtifact.relation == "generated", *_stored())
        .distinct()
    )
    return _taken(holders, project_id, counts)


def _taken(holders: ModelSelect[Any], project_id: int, counts: ModelSelect[Any]) -> list[Taken]:
    holder, again = holders.alias("held"), holders.alias("again")
    of_file = (
        Select([again], [again.c.sha256, fn.COUNT(SQL("*")).alias("holders")]).group_by(again.c.sha256).alias("of_file")
    )
    rows = (
        BlobFile.select(
            holder.c.holder,
            fn.COUNT(SQL("*")).alias("files"),
            fn.SUM(BlobFile.size_bytes).alias("size"),
            fn.SUM(fn.IF(of_file.c.holders == 1, BlobFile.size_bytes, 0)).alias("alone"),
        )
        .join(holder, on=holder.c.sha256 == BlobFile.sha256)
        .join(of_file, on=of_file.c.sha256 == BlobFile.sha256, src=BlobFile)
        .group_by(holder.c.holder)
    )
    sizes = {row.holder: (int(row.files), int(row.size), int(row.alone)) for row in named_rows(rows)}
    in_bin = (
        ArtifactVersion.select(Artifact.name, fn.SUM(Manifest.size_bytes).alias("size"))
        .join(Artifact, on=Artifact.artifact_id == ArtifactVersion.artifact_id)
        .join(Manifest, on=Manifest.digest == ArtifactVersion.digest, src=ArtifactVersion)
        .where(Artifact.project_id == project_id, ArtifactVersion.binned_at.is_null(False), *_stored())
        .group_by(Artifact.name)
    )
    binned = {row.name: int(row.size) for row in named_rows(in_bin)}
    taken = [
        Taken(row.name, int(row.things), *sizes.get(row.name, (0, 0, 0)), int(row.binned), binned.get(row.name, 0))
        for row in named_rows(counts)
    ]
    return sorted(taken, key=lambda one: (-one.size_bytes, one.name))


def stored_in_project(project_id: int) -> tuple[int, int]:
    """Return how many files a project holds, and their bytes."""
    row = one_row(
        BlobInProject.select(
            fn.COUNT(BlobFile.sha256).alias("files"), fn.COALESCE(fn.SUM(BlobFile.size_bytes), 0).alias("size")
        )
        .join(BlobFile, on=BlobFile.sha256 == BlobInProject.sha256)
        .where(BlobInProject.project_id == project_id)
    )
    return int(row.files), int(row.size)


@dataclass(frozen=True)
class TakenBy:
    """How many versions somebody kept in a project, and their bytes; what several versions hold counts in each."""

    person: str
    versions: int
    size_bytes: int


def stored_by_people(project_id: int) -> list[TakenBy]:
    """Return who kept how much of what a project stores, the largest first."""
    size = fn.COALESCE(fn.SUM(Manifest.size_bytes), 0)
    rows = (
        ArtifactVersion.select(
            Person.full_name, fn.COUNT(ArtifactVersion.version_id).alias("versions"), size.alias("size")
        )
        .join(Artifact, on=Artifact.artifact_id == ArtifactVersion.artifact_id)
        .join(Manifest, on=Manifest.digest == ArtifactVersion.digest, src=ArtifactVersion)
        .join(Person, on=Person.person_id == ArtifactVersion.created_by, src=ArtifactVersion)
        .where(
            Artifact.project_id == project_id,
            ArtifactVersion.purged_at.is_null(),
            ArtifactVersion.by_reference == False,  # noqa: E712
        )
        .group_by(Person.person_id, Person.full_name)
        .order_by(size.desc())
        .limit(100)
    )
    return [TakenBy(row.full_name, int(row.versions), int(row.size)) for row in named_rows(rows)]


def stored_by_project() -> list[tuple[str, int, int]]:
    """Return (project, files, bytes), the largest first; what two projects hold counts in both."""
    size = fn.COALESCE(fn.SUM(BlobFile.size_bytes), 0)
    rows = (
        Project.select(Project.name, fn.COUNT(BlobInProject.sha256).alias("files"), size.alias("size"))
        .join(BlobInProject, JOIN.LEFT_OUTER, on=BlobInProject.project_id == Project.project_id)
        .join(BlobFile, JOIN.LEFT_OUTER, on=BlobFile.sha256 == BlobInProject.sha256)
        .where(Project.deleted_at.is_null())
        .group_by(Project.name)
        .order_by(size.desc(), Project.name)
    )
    return [(row.name, int(row.files), int(row.size)) for row in named_rows(rows)]


def recorded_bytes(run_ids: Sequence[int]) -> int:
    """Return about how many bytes of points, printed output and documents runs have in the database."""
    wanted = list(run_ids)
    if not wanted:
        return 0
    points = PointChunk.select(_bytes(PointChunk.data)).join(Series, on=Series.series_id == PointChunk.series_id)
    parts: list[ModelSelect[Any]] = [
        points.where(Series.run_id.in_(wanted)),
        OutputBlock.select(_bytes(OutputBlock.payload)).where(OutputBlock.run_id.in_(wanted)),
        RunDocument.select(_bytes(RunDocument.doc)).where(RunDocument.run_id.in_(wanted)),
        StoredPlot.select(_bytes(StoredPlot.payload)).where(StoredPlot.run_id.in_(wanted)),
    ]
    return sum(int(part.scalar()) for part in parts)


def _bytes(column: Node) -> Node:
    return fn.COALESCE(fn.SUM(fn.LENGTH(column)), 0)


_SERIES_AT_ONCE = 500
_OF_RUNS = (
    PointTail,
    ResultRecord,
    NumberValue,
    TextValue,
    RunIngest,
    RunOutput,
    OutputBlock,
    OutputWriter,
    ResourceBlock,
    StoredPlot,
)


def purge_run(run_id: int, person_id: int) -> None:
    """Free what a run recorded; its row, its inputs and its outputs stay as a tombstone."""
    doc = load_doc(run_id)
    # By their numbers: the database would look through the points of every run for those that a query names.
    series = [row.series_id for row in named_rows(Series.select(Series.series_id).where(Series.run_id == run_id))]
    for start in range(0, len(series), _SERIES_AT_ONCE):
        part = series[start : start + _SERIES_AT_ONCE]
        PointChunk.delete().where(PointChunk.series_id.in_(part)).execute()
        PointRollup.delete().where(PointRollup.series_id.in_(part)).execute()
    Series.delete().where(Series.run_id == run_id).execute()
    for table in _OF_RUNS:
        table.delete().where(table.run_id == run_id).execute()
    NoteRow.delete().where(NoteRow.subject_kind == "run", NoteRow.subject_id == run_id).execute()
    left = RunDoc(used=doc.used, generated=doc.generated)
    RunDocument.update(doc=pack(left)).where(RunDocument.run_id == run_id).execute()
    changes = RunRow.update(purged_at=now(), purged_by=person_id, reason=None, changed_at=now())
    changes.where(RunRow.run_id == run_id).execute()
    events.tell_run(run_id)


def mark_version_purged(version_id: int, person_id: int) -> None:
    """Leave a version as a tombstone: its number, digest and list of files stay, its bytes are no longer held."""
    changes = ArtifactVersion.update(purged_at=now(), purged_by=person_id)
    changes.where(ArtifactVersion.version_id == version_id).execute()


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
    missed = {row.version_id for rows_found in (elsewhere, noted) for row in named_rows(rows_found)}
    left = [version_id for version_id in generated if version_id not in missed]
    plain = ArtifactVersion.select(ArtifactVersion.version_id).where(
        ArtifactVersion.version_id.in_(left or [0]),
        ArtifactVersion.purged_at.is_null(),
        ArtifactVersion.labels.in_(["", "{}"]),
    )
    unlabelled = {row.version_id for row in named_rows(plain)}
    return sorted(unlabelled - artifacts.models_on(sorted(unlabelled)).keys())


def models_on_runs(run_ids: Sequence[int]) -> dict[int, list[Dependent]]:
    """Return the registered versions that rest on each of these runs, themselves or their evidence."""
    wanted = list(run_ids)
    dependents: dict[int, list[Dependent]] = {}
    if not wanted:
        return dependents
    for row in (*_on_runs(EvidenceRecord, wanted), *_on_runs(ModelVersion, wanted)):
        dependents.setdefault(row.run_id, []).append(Dependent(row.project_id, f"{row.name}@{row.number}"))
    return dependents


def _on_runs(table: type[EvidenceRecord] | type[ModelVersion], run_ids: list[int]) -> list[Any]:
    return named_rows(
        table.select(table.run_id, RegisteredModel.project_id, RegisteredModel.name, table.number)
        .join(RegisteredModel, on=RegisteredModel.model_id == table.model_id)
        .where(table.run_id.in_(run_ids))
    )
