"""Artifacts and their versions."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any, NamedTuple

from peewee import SQL, Expression, ModelSelect, Node, fn

from kinetrum.storage.db.clock import now
from kinetrum.storage.db.database import lock_rows, named_rows, records
from kinetrum.storage.tables.data import Artifact, ArtifactVersion, BlobFile, Manifest, ManifestBlob
from kinetrum.storage.tables.people import Project, ThingName
from kinetrum.storage.tables.registry import EvidenceRecord, ModelVersion, RegisteredModel


@dataclass(frozen=True)
class ArtifactRow:
    """One artifact as stored."""

    artifact_id: int
    project_id: int
    name: str
    kind: str
    description: str
    labels: dict[str, str]


@dataclass(frozen=True)
class VersionRow:
    """One artifact version; `digest` identifies the content, `damaged` says a stored file no longer matches."""

    version_id: int
    artifact_id: int
    project_id: int
    name: str
    kind: str
    number: int
    digest: str
    by_reference: bool
    address: str | None
    created_by: int
    created_at: datetime
    file_count: int
    size_bytes: int
    damaged: bool
    about: dict[str, Any]
    labels: dict[str, str]
    binned_at: datetime | None
    binned_by: int | None
    bin_reason: str | None
    purged_at: datetime | None
    imported_from: str | None

    @property
    def reference(self) -> str:
        """`name@number`."""
        return f"{self.name}@{self.number}"


def _is_damaged() -> Expression:
    broken = (
        ManifestBlob.select(SQL("1"))
        .join(BlobFile, on=BlobFile.sha256 == ManifestBlob.sha256)
        .where(ManifestBlob.digest == ArtifactVersion.digest, BlobFile.damaged)
    )
    return (ArtifactVersion.by_reference == False) & fn.EXISTS(broken)  # noqa: E712


def _select(*conditions: Node) -> ModelSelect[ArtifactVersion]:
    """Begin a query for versions that meet conditions, with what their artifacts and lists of files say of them."""
    return (
        ArtifactVersion.select(
            ArtifactVersion.version_id,
            ArtifactVersion.artifact_id,
            Artifact.project_id,
            Artifact.name,
            Artifact.kind,
            ArtifactVersion.number,
            ArtifactVersion.digest,
            ArtifactVersion.by_reference,
            ArtifactVersion.address,
            ArtifactVersion.created_by,
            ArtifactVersion.created_at,
            Manifest.file_count,
            Manifest.size_bytes,
            _is_damaged().alias("damaged"),
            ArtifactVersion.about,
            ArtifactVersion.labels,
            ArtifactVersion.binned_at,
            ArtifactVersion.binned_by,
            ArtifactVersion.bin_reason,
            ArtifactVersion.purged_at,
            ArtifactVersion.imported_from,
        )
        .join(Artifact, on=Artifact.artifact_id == ArtifactVersion.artifact_id)
        .join(Manifest, on=Manifest.digest == ArtifactVersion.digest, src=ArtifactVersion)
        .where(*conditions)
    )


def _versions(select: ModelSelect[ArtifactVersion]) -> list[VersionRow]:
    return records(select, VersionRow, digest=bytes.hex, damaged=bool, about=json.loads, labels=json.loads)


def _one(select: ModelSelect[ArtifactVersion]) -> VersionRow | None:
    return next(iter(_versions(select.limit(1))), None)


def thing_of_name(project_id: int, name: str) -> str | None:
    """Return whether the name is taken by an 'artifact' or a 'model'."""
    row = ThingName.get_or_none(ThingName.project_id == project_id, ThingName.name == name)
    return row.thing if row else None


def claim_name(project_id: int, name: str, thing: str) -> bool:
    """Take a name for an artifact or model; tells whether it is now this thing's."""
    ThingName.insert(project_id=project_id, name=name, thing=thing).on_conflict_ignore().execute()
    return thing_of_name(project_id, name) == thing


def artifact_named(project_id: int, name: str, lock: bool = False) -> ArtifactRow | None:
    """Return the artifact of that name, locked until the transaction ends if asked."""
    chosen = Artifact.select().where((Artifact.project_id == project_id) & (Artifact.name == name))
    row = (chosen.for_update() if lock else chosen).first()
    if row is None:
        return None
    return ArtifactRow(row.artifact_id, row.project_id, row.name, row.kind, row.description, json.loads(row.labels))


def describe_artifact(artifact_id: int, description: str, labels: dict[str, str]) -> None:
    """Set an artifact's description and labels."""
    changes = Artifact.update(description=description, labels=json.dumps(labels))
    changes.where(Artifact.artifact_id == artifact_id).execute()


