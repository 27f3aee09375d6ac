"""The chain of the journal: each entry's digest is over the entry and the digest before it.

Whoever removes or alters an entry has to make every later digest anew, which whoever kept one of them elsewhere sees.
The digest is SHA-256 over the digest before and the entry as JSON with sorted keys (RFC 8785 for
what entries hold: texts, whole numbers and null).
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterable
from dataclasses import asdict, dataclass

BEGINNING = bytes(32)


@dataclass(frozen=True)
class ChainedEntry:
    """What an entry's digest is over; `at` in microseconds since 1970, `before` and `after` as they are stored."""

    entry: int
    project: int | None
    person: int | None
    at: int
    act: str
    subject: str
    before: str | None
    after: str | None
    comment: str
    origin: str
    token: str


def next_digest(previous: bytes, entry: ChainedEntry) -> bytes:
    """Return the digest of an entry that comes after the one with the previous digest."""
    written = json.dumps(asdict(entry), sort_keys=True, ensure_ascii=False, separators=(",", ":"))
    return hashlib.sha256(previous + written.encode()).digest()


@dataclass(frozen=True)
class Fault:
    """Where the chain breaks: at which position and entry, and why."""

    position: int
    entry: int
    why: str


def first_fault(links: Iterable[tuple[int, int, bytes, ChainedEntry | None]]) -> Fault | None:
    """Return the first place where a chain breaks, None where it is whole.

    Parameters
    ----------
    links:
        In order of position: the position, the entry's number, its digest as kept, and the entry; None where it is
        gone.
    """
    previous, expected = BEGINNING, 1
    for position, number, digest, entry in links:
        if position != expected:
            return Fault(expected, number, "a digest was removed before this entry")
        if entry is None:
            return Fault(position, number, "the entry was removed")
        if next_digest(previous, entry) != digest:
            return Fault(position, number, "the entry, or one before it, was altered")
        previous, expected = digest, expected + 1
    return None
