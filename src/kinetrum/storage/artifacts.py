"""Artifacts, their versions and manifests, and what runs used and generated."""

from __future__ import annotations

import json
from dataclasses import dataclass
from datetime import datetime

import zstandard

from kinetrum.core.manifests import FileEntry
from kinetrum.storage.clock import now
from kinetrum.storage.database import execute, insert_many, places, query
from kinetrum.storage.tables import Artifact, ArtifactVersion


@dataclass(frozen=True)
class ArtifactRow:
    """One artifact as stored."""

    artifact_id: int
    project_id: int
    name: str
    kind: str


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

    @property
    def reference(self) -> str:
        """`name@number`."""
        return f"{self.name}@{self.number}"


_VERSIONS = (
    "SELECT v.version_id, a.artifact_id, a.project_id, a.name, a.kind, v.number, LOWER(HEX(v.digest)), v.by_reference,"
    " v.address, v.created_by, v.created_at, m.file_count, m.size_bytes, EXISTS (SELECT 1 FROM manifest_blob mb"
    " JOIN blob_file b USING (sha256) WHERE mb.digest = v.digest AND b.damaged)"
    " FROM artifact_version v JOIN artifact a USING (artifact_id) JOIN manifest m ON m.digest = v.digest "
)


def _versions(rest: str, *values: object) -> list[VersionRow]:
    return [
        VersionRow(*(row[:7] + (bool(row[7]),) + row[8:13] + (bool(row[13]),)))
        for row in query(_VERSIONS + rest, *values)
    ]


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
    return ArtifactRow(found.artifact_id, found.project_id, found.name, found.kind) if found else None


def add_artifact(project_id: int, name: str, kind: str, person_id: int) -> None:
    """Insert an artifact unless it is there."""
    execute(
        "INSERT IGNORE INTO artifact (project_id, name, kind, created_by, created_at) VALUES (%s, %s, %s, %s, %s)",
        project_id, name, kind, person_id, now(),
    )  # fmt: skip


def artifacts_of(project_id: int) -> list[VersionRow]:
    """Return the newest version of every artifact of a project, by name."""
    return _versions(
        "WHERE a.project_id = %s AND v.number = (SELECT MAX(n.number) FROM artifact_version n"
        " WHERE n.artifact_id = a.artifact_id) ORDER BY a.name",
        project_id,
    )


def versions_of(artifact_id: int) -> list[VersionRow]:
    """Return an artifact's versions, the newest first."""
    return _versions("WHERE a.artifact_id = %s ORDER BY v.number DESC", artifact_id)


def version_numbered(artifact_id: int, number: int) -> VersionRow | None:
    """Return one version of an artifact."""
    found = _versions("WHERE a.artifact_id = %s AND v.number = %s", artifact_id, number)
    return found[0] if found else None


def newest_version(artifact_id: int) -> VersionRow | None:
    """Return the newest version of an artifact."""
    found = _versions("WHERE a.artifact_id = %s ORDER BY v.number DESC LIMIT 1", artifact_id)
    return found[0] if found else None


def version_by_id(version_id: int) -> VersionRow:
    """Return a version that is known to exist."""
    return _versions("WHERE v.version_id = %s", version_id)[0]


def add_version(
    artifact_id: int, number: int, digest: str, by_reference: bool, address: str | None, person_id: int
) -> int:
    """Insert a version and return its id."""
    return int(
        ArtifactVersion.insert(
            artifact_id=artifact_id, number=number, digest=bytes.fromhex(digest), by_reference=by_reference,
            address=address, created_by=person_id, created_at=now(),
        ).execute()
    )  # fmt: skip


def save_manifest(digest: str, files: tuple[FileEntry, ...], stored: bool) -> None:
    """Keep a manifest under its digest; `stored` says that its blobs are in the store."""
    doc = json.dumps([[entry.path, entry.size, entry.sha256] for entry in files], separators=(",", ":"))
    execute(
        "INSERT IGNORE INTO manifest (digest, file_count, size_bytes, doc) VALUES (%s, %s, %s, %s)",
        bytes.fromhex(digest), len(files), sum(entry.size for entry in files),
        zstandard.ZstdCompressor(level=3).compress(doc.encode()),
    )  # fmt: skip
    if stored:
        blobs = sorted({bytes.fromhex(entry.sha256) for entry in files})
        insert_many(
            "INSERT IGNORE INTO manifest_blob (digest, sha256)",
            [(bytes.fromhex(digest), blob) for blob in blobs],
        )


