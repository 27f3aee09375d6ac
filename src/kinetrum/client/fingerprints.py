"""Fingerprints of files: SHA-256 of all their bytes, remembered by path, size and last change.

No byte is ever left out. What was fingerprinted before and has the same size, last change and place on the disk is
not read again; a file that changed within the last two seconds is always read, since the clock of a file system may
be too coarse to tell a change right after it.
"""

from __future__ import annotations

import contextlib
import hashlib
import os
import sqlite3
import threading
import time
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path

from kinetrum.client.ticks import Tick
from kinetrum.places import fingerprints_file

_PIECE = 1024 * 1024
_FRESH_NS = 2_000_000_000
_SCHEMA = (
    "CREATE TABLE IF NOT EXISTS fingerprint (path BLOB PRIMARY KEY, size INTEGER, changed INTEGER, created INTEGER,"
    " place INTEGER, sha256 TEXT, seen INTEGER) WITHOUT ROWID"
)
ENTRIES_LIMIT = 2_000_000


@dataclass(frozen=True)
class Fingerprint:
    """A file's size in bytes, SHA-256 in hex and last change in nanoseconds since 1970."""

    size: int
    sha256: str
    modified_ns: int


def _state(found: os.stat_result) -> tuple[int, int, int, int]:
    return found.st_size, found.st_mtime_ns, found.st_ctime_ns, found.st_ino


def fingerprint(source: Path, tick: Tick | None = None) -> Fingerprint:
    """Read a file and return its fingerprint; `tick` is told the bytes that were read since its last call.

    Raises OSError where it cannot be read.
    """
    digest, size = hashlib.sha256(), 0
    with source.open("rb", buffering=0) as file:
        modified_ns = os.fstat(file.fileno()).st_mtime_ns
        while piece := file.read(_PIECE):
            digest.update(piece)
            size += len(piece)
            if tick:
                tick(len(piece))
    return Fingerprint(size, digest.hexdigest(), modified_ns)


class Fingerprints:
    """The memory of fingerprints, shared by all processes of a person; without it, or broken, everything is read."""

    def __init__(self, path: Path | None = None) -> None:
        self._lock = threading.Lock()
        self._base: sqlite3.Connection | None = None
        where = path or fingerprints_file()
        with contextlib.suppress(OSError, sqlite3.Error):
            where.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
            self._base = sqlite3.connect(where, timeout=5, check_same_thread=False, isolation_level=None)
            os.chmod(where, 0o600)
            self._base.execute("PRAGMA journal_mode=WAL")
            self._base.execute("PRAGMA synchronous=OFF")
            self._base.execute(_SCHEMA)

    def close(self) -> None:
        """Forget the oldest beyond the limit and close."""
        with contextlib.suppress(sqlite3.Error):
            if self._base is not None:
                ((count,),) = self._base.execute("SELECT COUNT(*) FROM fingerprint").fetchall()
                if count > ENTRIES_LIMIT:
                    self._base.execute(
                        "DELETE FROM fingerprint WHERE path IN (SELECT path FROM fingerprint ORDER BY seen LIMIT ?)",
                        (count - ENTRIES_LIMIT,),
                    )
                self._base.close()
        self._base = None

    def known(self, key: str, state: tuple[int, ...]) -> str | None:
        """Return the remembered SHA-256 of what had exactly this state under this key."""
        if self._base is None:
            return None
        try:
            with self._lock:
                row = self._base.execute(
                    "SELECT sha256 FROM fingerprint WHERE path = ? AND size = ? AND changed = ? AND created = ?"
                    " AND place = ?", (os.fsencode(key), *state),
                ).fetchone()  # fmt: skip
        except sqlite3.Error:
            return None
        return str(row[0]) if row else None

    def remember(self, found: Sequence[tuple[str, tuple[int, ...], str]]) -> None:
        """Remember (key, state, SHA-256)."""
        if self._base is None or not found:
            return
        moment = int(time.time())
        rows = [(os.fsencode(key), *state, sha256, moment) for key, state, sha256 in found]
        with contextlib.suppress(sqlite3.Error), self._lock:
            self._base.execute("BEGIN")
            self._base.executemany("INSERT OR REPLACE INTO fingerprint VALUES (?, ?, ?, ?, ?, ?, ?)", rows)
            self._base.execute("COMMIT")

    def all_of(self, sources: Sequence[Path], tick: Tick | None = None) -> list[Fingerprint]:
        """Return the fingerprints of files in their order, several read side by side.

        Raises OSError for the first that cannot be read.
        """
        with ThreadPoolExecutor(max_workers=min(8, os.cpu_count() or 2)) as pool:
            return list(pool.map(lambda source: self._one(source, tick), sources, chunksize=64))

    def _one(self, source: Path, tick: Tick | None) -> Fingerprint:
        before = os.stat(source)
        key, state = os.path.abspath(source), _state(before)
        settled = time.time_ns() - max(before.st_mtime_ns, before.st_ctime_ns) > _FRESH_NS
        if settled:
            sha256 = self.known(key, state)
            if sha256 is not None:
                if tick:
                    tick(before.st_size)
                return Fingerprint(before.st_size, sha256, before.st_mtime_ns)
        found = fingerprint(source, tick)
        if settled and _state(os.stat(source)) == state and found.size == before.st_size:
            self.remember([(key, state, found.sha256)])
        return found