def add_artifact(project_id: int, name: str, kind: str, person_id: int) -> None:
    """Insert an artifact unless it is there."""
    artifact = Artifact.insert(project_id=project_id, name=name, kind=kind, created_by=person_id, created_at=now())
    artifact.on_conflict_ignore().execute()


def artifacts_of(project_id: int) -> list[VersionRow]:
    """Return the newest version, of those not in the bin, of every artifact of a project, by name."""
    other = ArtifactVersion.alias()
    newest = other.select(fn.MAX(other.number)).where(
        other.artifact_id == Artifact.artifact_id, other.binned_at.is_null()
    )
    chosen = _select(Artifact.project_id == project_id, ArtifactVersion.number == newest)
    return _versions(chosen.order_by(Artifact.name))


def versions_of(artifact_id: int) -> list[VersionRow]:
    """Return an artifact's versions, the newest first, those in the bin and the purged ones too."""
    return _versions(_select(ArtifactVersion.artifact_id == artifact_id).order_by(ArtifactVersion.number.desc()))


def holders_of(sha256: str, limit: int) -> list[str]:
    """Return the versions of any project whose stored files have these bytes, as `PROJECT/NAME@NUMBER`."""
    rows = (
        ManifestBlob.select(Project.name.alias("project"), Artifact.name.alias("artifact"), ArtifactVersion.number)
        .join(ArtifactVersion, on=(ArtifactVersion.digest == ManifestBlob.digest))
        .join(Artifact, on=(Artifact.artifact_id == ArtifactVersion.artifact_id))
        .join(Project, on=(Project.project_id == Artifact.project_id))
        .where(
            (ManifestBlob.sha256 == bytes.fromhex(sha256))
            & (ArtifactVersion.by_reference == False)  # noqa: E712
            & ArtifactVersion.purged_at.is_null()
        )
        .order_by(Project.name, Artifact.name, ArtifactVersion.number)
        .limit(limit)
    )
    return [f"{row.project}/{row.artifact}@{row.number}" for row in named_rows(rows)]


def every_version_of(project_id: int) -> list[VersionRow]:
    """Return all versions of all artifacts of a project, those in the bin and the purged ones too."""
    return _versions(_select(Artifact.project_id == project_id))


def version_numbered(artifact_id: int, number: int) -> VersionRow | None:
    """Return one version of an artifact."""
    return _one(_select(ArtifactVersion.artifact_id == artifact_id, ArtifactVersion.number == number))


def newest_version(artifact_id: int) -> VersionRow | None:
    """Return the newest version of an artifact that is not in the bin."""
    in_sight = _select(ArtifactVersion.artifact_id == artifact_id, ArtifactVersion.binned_at.is_null())
    return _one(in_sight.order_by(ArtifactVersion.number.desc()))


def last_number(artifact_id: int) -> int:
    """Return the highest number that a version of the artifact ever had; 0 where there was none."""
    versions = ArtifactVersion.select(fn.MAX(ArtifactVersion.number)).where(ArtifactVersion.artifact_id == artifact_id)
    return int(versions.scalar() or 0)


def versions_by_ids(version_ids: Sequence[int]) -> list[VersionRow]:
    """Return versions by id, in no order."""
    wanted = list(version_ids)
    return _versions(_select(ArtifactVersion.version_id.in_(wanted))) if wanted else []


def versions_of_digest(project_id: int, digest: str) -> list[VersionRow]:
    """Return a project's versions with this content, whatever their names, the earliest first."""
    same = _select(Artifact.project_id == project_id, ArtifactVersion.digest == bytes.fromhex(digest))
    return _versions(same.order_by(ArtifactVersion.version_id))


def versions_with_file(project_id: int, sha256: str, limit: int) -> list[VersionRow]:
    """Return a project's versions that hold a file with these bytes, the earliest first."""
    lists = ManifestBlob.select(ManifestBlob.digest).where(ManifestBlob.sha256 == bytes.fromhex(sha256))
    holders = _select(Artifact.project_id == project_id, ArtifactVersion.digest.in_(lists))
    return _versions(holders.order_by(ArtifactVersion.version_id).limit(limit))


