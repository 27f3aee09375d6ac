"""Checking the store: every stored file is read; what is damaged, missing or orphaned is named, and repaired."""

from __future__ import annotations

import time
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Literal

from kinetrum.actions.context import Actor
from kinetrum.actions.data.uploads import known_among
from kinetrum.core.access.scopes import Scope
from kinetrum.core.base.errors import NotAllowed, NotFound
from kinetrum.core.base.manifests import check_sha256
from kinetrum.storage.data import artifacts, blob_rows
from kinetrum.storage.data.blobs import BlobStore, Incoming
from kinetrum.storage.db.database import snapshot, transaction
from kinetrum.storage.people import journal

_AT_ONCE, _HOLDERS = 500, 50
# A file that has just been put in place may still have to be noted.
_YOUNG_S = 60.0
State = Literal["damaged", "missing", "orphaned", "whole again"]


@dataclass(frozen=True)
class StoreFault:
    """What is wrong with one stored file, and which versions (`project/nights@3`) hold it."""

    sha256: str
    state: State
    size_bytes: int
    held_by: list[str]


@dataclass(frozen=True)
class Progress:
    """How far the check is."""

    files: int
    of_files: int
    size_bytes: int
    of_bytes: int


def _check_admin(actor: Actor) -> None:
    if not actor.is_admin:
        raise NotAllowed("The store is checked and repaired by administrators of the instance.")
    actor.require_scope(Scope.ADMINISTER)


def check_store(actor: Actor, store: BlobStore, remove_orphans: bool = False) -> Iterator[StoreFault | Progress]:
    """Read every stored file and yield faults as they are found, and how far the check is.

    Damaged and missing files are marked, so that everybody sees it; orphans (files that nothing knows) are removed
    where that is asked for.
    """
    _check_admin(actor)
    return _check(store, remove_orphans)


def _check(store: BlobStore, remove_orphans: bool) -> Iterator[StoreFault | Progress]:
    of_files, of_bytes = _count()
    files = size = 0
    after = "0" * 64
    last = time.monotonic()
    while known := _known(after):
        for sha256, length, marked in known:
            after = sha256
            fault = _look(store, sha256, length, marked)
            if fault:
                yield fault
            files, size = files + 1, size + length
            if time.monotonic() - last > 0.5:
                last = time.monotonic()
                yield Progress(files, of_files, size, of_bytes)
    for sha256 in store.all_digests():
        path = store.path_of(sha256)
        if known_among([sha256]) or not path.is_file() or time.time() - path.stat().st_mtime < _YOUNG_S:
            continue
        yield StoreFault(sha256, "orphaned", path.stat().st_size, [])
        if remove_orphans:
            store.remove([sha256], known_among)
    yield Progress(files, of_files, size, of_bytes)


def _look(store: BlobStore, sha256: str, length: int, marked: bool) -> StoreFault | None:
    try:
        state: State | None = None if store.is_intact(sha256) else "damaged"
    except (NotFound, OSError):
        # Purged since the list was read, or gone from the disk.
        state = "missing" if known_among([sha256]) else None
    if state is None:
        if not marked:
            return None
        state = "whole again"
    _mark(sha256, state != "whole again")
    return StoreFault(sha256, state, length, _holders(sha256))


@transaction
def _count() -> tuple[int, int]:
    return blob_rows.count_blobs()


@transaction
def _known(after: str) -> list[tuple[str, int, bool]]:
    return blob_rows.known_blobs(after, _AT_ONCE)


@transaction
def _mark(sha256: str, damaged: bool) -> None:
    blob_rows.mark_damaged(sha256, damaged)


@snapshot
def _holders(sha256: str) -> list[str]:
    return artifacts.holders_of(sha256, _HOLDERS)


def begin_repair(actor: Actor, store: BlobStore, sha256: str) -> Incoming:
    """Open the way in for a copy of bytes that are damaged or missing. Raises NotFound for what nothing holds."""
    _check_admin(actor)
    if not known_among([check_sha256(sha256)]):
        raise NotFound(f"Nothing here holds sha256:{sha256[:16]}…, so there is nothing to repair.", field="sha256")
    return store.receive(sha256)


def finish_repair(actor: Actor, store: BlobStore, incoming: Incoming) -> int:
    """Put a verified copy in place of what was damaged or missing; returns its size."""
    with store.putting():
        size = incoming.finish()
        _repaired(actor, incoming.sha256 or "")
    return size


@transaction
def _repaired(actor: Actor, sha256: str) -> None:
    blob_rows.mark_damaged(sha256, False)
    journal.append(None, actor.person_id, "repaired", f"sha256:{sha256}", source=actor.source)
