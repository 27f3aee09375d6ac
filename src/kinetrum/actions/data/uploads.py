"""Bytes on their way in: which are missing, how far an upload came, and noting what is in place."""

from __future__ import annotations

import json
from collections.abc import Sequence
from pathlib import Path

from kinetrum.actions.context import Actor, enter
from kinetrum.actions.people import quotas
from kinetrum.actions.sandbox.runner import run_limited
from kinetrum.core.base.errors import InvalidInput
from kinetrum.core.base.manifests import check_sha256
from kinetrum.core.base.permissions import Act
from kinetrum.storage.data import blob_rows
from kinetrum.storage.data.blobs import BlobStore, Incoming
from kinetrum.storage.db.database import transaction

TOGETHER_LIMIT = 2_000
# What arrived for a version that never came is let go after this time; a partial upload too.
UNUSED_S = 2 * 86_400.0


@transaction
def may_upload(actor: Actor, project: str, sha256: str | None = None) -> int:
    """Check that the actor may send bytes; returns the project's id."""
    if sha256 is not None:
        check_sha256(sha256)
    return enter(actor, project, Act.RECORD).project_id


@transaction
def missing_blobs(actor: Actor, project: str, digests: list[str]) -> list[str]:
    """Return those of the digests that have to be sent; what other projects hold counts as missing."""
    place = enter(actor, project, Act.RECORD)
    wanted = [check_sha256(digest) for digest in digests]
    there = blob_rows.blobs_in_project(place.project_id, wanted)
    return [digest for digest in wanted if digest not in there]


def offset_of(actor: Actor, store: BlobStore, project: str, sha256: str) -> tuple[int, bool]:
    """Return how many bytes have arrived, and whether that is all of them."""
    project_id = may_upload(actor, project, sha256)
    if not missing_blobs(actor, project, [sha256]) and store.has(sha256):
        return store.path_of(sha256).stat().st_size, True
    return store.partial_size(str(project_id), sha256), False


def receive(store: BlobStore, sha256: str | None) -> Incoming:
    """Open the way in for bytes whose upload `may_upload` permitted; None where their digest is not known yet."""
    return store.receive(sha256)


def go_on(store: BlobStore, project_id: int, sha256: str, offset: int) -> Incoming:
    """Go on with an upload that `may_upload` permitted."""
    return store.go_on(str(project_id), sha256, offset)


def keep(store: BlobStore, project_id: int, incoming: Incoming) -> tuple[str, int]:
    """Verify what arrived, put it in place and note it; returns digest and size."""
    with store.putting():
        size = incoming.finish()
        sha256 = incoming.sha256 or ""
        _note(project_id, {sha256: size})
    return sha256, size


def unpack(path: Path) -> list[tuple[str, bytes]]:
    """Return the files of a tar archive by their names; raises InvalidInput for what is none of ordinary files."""
    answer = run_limited("tar", [path], {"most": TOGETHER_LIMIT})
    if answer is None:
        raise InvalidInput("The archive cannot be read within bounds of time and memory.", field="body")
    contents = []
    with path.open("rb") as file:
        for name, at, size in json.loads(answer):
            file.seek(at)
            content = file.read(size)
            if len(content) != size:
                raise InvalidInput(f"The archive ends within {name[:80]!r}.", field="body")
            contents.append((check_sha256(name), content))
    return contents


def keep_many(store: BlobStore, project_id: int, contents: Sequence[tuple[str, bytes]]) -> int:
    """Keep many small files at once, all or none; returns how many."""
    if len(contents) > TOGETHER_LIMIT:
        raise InvalidInput(f"{len(contents)} files came together; at most {TOGETHER_LIMIT} are taken.", field="body")
    for sha256, _ in contents:
        check_sha256(sha256)
    with store.putting():
        sizes = store.put_all(contents)
        _note(project_id, sizes)
    return len(sizes)


@transaction
def _note(project_id: int, sizes: dict[str, int]) -> None:
    blob_rows.note_blobs(project_id, sizes)
    quotas.check_stored(project_id)


def sweep(store: BlobStore, now_s: float) -> None:
    """Let go of uploads that nobody goes on with, of bytes that no version came for, and of released files."""
    store.sweep(UNUSED_S, now_s)
    let_go_of_unused(None, UNUSED_S)
    remove_released(store)


@transaction
def let_go_of_unused(project_id: int | None, older_than_s: float) -> int:
    """Let go of bytes that arrived a while ago for a version that never came; returns bytes that nothing needs."""
    by_project: dict[int, list[str]] = {}
    for unused, sha256 in blob_rows.never_used(project_id, older_than_s, 10_000):
        by_project.setdefault(unused, []).append(sha256)
    return sum(blob_rows.let_go(unused, digests) for unused, digests in by_project.items())


def remove_released(store: BlobStore) -> int:
    """Remove the files of what was let go; returns the bytes freed. Cut off at any moment, the next one goes on."""
    freed = 0
    while digests := _released():
        freed += store.remove(digests, known_among)
        _forget(digests)
    return freed


@transaction
def _released() -> list[str]:
    return blob_rows.released(1_000)


@transaction
def known_among(digests: Sequence[str]) -> set[str]:
    """Return those of the digests whose bytes any project holds."""
    return blob_rows.known_among(digests)


@transaction
def _forget(digests: list[str]) -> None:
    blob_rows.forget_released(digests)
