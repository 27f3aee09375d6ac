"""What the database knows of stored bytes: which there are, who may see them, what is damaged or let go.

Guarantee: bytes stand under `blob_file` as long as any version that was not purged holds them; those that were let
go stand in `blob_release` until their file is gone, also where the process that let them go died.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import timedelta

from peewee import SQL, Expression, Function, ModelSelect, Node, fn

from kinetrum.storage.db.clock import now
from kinetrum.storage.db.database import insert_rows, lock_rows, named_rows, one_row
from kinetrum.storage.tables.data import Artifact, ArtifactVersion, BlobFile, BlobInProject, BlobRelease, ManifestBlob


def _parts(digests: Iterable[str], size: int = 1000) -> list[list[bytes]]:
    raw = sorted({bytes.fromhex(digest) for digest in digests})
    return [raw[start : start + size] for start in range(0, len(raw), size)]


def blobs_in_project(project_id: int, digests: Iterable[str], hold: bool = False) -> dict[str, int]:
    """Return those of the digests whose bytes are stored intact and may be seen in this project, with their sizes.

    With `hold` nobody can let go of them before the transaction ends.
    """
    sizes: dict[str, int] = {}
    for part in _parts(digests):
        rows = (
            BlobInProject.select(BlobInProject.sha256, BlobFile.size_bytes)
            .join(BlobFile, on=BlobFile.sha256 == BlobInProject.sha256)
            .where(
                BlobInProject.project_id == project_id,
                BlobFile.damaged == False,  # noqa: E712
                BlobInProject.sha256.in_(part),
            )
        )
        stored = lock_rows(rows, "LOCK IN SHARE MODE") if hold else named_rows(rows)
        sizes |= {row.sha256.hex(): row.size_bytes for row in stored}
    return sizes


def note_blobs(project_id: int, sizes: dict[str, int]) -> None:
    """Record that intact bytes arrived for a project; what was damaged or let go is whole again."""
    rows = sorted((bytes.fromhex(sha256), size) for sha256, size in sizes.items())
    moment = now()
    insert_rows(
        BlobFile,
        [BlobFile.sha256, BlobFile.size_bytes, BlobFile.damaged, BlobFile.created_at],
        [(raw, size, False, moment) for raw, size in rows],
        renew=[BlobFile.damaged],
    )
    holders = [BlobInProject.project_id, BlobInProject.sha256]
    insert_rows(BlobInProject, holders, [(project_id, raw) for raw, _ in rows], ignore=True)
    forget_released(sizes)


def mark_damaged(sha256: str, damaged: bool = True) -> None:
    """Record that stored bytes no longer match their digest, or do again."""
    BlobFile.update(damaged=damaged).where(BlobFile.sha256 == bytes.fromhex(sha256)).execute()


def known_among(digests: Iterable[str]) -> set[str]:
    """Return those of the digests whose bytes any project holds."""
    digests_found: set[str] = set()
    for part in _parts(digests):
        rows = BlobFile.select(BlobFile.sha256).where(BlobFile.sha256.in_(part))
        digests_found |= {row.sha256.hex() for row in named_rows(rows)}
    return digests_found


def known_blobs(after: str, limit: int) -> list[tuple[str, int, bool]]:
    """Return (digest, size, damaged) of stored bytes behind a digest, in order."""
    rows = BlobFile.select().where(BlobFile.sha256 > bytes.fromhex(after)).order_by(BlobFile.sha256).limit(limit)
    return [(row.sha256.hex(), row.size_bytes, bool(row.damaged)) for row in named_rows(rows)]


def count_blobs() -> tuple[int, int]:
    """Return how many files are stored and how many bytes they have."""
    return _counted(BlobFile.select(*_count_and_size()))


def _count_and_size() -> tuple[Node, Node]:
    return fn.COUNT(BlobFile.sha256).alias("files"), fn.COALESCE(fn.SUM(BlobFile.size_bytes), 0).alias("size")


def _counted(select: ModelSelect[BlobFile]) -> tuple[int, int]:
    row = one_row(select)
    return int(row.files), int(row.size)


def _held() -> Function:
    """Ask, in a query of what a project has, whether a version of that project that was not purged holds it."""
    return fn.EXISTS(
        ManifestBlob.select(SQL("1"))
        .join(ArtifactVersion, on=ArtifactVersion.digest == ManifestBlob.digest)
        .join(Artifact, on=Artifact.artifact_id == ArtifactVersion.artifact_id)
        .where(
            ManifestBlob.sha256 == BlobInProject.sha256,
            Artifact.project_id == BlobInProject.project_id,
            *_stored(ArtifactVersion),
        )
    )


def _stored(version: type[ArtifactVersion]) -> tuple[Expression, Expression]:
    return version.by_reference == False, version.purged_at.is_null()  # noqa: E712


def only_held_by(project_id: int, version_ids: Sequence[int]) -> tuple[int, int]:
    """Return (files, bytes) that purging these versions would free: what no other version of any project holds."""
    if not version_ids:
        return 0, 0
    chosen = list(version_ids)
    theirs = (
        ManifestBlob.select(ManifestBlob.sha256)
        .join(ArtifactVersion, on=ArtifactVersion.digest == ManifestBlob.digest)
        .where(ArtifactVersion.by_reference == False, ArtifactVersion.version_id.in_(chosen))  # noqa: E712
    )
    others = (
        ManifestBlob.select(SQL("1"))
        .join(ArtifactVersion, on=ArtifactVersion.digest == ManifestBlob.digest)
        .where(
            ManifestBlob.sha256 == BlobFile.sha256,
            *_stored(ArtifactVersion),
            ArtifactVersion.version_id.not_in(chosen),
        )
    )
    elsewhere = BlobInProject.select(SQL("1")).where(
        BlobInProject.sha256 == BlobFile.sha256, BlobInProject.project_id != project_id
    )
    return _counted(
        BlobFile.select(*_count_and_size()).where(
            BlobFile.sha256.in_(theirs), ~fn.EXISTS(others), ~fn.EXISTS(elsewhere)
        )
    )


def let_go(project_id: int, digests: Iterable[str]) -> int:
    """Let go of what no version of the project holds any more; returns the bytes that no project needs now.

    The rows are locked before it is asked who holds them, so that a version that is being made keeps its bytes.
    """
    freed = 0
    for part in _parts(digests):
        here = (BlobInProject.project_id == project_id) & BlobInProject.sha256.in_(part)
        lock_rows(BlobInProject.select(BlobInProject.sha256).where(here))
        BlobInProject.delete().where(here, ~_held()).execute()
        # Two statements: what is read together with a lock is as old as the beginning of the wait for it.
        lock_rows(BlobFile.select(BlobFile.sha256).where(BlobFile.sha256.in_(part)))
        needed = BlobInProject.select(SQL("1")).where(BlobInProject.sha256 == BlobFile.sha256)
        rows = named_rows(
            BlobFile.select(BlobFile.sha256, BlobFile.size_bytes).where(BlobFile.sha256.in_(part), ~fn.EXISTS(needed))
        )
        if not rows:
            continue
        moment = now()
        insert_rows(
            BlobRelease,
            [BlobRelease.sha256, BlobRelease.size_bytes, BlobRelease.released_at],
            [(row.sha256, row.size_bytes, moment) for row in rows],
            renew=[BlobRelease.released_at],
        )
        BlobFile.delete().where(BlobFile.sha256.in_([row.sha256 for row in rows])).execute()
        freed += sum(row.size_bytes for row in rows)
    return freed


def never_used(project_id: int | None, older_than_s: float, limit: int) -> list[tuple[int, str]]:
    """Return (project, digest) of bytes that arrived a while ago for a version that never came."""
    rows = (
        BlobInProject.select(BlobInProject.project_id, BlobInProject.sha256)
        .join(BlobFile, on=BlobFile.sha256 == BlobInProject.sha256)
        .where(BlobFile.created_at < now() - timedelta(seconds=older_than_s), ~_held())
        .limit(limit)
    )
    if project_id is not None:
        rows = rows.where(BlobInProject.project_id == project_id)
    return [(row.project_id, row.sha256.hex()) for row in named_rows(rows)]


def released(limit: int) -> list[str]:
    """Return digests whose files can go."""
    return [row.sha256.hex() for row in named_rows(BlobRelease.select(BlobRelease.sha256).limit(limit))]


def forget_released(digests: Iterable[str]) -> None:
    """Forget what was let go, once its file is gone."""
    for part in _parts(digests):
        BlobRelease.delete().where(BlobRelease.sha256.in_(part)).execute()
