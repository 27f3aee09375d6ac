"""What the database knows of stored bytes: which there are, who may see them, what is damaged or let go.

Guarantee: bytes stand under `blob_file` as long as any version that was not purged holds them; those that were let
go stand in `blob_release` until their file is gone, also where the process that let them go died.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import timedelta

from kinetrum.storage.db.clock import now
from kinetrum.storage.db.database import execute, insert_many, places, query


def _parts(digests: Iterable[str], size: int = 1000) -> list[list[bytes]]:
    raw = sorted({bytes.fromhex(digest) for digest in digests})
    return [raw[start : start + size] for start in range(0, len(raw), size)]


def blobs_in_project(project_id: int, digests: Iterable[str], hold: bool = False) -> set[str]:
    """Return those of the digests whose bytes are stored intact and may be seen in this project.

    With `hold` nobody can let go of them before the transaction ends.
    """
    found: set[str] = set()
    for part in _parts(digests):
        found |= {
            sha
            for (sha,) in query(
                "SELECT LOWER(HEX(p.sha256)) FROM blob_in_project p JOIN blob_file b USING (sha256)"
                f" WHERE p.project_id = %s AND NOT b.damaged AND p.sha256 IN {places(part)}"
                + (" LOCK IN SHARE MODE" if hold else ""),
                project_id,
                *part,
            )
        }
    return found


def note_blobs(project_id: int, sizes: dict[str, int]) -> None:
    """Record that intact bytes arrived for a project; what was damaged or let go is whole again."""
    rows = sorted((bytes.fromhex(sha256), size) for sha256, size in sizes.items())
    moment = now()
    insert_many(
        "INSERT INTO blob_file (sha256, size_bytes, damaged, created_at)",
        [(raw, size, False, moment) for raw, size in rows],
        "ON DUPLICATE KEY UPDATE damaged = FALSE",
    )
    insert_many("INSERT IGNORE INTO blob_in_project (project_id, sha256)", [(project_id, raw) for raw, _ in rows])
    for part in _parts(sizes):
        execute(f"DELETE FROM blob_release WHERE sha256 IN {places(part)}", *part)


def mark_damaged(sha256: str, damaged: bool = True) -> None:
    """Record that stored bytes no longer match their digest, or do again."""
    execute("UPDATE blob_file SET damaged = %s WHERE sha256 = %s", damaged, bytes.fromhex(sha256))


def known_among(digests: Iterable[str]) -> set[str]:
    """Return those of the digests whose bytes any project holds."""
    found: set[str] = set()
    for part in _parts(digests):
        rows = query(f"SELECT LOWER(HEX(sha256)) FROM blob_file WHERE sha256 IN {places(part)}", *part)
        found |= {sha256 for (sha256,) in rows}
    return found


def known_blobs(after: str, limit: int) -> list[tuple[str, int, bool]]:
    """Return (digest, size, damaged) of stored bytes behind a digest, in order."""
    return [
        (sha256, int(size), bool(damaged))
        for sha256, size, damaged in query(
            "SELECT LOWER(HEX(sha256)), size_bytes, damaged FROM blob_file WHERE sha256 > %s ORDER BY sha256 LIMIT %s",
            bytes.fromhex(after),
            limit,
        )
    ]


def count_blobs() -> tuple[int, int]:
    """Return how many files are stored and how many bytes they have."""
    ((count, size),) = query("SELECT COUNT(*), COALESCE(SUM(size_bytes), 0) FROM blob_file")
    return int(count), int(size)


_HELD = (
    "SELECT 1 FROM manifest_blob mb JOIN artifact_version v USING (digest) JOIN artifact a USING (artifact_id)"
    " WHERE mb.sha256 = p.sha256 AND a.project_id = p.project_id AND NOT v.by_reference AND v.purged_at IS NULL"
)


def only_held_by(project_id: int, version_ids: Sequence[int]) -> tuple[int, int]:
    """Return (files, bytes) that purging these versions would free: what no other version of any project holds."""
    if not version_ids:
        return 0, 0
    chosen = list(version_ids)
    ((count, size),) = query(
        "SELECT COUNT(*), COALESCE(SUM(b.size_bytes), 0) FROM blob_file b WHERE b.sha256 IN (SELECT mb.sha256 FROM"
        " manifest_blob mb JOIN artifact_version v USING (digest) WHERE NOT v.by_reference AND v.version_id IN"
        f" {places(chosen)}) AND NOT EXISTS (SELECT 1 FROM manifest_blob o JOIN artifact_version w USING (digest)"
        " WHERE o.sha256 = b.sha256 AND NOT w.by_reference AND w.purged_at IS NULL AND w.version_id NOT IN"
        f" {places(chosen)}) AND NOT EXISTS (SELECT 1 FROM blob_in_project p WHERE p.sha256 = b.sha256"
        " AND p.project_id <> %s)",
        *chosen,
        *chosen,
        project_id,
    )
    return int(count), int(size)


def let_go(project_id: int, digests: Iterable[str]) -> int:
    """Let go of what no version of the project holds any more; returns the bytes that no project needs now.

    The rows are locked before it is asked who holds them, so that a version that is being made keeps its bytes.
    """
    freed = 0
    for part in _parts(digests):
        query(
            f"SELECT sha256 FROM blob_in_project WHERE project_id = %s AND sha256 IN {places(part)} FOR UPDATE",
            project_id,
            *part,
        )
        execute(
            f"DELETE p FROM blob_in_project p WHERE p.project_id = %s AND p.sha256 IN {places(part)}"
            f" AND NOT EXISTS ({_HELD})",
            project_id,
            *part,
        )
        # Two statements: what is read together with a lock is as old as the beginning of the wait for it.
        query(f"SELECT sha256 FROM blob_file WHERE sha256 IN {places(part)} FOR UPDATE", *part)
        rows = query(
            f"SELECT b.sha256, b.size_bytes FROM blob_file b WHERE b.sha256 IN {places(part)}"
            " AND NOT EXISTS (SELECT 1 FROM blob_in_project p WHERE p.sha256 = b.sha256)",
            *part,
        )
        if not rows:
            continue
        moment = now()
        insert_many(
            "INSERT INTO blob_release (sha256, size_bytes, released_at)",
            [(*row, moment) for row in rows],
            "ON DUPLICATE KEY UPDATE released_at = VALUES(released_at)",
        )
        gone = [row[0] for row in rows]
        execute(f"DELETE FROM blob_file WHERE sha256 IN {places(gone)}", *gone)
        freed += sum(int(row[1]) for row in rows)
    return freed


def never_used(project_id: int | None, older_than_s: float, limit: int) -> list[tuple[int, str]]:
    """Return (project, digest) of bytes that arrived a while ago for a version that never came."""
    rows = query(
        "SELECT p.project_id, LOWER(HEX(p.sha256)) FROM blob_in_project p JOIN blob_file b USING (sha256)"
        f" WHERE b.created_at < %s AND NOT EXISTS ({_HELD})"
        + (" AND p.project_id = %s" if project_id is not None else "")
        + " LIMIT %s",
        now() - timedelta(seconds=older_than_s),
        *([project_id] if project_id is not None else []),
        limit,
    )
    return [(int(project), sha256) for project, sha256 in rows]


def released(limit: int) -> list[str]:
    """Return digests whose files can go."""
    return [sha for (sha,) in query("SELECT LOWER(HEX(sha256)) FROM blob_release LIMIT %s", limit)]


def forget_released(digests: Iterable[str]) -> None:
    """Forget what was let go, once its file is gone."""
    for part in _parts(digests):
        execute(f"DELETE FROM blob_release WHERE sha256 IN {places(part)}", *part)
