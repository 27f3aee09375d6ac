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

from kinetrum.client.transport.progress import Tick
from kinetrum.places import fingerprints_file, make_private_folder

_PIECE = 1024 * 1024
_FRESH_NS = 2_000_000_000
# Little enough that threads share the work evenly, enough that remembering costs little.
_TOGETHER_FILES, _TOGETHER_BYTES = 64, 4 * 1024 * 1024
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


def _state(status: os.stat_result) -> tuple[int, int, int, int]:
    return status.st_size, status.st_mtime_ns, status.st_ctime_ns, status.st_ino


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
            make_private_folder(str(where.parent))
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
                    " AND place = ?",
                    (os.fsencode(key), *state),
                ).fetchone()
        except sqlite3.Error:
            return None
        return str(row[0]) if row else None

    def remember(self, entries: Sequence[tuple[str, tuple[int, ...], str]]) -> None:
        """Remember (key, state, SHA-256)."""
        if self._base is None or not entries:
            return
        moment = int(time.time())
        rows = [(os.fsencode(key), *state, sha256, moment) for key, state, sha256 in entries]
        with contextlib.suppress(sqlite3.Error), self._lock:
            self._base.execute("BEGIN")
            self._base.executemany("INSERT OR REPLACE INTO fingerprint VALUES (?, ?, ?, ?, ?, ?, ?)", rows)
            self._base.execute("COMMIT")

    def all_of(self, sources: Sequence[Path], tick: Tick | None = None) -> list[Fingerprint]:
        """Return the fingerprints of files in their order, several read side by side.

        Raises OSError for the first that cannot be read.
        """
        states = [self._remembered(source, tick) for source in sources]
        parts = _parts(sources, [at for at, known in enumerate(states) if known is None])
        with ThreadPoolExecutor(max_workers=min(8, os.cpu_count() or 2)) as pool:
            made = pool.map(lambda part: self._read([sources[at] for at in part], tick), parts)
            for part, prints in zip(parts, made, strict=True):
                for at, known in zip(part, prints, strict=True):
                    states[at] = known
        return [known for known in states if known is not None]

    def _remembered(self, source: Path, tick: Tick | None) -> Fingerprint | None:
        now = os.stat(source)
        sha256 = self.known(os.path.abspath(source), _state(now)) if _settled(now) else None
        if sha256 is None:
            return None
        if tick:
            tick(now.st_size)
        return Fingerprint(now.st_size, sha256, now.st_mtime_ns)

    def _read(self, sources: Sequence[Path], tick: Tick | None) -> list[Fingerprint]:
        """Read files one after the other and remember together those that were left alone meanwhile."""
        states, learned = [], []
        for source in sources:
            before = os.stat(source)
            known = fingerprint(source, tick)
            states.append(known)
            if _settled(before) and _state(os.stat(source)) == _state(before) and known.size == before.st_size:
                learned.append((os.path.abspath(source), _state(before), known.sha256))
        self.remember(learned)
        return states


def _parts(sources: Sequence[Path], unread: Sequence[int]) -> list[list[int]]:
    """Put small files together; a large one is a part of its own."""
    parts: list[list[int]] = []
    size = _TOGETHER_BYTES
    for at in unread:
        if size >= _TOGETHER_BYTES or len(parts[-1]) >= _TOGETHER_FILES:
            parts.append([])
            size = 0
        parts[-1].append(at)
        size += os.stat(sources[at]).st_size
    return parts


def _settled(status: os.stat_result) -> bool:
    return time.time_ns() - max(status.st_mtime_ns, status.st_ctime_ns) > _FRESH_NS