def digests_that_begin(project_id: int, beginning: str) -> list[str]:
    """Return up to three digests, of contents or of files, that begin so and stand in a project."""
    low = bytes.fromhex(beginning.ljust(64, "0"))
    high = bytes.fromhex(beginning.ljust(64, "f"))
    contents = (
        ArtifactVersion.select(ArtifactVersion.digest)
        .join(Artifact, on=Artifact.artifact_id == ArtifactVersion.artifact_id)
        .where(Artifact.project_id == project_id, ArtifactVersion.digest.between(low, high))
    )
    files = (
        ManifestBlob.select(ManifestBlob.sha256.alias("digest"))
        .join(ArtifactVersion, on=ArtifactVersion.digest == ManifestBlob.digest)
        .join(Artifact, on=Artifact.artifact_id == ArtifactVersion.artifact_id)
        .where(Artifact.project_id == project_id, ManifestBlob.sha256.between(low, high))
    )
    rows = [row for select in (contents, files) for row in named_rows(select.distinct().limit(3))]
    return list(dict.fromkeys(row.digest.hex() for row in rows))


def lock_versions(version_ids: Sequence[int]) -> None:
    """Hold versions against other writers until the transaction ends."""
    wanted = sorted(version_ids)
    if wanted:
        rows = ArtifactVersion.select(ArtifactVersion.version_id).where(ArtifactVersion.version_id.in_(wanted))
        lock_rows(rows.order_by(ArtifactVersion.version_id))


def set_binned(version_ids: Sequence[int], person_id: int | None, reason: str | None = None) -> None:
    """Put versions into the bin for a person, or with None take them out."""
    wanted = list(version_ids)
    moment = None if person_id is None else now()
    changes = ArtifactVersion.update(binned_at=moment, binned_by=person_id, bin_reason=reason)
    changes.where(ArtifactVersion.version_id.in_(wanted)).execute()


def binned_versions(project_id: int, limit: int) -> list[VersionRow]:
    """Return a project's versions in the bin that were not purged, the latest first."""
    binned = _select(
        Artifact.project_id == project_id,
        ArtifactVersion.binned_at.is_null(False),
        ArtifactVersion.purged_at.is_null(),
    )
    order = ArtifactVersion.binned_at.desc(), ArtifactVersion.version_id.desc()
    return _versions(binned.order_by(*order).limit(limit))


class Dependent(NamedTuple):
    """A registered version that rests on something: its project, and its reference there (`frost-alarm@3`)."""

    project_id: int
    reference: str


def models_on(version_ids: Sequence[int]) -> dict[int, list[Dependent]]:
    """Return the registered versions, of whichever project, that rest on each of these, themselves or their evidence.

    Versions on which none rests are left out.
    """
    wanted = list(version_ids)
    dependents: dict[int, list[Dependent]] = {}
    if not wanted:
        return dependents
    rested_on = (
        (EvidenceRecord, EvidenceRecord.rows_version),
        (ModelVersion, ModelVersion.version_id),
    )
    for table, column in rested_on:
        rows = (
            table.select(column.alias("version"), RegisteredModel.project_id, RegisteredModel.name, table.number)
            .join(RegisteredModel, on=RegisteredModel.model_id == table.model_id)
            .where(column.in_(wanted))
            .order_by(RegisteredModel.name, table.number)
        )
        for row in named_rows(rows):
            dependent = Dependent(row.project_id, f"{row.name}@{row.number}")
            known = dependents.setdefault(row.version, [])
            if dependent not in known:
                known.append(dependent)
    return dependents


def set_labels(version_id: int, labels: dict[str, str]) -> None:
    """Set a version's labels."""
    ArtifactVersion.update(labels=json.dumps(labels)).where(ArtifactVersion.version_id == version_id).execute()


def version_by_id(version_id: int) -> VersionRow:
    """Return a version that is known to exist."""
    return _versions(_select(ArtifactVersion.version_id == version_id))[0]


@dataclass(frozen=True)
class NewVersionRow:
    """A version to insert; `whereabouts` are its packed places; `imported_from`: words on where it came from."""

    number: int
    digest: str
    by_reference: bool
    address: str | None
    person_id: int
    about: dict[str, Any]
    labels: dict[str, str]
    whereabouts: bytes | None
    at: datetime | None = None
    imported_from: str | None = None


def add_version(
    artifact_id: int,
    new: NewVersionRow,
) -> int:
    """Insert a version and return its id."""
    return int(
        ArtifactVersion.insert(
            artifact_id=artifact_id,
            number=new.number,
            digest=bytes.fromhex(new.digest),
            by_reference=new.by_reference,
            address=new.address,
            created_by=new.person_id,
            created_at=new.at or now(),
            about=json.dumps(new.about),
            labels=json.dumps(new.labels),
            places=new.whereabouts,
            imported_from=new.imported_from,
            imported_at=None if new.imported_from is None else now(),
        ).execute()
    )
