"""Artifacts and their versions."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from kinetrum.storage.db.clock import now
from kinetrum.storage.db.database import execute, named_rows, places, query
from kinetrum.storage.tables.data import Artifact, ArtifactVersion, ManifestBlob
from kinetrum.storage.tables.people import Project


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


_VERSIONS = (
    "SELECT v.version_id, a.artifact_id, a.project_id, a.name, a.kind, v.number, LOWER(HEX(v.digest)), v.by_reference,"
    " v.address, v.created_by, v.created_at, m.file_count, m.size_bytes, NOT v.by_reference AND EXISTS"
    " (SELECT 1 FROM manifest_blob mb JOIN blob_file b USING (sha256) WHERE mb.digest = v.digest AND b.damaged),"
    " v.about, v.labels, v.binned_at, v.binned_by, v.bin_reason, v.purged_at, v.imported_from"
    " FROM artifact_version v JOIN artifact a USING (artifact_id) JOIN manifest m ON m.digest = v.digest "
)


def _version(row: tuple[Any, ...]) -> VersionRow:
    fields = dict(zip(VersionRow.__dataclass_fields__, row, strict=True))
    fields |= {
        "by_reference": bool(row[7]),
        "damaged": bool(row[13]),
        "about": json.loads(row[14]),
        "labels": json.loads(row[15]),
    }
    return VersionRow(**fields)


def _versions(rest: str, *values: object) -> list[VersionRow]:
    return [_version(row) for row in query(_VERSIONS + rest, *values)]


def thing_of_name(project_id: int, name: str) -> str | None:
    """Return whether the name is taken by an 'artifact' or a 'model'."""
    rows = query("SELECT thing FROM thing_name WHERE project_id = %s AND name = %s", project_id, name)
    return rows[0][0] if rows else None


def claim_name(project_id: int, name: str, thing: str) -> bool:
    """Take a name for an artifact or model; tells whether it is now this thing's."""
    execute("INSERT IGNORE INTO thing_name (project_id, name, thing) VALUES (%s, %s, %s)", project_id, name, thing)
    return thing_of_name(project_id, name) == thing


def artifact_named(project_id: int, name: str, lock: bool = False) -> ArtifactRow | None:
    """Return the artifact of that name, locked until the transaction ends if asked."""
    chosen = Artifact.select().where((Artifact.project_id == project_id) & (Artifact.name == name))
    found = (chosen.for_update() if lock else chosen).first()
    if found is None:
        return None
    return ArtifactRow(
        found.artifact_id, found.project_id, found.name, found.kind, found.description, json.loads(found.labels)
    )


def describe_artifact(artifact_id: int, description: str, labels: dict[str, str]) -> None:
    """Set an artifact's description and labels."""
    execute(
        "UPDATE artifact SET description = %s, labels = %s WHERE artifact_id = %s",
        description,
        json.dumps(labels),
        artifact_id,
    )


def add_artifact(project_id: int, name: str, kind: str, person_id: int) -> None:
    """Insert an artifact unless it is there."""
    execute(
        "INSERT IGNORE INTO artifact (project_id, name, kind, created_by, created_at) VALUES (%s, %s, %s, %s, %s)",
        project_id,
        name,
        kind,
        person_id,
        now(),
    )


def artifacts_of(project_id: int) -> list[VersionRow]:
    """Return the newest version, of those not in the bin, of every artifact of a project, by name."""
    return _versions(
        "WHERE a.project_id = %s AND v.number = (SELECT MAX(n.number) FROM artifact_version n"
        " WHERE n.artifact_id = a.artifact_id AND n.binned_at IS NULL) ORDER BY a.name",
        project_id,
    )


def versions_of(artifact_id: int) -> list[VersionRow]:
    """Return an artifact's versions, the newest first, those in the bin and the purged ones too."""
    return _versions("WHERE a.artifact_id = %s ORDER BY v.number DESC", artifact_id)


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
    return _versions("WHERE a.project_id = %s", project_id)


def version_numbered(artifact_id: int, number: int) -> VersionRow | None:
    """Return one version of an artifact."""
    found = _versions("WHERE a.artifact_id = %s AND v.number = %s", artifact_id, number)
    return found[0] if found else None


def newest_version(artifact_id: int) -> VersionRow | None:
    """Return the newest version of an artifact that is not in the bin."""
    found = _versions("WHERE a.artifact_id = %s AND v.binned_at IS NULL ORDER BY v.number DESC LIMIT 1", artifact_id)
    return found[0] if found else None


def last_number(artifact_id: int) -> int:
    """Return the highest number that a version of the artifact ever had; 0 where there was none."""
    ((number,),) = query("SELECT COALESCE(MAX(number), 0) FROM artifact_version WHERE artifact_id = %s", artifact_id)
    return int(number)


def versions_by_ids(version_ids: Sequence[int]) -> list[VersionRow]:
    """Return versions by id, in no order."""
    wanted = list(version_ids)
    return _versions(f"WHERE v.version_id IN {places(wanted)}", *wanted) if wanted else []