def load_manifest(digest: str) -> tuple[FileEntry, ...]:
    """Return the files of a manifest, by path."""
    ((raw,),) = query("SELECT doc FROM manifest WHERE digest = %s", bytes.fromhex(digest))
    return tuple(FileEntry(*entry) for entry in json.loads(zstandard.ZstdDecompressor().decompress(raw)))


def blobs_in_project(project_id: int, digests: list[str]) -> set[str]:
    """Return those of the digests whose bytes are stored intact and may be seen in this project."""
    found: set[str] = set()
    for start in range(0, len(digests), 1000):
        part = [bytes.fromhex(digest) for digest in digests[start : start + 1000]]
        found |= {
            sha for (sha,) in query(
                "SELECT LOWER(HEX(p.sha256)) FROM blob_in_project p JOIN blob_file b USING (sha256)"
                f" WHERE p.project_id = %s AND NOT b.damaged AND p.sha256 IN {places(part)}", project_id, *part)
        }  # fmt: skip
    return found


def note_blob(project_id: int, sha256: str, size: int) -> None:
    """Record that intact bytes arrived for a project; what was marked damaged is whole again."""
    raw = bytes.fromhex(sha256)
    execute(
        "INSERT INTO blob_file (sha256, size_bytes, damaged, created_at) VALUES (%s, %s, FALSE, %s)"
        " ON DUPLICATE KEY UPDATE damaged = FALSE",
        raw, size, now(),
    )  # fmt: skip
    execute("INSERT IGNORE INTO blob_in_project (project_id, sha256) VALUES (%s, %s)", project_id, raw)


def mark_damaged(sha256: str) -> None:
    """Record that stored bytes no longer match their digest."""
    execute("UPDATE blob_file SET damaged = TRUE WHERE sha256 = %s", bytes.fromhex(sha256))


def link(
    run_id: int, uid: bytes, version_id: int, relation: str, role: str | None, step: int | None, at: datetime,
    activity: str | None = None,
) -> bool:  # fmt: skip
    """Record that a run used or generated a version; tells whether that is new."""
    return bool(
        execute(
            "INSERT IGNORE INTO run_artifact (run_id, uid, version_id, relation, role, step, recorded_at, activity)"
            " VALUES (%s, %s, %s, %s, %s, %s, %s, %s)",
            run_id, uid, version_id, relation, role, step, at, activity,
        )
    )  # fmt: skip


def linked_version(run_id: int, uid: bytes) -> VersionRow | None:
    """Return the version that was linked to a run under this client-made id."""
    rows = query("SELECT version_id FROM run_artifact WHERE run_id = %s AND uid = %s", run_id, uid)
    return version_by_id(rows[0][0]) if rows else None


def runs_of_version(version_id: int) -> list[tuple[str, int, str]]:
    """Return (relation, run id, reference) of the runs that used or generated a version."""
    return query(
        "SELECT x.relation, r.run_id, CONCAT(e.name, '/', r.number) FROM run_artifact x JOIN run r USING (run_id)"
        " JOIN experiment e USING (experiment_id) WHERE x.version_id = %s ORDER BY r.run_id",
        version_id,
    )


def latest_of_run(run_id: int, name: str) -> int | None:
    """Return the id of the version of that name that the run generated last."""
    rows = query(
        "SELECT x.version_id FROM run_artifact x JOIN artifact_version v USING (version_id) JOIN artifact a"
        " USING (artifact_id) WHERE x.run_id = %s AND a.name = %s AND x.relation = 'generated'"
        " ORDER BY x.recorded_at DESC, v.number DESC LIMIT 1",
        run_id, name,
    )  # fmt: skip
    return int(rows[0][0]) if rows else None
