"""What runs used and generated."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

from peewee import Field, fn

from kinetrum.storage.data.artifacts import VersionRow, version_by_id
from kinetrum.storage.db.database import named_rows, one_row, records
from kinetrum.storage.tables.data import Artifact, ArtifactVersion, RunArtifact


@dataclass(frozen=True)
class LinkRow:
    """One relation of a run and an artifact version."""

    run_id: int
    uid: bytes
    version_id: int
    relation: str
    role: str | None
    step: int | None
    recorded_at: datetime
    activity: str | None
    keep: str | None


_COLUMNS = tuple(getattr(RunArtifact, name) for name in LinkRow.__dataclass_fields__)


def add_link(link: LinkRow) -> bool:
    """Record that a run used or generated a version; tells whether that is new."""
    return bool(RunArtifact.insert(**vars(link)).on_conflict_ignore().as_rowcount().execute())


def linked_version(run_id: int, uid: bytes) -> VersionRow | None:
    """Return the version that was linked to a run under this client-made id."""
    link = RunArtifact.get_or_none(RunArtifact.run_id == run_id, RunArtifact.uid == uid)
    return version_by_id(link.version_id) if link else None


def links_of_runs(run_ids: Sequence[int]) -> list[LinkRow]:
    """Return what these runs used and generated, in the order in which it was recorded."""
    return _links(RunArtifact.run_id, run_ids)


def links_of_versions(version_ids: Sequence[int]) -> list[LinkRow]:
    """Return who used and generated these versions, in the order in which it was recorded."""
    return _links(RunArtifact.version_id, version_ids)


def _links(column: Field[int], ids: Sequence[int]) -> list[LinkRow]:
    links = []
    for start in range(0, len(ids), 1000):
        rows = RunArtifact.select(*_COLUMNS).where(column.in_(list(ids[start : start + 1000])))
        links += records(rows.order_by(RunArtifact.recorded_at, RunArtifact.uid), LinkRow)
    return links


def latest_of_run(run_id: int, name: str) -> int | None:
    """Return the id of the version of that name, not purged, that the run generated last."""
    row = one_row(
        RunArtifact.select(RunArtifact.version_id)
        .join(ArtifactVersion, on=ArtifactVersion.version_id == RunArtifact.version_id)
        .join(Artifact, on=Artifact.artifact_id == ArtifactVersion.artifact_id)
        .where(
            RunArtifact.run_id == run_id,
            Artifact.name == name,
            RunArtifact.relation == "generated",
            ArtifactVersion.purged_at.is_null(),
        )
        .order_by(
            ArtifactVersion.binned_at.is_null().desc(), RunArtifact.recorded_at.desc(), ArtifactVersion.number.desc()
        )
        .limit(1)
    )
    return int(row.version_id) if row else None


def checkpoints_of_run(run_id: int, artifact_id: int) -> list[LinkRow]:
    """Return what a run generated under one name to be kept only as long as it is among the chosen."""
    rows = (
        RunArtifact.select(*_COLUMNS)
        .join(ArtifactVersion, on=ArtifactVersion.version_id == RunArtifact.version_id)
        .where(
            RunArtifact.run_id == run_id,
            ArtifactVersion.artifact_id == artifact_id,
            RunArtifact.keep.is_null(False),
            ArtifactVersion.purged_at.is_null(),
        )
    )
    return records(rows, LinkRow)


def step_of(run_id: int, version_id: int) -> int | None:
    """Return the latest step at which a run generated a version; None where it told none."""
    step = (
        RunArtifact.select(fn.MAX(RunArtifact.step))
        .where(
            (RunArtifact.run_id == run_id)
            & (RunArtifact.version_id == version_id)
            & (RunArtifact.relation == "generated")
        )
        .scalar()
    )
    return None if step is None else int(step)


def last_steps(run_ids: Sequence[int]) -> dict[tuple[int, int], int]:
    """Return, by (run, artifact), the last step at which these runs generated a version of an artifact."""
    if not run_ids:
        return {}
    rows = (
        RunArtifact.select(RunArtifact.run_id, ArtifactVersion.artifact_id, fn.MAX(RunArtifact.step).alias("last_step"))
        .join(ArtifactVersion, on=(ArtifactVersion.version_id == RunArtifact.version_id))
        .where(
            RunArtifact.run_id.in_(list(run_ids))
            & (RunArtifact.relation == "generated")
            & RunArtifact.step.is_null(False)
        )
        .group_by(RunArtifact.run_id, ArtifactVersion.artifact_id)
    )
    return {(row.run_id, row.artifact_id): int(row.last_step) for row in named_rows(rows)}


@dataclass(frozen=True)
class Generated:
    """A version of an artifact that a run generated: its number, and at which step."""

    version_id: int
    number: int
    step: int | None


def generated_under(run_id: int, name: str) -> list[Generated]:
    """Return the versions of that name, neither purged nor in the bin, that a run generated, by step and number.

    Content that came again at another step stands there once more.
    """
    rows = (
        RunArtifact.select(RunArtifact.version_id, ArtifactVersion.number, RunArtifact.step)
        .distinct()
        .join(ArtifactVersion, on=(ArtifactVersion.version_id == RunArtifact.version_id))
        .join(Artifact, on=(Artifact.artifact_id == ArtifactVersion.artifact_id))
        .where(
            (RunArtifact.run_id == run_id)
            & (RunArtifact.relation == "generated")
            & (Artifact.name == name)
            & ArtifactVersion.purged_at.is_null()
            & ArtifactVersion.binned_at.is_null()
        )
    )
    generated = [Generated(row.version_id, row.number, row.step) for row in named_rows(rows)]
    return sorted(generated, key=lambda one: (-1 if one.step is None else one.step, one.number))