def versions_of_digest(project_id: int, digest: str) -> list[VersionRow]:
    """Return a project's versions with this content, whatever their names, the earliest first."""
    return _versions(
        "WHERE a.project_id = %s AND v.digest = %s ORDER BY v.version_id", project_id, bytes.fromhex(digest)
    )


def versions_with_file(project_id: int, sha256: str, limit: int) -> list[VersionRow]:
    """Return a project's versions that hold a file with these bytes, the earliest first."""
    return _versions(
        "WHERE a.project_id = %s AND v.digest IN (SELECT digest FROM manifest_blob WHERE sha256 = %s)"
        " ORDER BY v.version_id LIMIT %s",
        project_id,
        bytes.fromhex(sha256),
        limit,
    )


def digests_that_begin(project_id: int, beginning: str) -> list[str]:
    """Return up to three digests, of contents or of files, that begin so and stand in a project."""
    low = bytes.fromhex(beginning.ljust(64, "0"))
    high = bytes.fromhex(beginning.ljust(64, "f"))
    rows = query(
        "(SELECT DISTINCT LOWER(HEX(v.digest)) FROM artifact_version v JOIN artifact a USING (artifact_id)"
        " WHERE a.project_id = %s AND v.digest BETWEEN %s AND %s LIMIT 3) UNION"
        " (SELECT DISTINCT LOWER(HEX(mb.sha256)) FROM manifest_blob mb JOIN artifact_version v USING (digest)"
        " JOIN artifact a USING (artifact_id) WHERE mb.sha256 BETWEEN %s AND %s AND a.project_id = %s LIMIT 3)",
        project_id,
        low,
        high,
        low,
        high,
        project_id,
    )
    return [digest for (digest,) in rows]


def lock_versions(version_ids: Sequence[int]) -> None:
    """Hold versions against other writers until the transaction ends."""
    wanted = sorted(version_ids)
    if wanted:
        query(
            f"SELECT version_id FROM artifact_version WHERE version_id IN {places(wanted)}"
            " ORDER BY version_id FOR UPDATE",
            *wanted,
        )


def set_binned(version_ids: Sequence[int], person_id: int | None, reason: str | None = None) -> None:
    """Put versions into the bin for a person, or with None take them out."""
    wanted = list(version_ids)
    moment = None if person_id is None else now()
    execute(
        f"UPDATE artifact_version SET binned_at = %s, binned_by = %s, bin_reason = %s WHERE version_id IN"
        f" {places(wanted)}",
        moment,
        person_id,
        reason,
        *wanted,
    )


def binned_versions(project_id: int, limit: int) -> list[VersionRow]:
    """Return a project's versions in the bin that were not purged, the latest first."""
    return _versions(
        "WHERE a.project_id = %s AND v.binned_at IS NOT NULL AND v.purged_at IS NULL"
        " ORDER BY v.binned_at DESC, v.version_id DESC LIMIT %s",
        project_id,
        limit,
    )


def models_on(version_ids: Sequence[int]) -> dict[int, str]:
    """Return the registered version (`frost-alarm@3`) that rests on each of these, itself or its evidence."""
    wanted = list(version_ids)
    if not wanted:
        return {}
    return {
        version_id: reference
        for version_id, reference in query(
            "SELECT e.rows_version, CONCAT(m.name, '@', e.number) FROM evidence e JOIN model m USING (model_id)"
            f" WHERE e.rows_version IN {places(wanted)} UNION ALL"
            " SELECT mv.version_id, CONCAT(m.name, '@', mv.number) FROM model_version mv JOIN model m USING (model_id)"
            f" WHERE mv.version_id IN {places(wanted)}",
            *wanted,
            *wanted,
        )
    }


def set_labels(version_id: int, labels: dict[str, str]) -> None:
    """Set a version's labels."""
    execute("UPDATE artifact_version SET labels = %s WHERE version_id = %s", json.dumps(labels), version_id)


def version_by_id(version_id: int) -> VersionRow:
    """Return a version that is known to exist."""
    return _versions("WHERE v.version_id = %s", version_id)[0]


def add_version(
    artifact_id: int,
    number: int,
    digest: str,
    by_reference: bool,
    address: str | None,
    person_id: int,
    about: dict[str, Any],
    labels: dict[str, str],
    whereabouts: bytes | None,
    at: datetime | None = None,
    imported_from: str | None = None,
) -> int:
    """Insert a version and return its id."""
    return int(
        ArtifactVersion.insert(
            artifact_id=artifact_id,
            number=number,
            digest=bytes.fromhex(digest),
            by_reference=by_reference,
            address=address,
            created_by=person_id,
            created_at=at or now(),
            about=json.dumps(about),
            labels=json.dumps(labels),
            places=whereabouts,
            imported_from=imported_from,
            imported_at=None if imported_from is None else now(),
        ).execute()
    )
