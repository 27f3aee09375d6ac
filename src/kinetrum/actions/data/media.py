"""Results to be seen: which of them runs kept, the items of a version, small pictures of its images."""

from __future__ import annotations

import json
import os
import secrets
import threading
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path

from kinetrum.actions.context import Actor, enter
from kinetrum.actions.data.artifact_versions import check_stored, stored_file
from kinetrum.actions.sandbox.runner import run_limited
from kinetrum.actions.search.references import find_version, runs_named
from kinetrum.core.base.errors import InvalidInput, KinetrumError, NotFound, TooLarge
from kinetrum.core.base.manifests import FileEntry
from kinetrum.core.media import ITEMS_FILE, KINDS, Item, items_of, kind_of, type_of
from kinetrum.core.media.items import ITEMS_BYTES, ITEMS_LIMIT
from kinetrum.storage.data import manifests
from kinetrum.storage.data.artifacts import VersionRow
from kinetrum.storage.data.blobs import BlobStore
from kinetrum.storage.db.database import snapshot
from kinetrum.storage.runs import plots, run_documents

RUNS_LIMIT, SIDE, AHEAD = 100, 320, 24
IMAGE_BYTES = 64 * 1024 * 1024
# Who asks for one small picture will ask for those beside it; they are made by one process.
_making = threading.Lock()


@dataclass(frozen=True)
class KeptStep:
    """At which step a run kept a result, and as which version where it is one of an artifact."""

    run: str
    step: int | None
    version: int | None = None
    activity: str | None = None


@dataclass
class KeptName:
    """A plot (its kind is a plot's) or a result of a kind of media, under its name, over runs."""

    name: str
    kind: str
    steps: list[KeptStep] = field(default_factory=list)


@dataclass(frozen=True)
class ShownItem:
    """An item with its file: size, digest and the type under which a browser shows it; `kind` None: not shown."""

    item: Item
    kind: str | None
    type: str | None
    size: int
    sha256: str


@dataclass(frozen=True)
class ShownVersion:
    """What a version shows; `note` says what is left out or could not be read."""

    version: VersionRow
    items: list[ShownItem]
    note: str


@snapshot
def kept_names(actor: Actor, project: str, references: Sequence[str]) -> tuple[list[KeptName], list[KeptName]]:
    """Return the names of the plots and of the media that runs kept, with the steps at which they did."""
    if not 1 <= len(references) <= RUNS_LIMIT:
        raise InvalidInput(f"{len(references)} runs were named; 1 to {RUNS_LIMIT} are looked at.", field="run")
    place = enter(actor, project)
    named = runs_named(place, list(references))
    by_id = {run.run_id: run.reference for run in named}
    drawn: dict[str, KeptName] = {}
    for row in plots.plots_of_runs(list(by_id)):
        drawn.setdefault(row.name, KeptName(row.name, row.kind)).steps.append(KeptStep(by_id[row.run_id], row.step))
    shown: dict[tuple[str, str], KeptName] = {}
    for run in named:
        for link in run_documents.load_doc(run.run_id).generated:
            if link.kind in KINDS:
                shown_name = shown.setdefault((link.name, link.kind), KeptName(link.name, link.kind))
                shown_name.steps.append(KeptStep(run.reference, link.step, link.version, link.activity))
    return sorted(drawn.values(), key=lambda media_name: media_name.name), sorted(
        shown.values(), key=lambda media_name: media_name.name
    )


def shown_items(actor: Actor, store: BlobStore, project: str, name: str, which: str) -> ShownVersion:
    """Return what a version shows: its images, sounds, videos, texts and tables, and what is said of them.

    Raises Conflict where its bytes were never here or are purged.
    """
    version, files = _stored(actor, project, name, which)
    by_path = {entry.path: entry for entry in files}
    items_text, note = None, ""
    if ITEMS_FILE in by_path:
        try:
            items_text = store.read(by_path[ITEMS_FILE].sha256, ITEMS_BYTES).decode("utf-8")
            items = items_of(list(by_path), items_text)
        except (KinetrumError, UnicodeDecodeError) as error:
            items_text, note = None, f"{ITEMS_FILE} cannot be read, its captions are missing: {error}"
    if items_text is None:
        items = items_of(list(by_path), None)
    if len(items) > ITEMS_LIMIT:
        note = f"{note} The first {ITEMS_LIMIT:,} of {len(items):,} items.".strip()
    return ShownVersion(version, [_shown(item, by_path[item.file]) for item in items[:ITEMS_LIMIT]], note)


@snapshot
def _stored(actor: Actor, project: str, name: str, which: str) -> tuple[VersionRow, tuple[FileEntry, ...]]:
    version = find_version(enter(actor, project), name, which)
    check_stored(version)
    return version, manifests.files_of_version(version.version_id, version.digest)


def _shown(item: Item, entry: FileEntry) -> ShownItem:
    return ShownItem(item, kind_of(item.file), type_of(item.file), entry.size, entry.sha256)


def thumbnail(actor: Actor, store: BlobStore, project: str, name: str, which: str, path: str) -> bytes:
    """Return a small picture (WebP) of an image of a version.

    Raises InvalidInput where the file is no image that can be read, TooLarge where it is larger than is tried.
    """
    _, entry = stored_file(actor, project, name, which, path)
    if kind_of(path) != "image":
        raise InvalidInput(f"{path} is not an image by its name.", field="path")
    if entry.size > IMAGE_BYTES:
        raise TooLarge(f"{path} has {entry.size:,} bytes; of images up to {IMAGE_BYTES:,} there are small pictures.")
    cached = _cached(store, entry.sha256)
    if not cached.is_file():
        with _making:
            if not cached.is_file():
                _, files = _stored(actor, project, name, which)
                _make(store, _beside(store, files, entry))
    made = cached.read_bytes() if cached.is_file() else b""
    if not made:
        raise InvalidInput(f"{path} is not an image that can be read.", field="path")
    return made


def _cached(store: BlobStore, sha256: str) -> Path:
    return store.thumbnail_path(sha256)


def _beside(store: BlobStore, files: Sequence[FileEntry], wanted: FileEntry) -> list[FileEntry]:
    """Return the image that is wanted and those that follow it and have no small picture yet."""
    images = [entry for entry in files if kind_of(entry.path) == "image" and entry.size <= IMAGE_BYTES // AHEAD]
    start = next((at for at, entry in enumerate(images) if entry.path == wanted.path), len(images))
    following = [entry for entry in images[start + 1 :] if not _cached(store, entry.sha256).is_file()]
    return [wanted, *following[: AHEAD - 1]]


def _make(store: BlobStore, entries: Sequence[FileEntry]) -> None:
    """Make small pictures in one process; where it breaks, the one that is wanted is made alone."""
    there = [entry for entry in entries if store.has(entry.sha256)]
    if not there or there[0] is not entries[0]:
        raise NotFound(f"The bytes of {entries[0].path} are missing in the store; ask its administrator to look.")
    made = run_limited("thumbnails", [store.path_of(entry.sha256) for entry in there], {"side": SIDE})
    if made is None and len(there) > 1:
        _make(store, there[:1])
        return
    sizes, _, pictures = (made or b"[null]\n").partition(b"\n")
    at = 0
    for entry, size in zip(there, json.loads(sizes), strict=True):
        _keep(_cached(store, entry.sha256), pictures[at : at + (size or 0)])
        at += size or 0


def _keep(path: Path, picture: bytes) -> None:
    """Keep a picture; an empty one says that there is none to be made."""
    path.parent.mkdir(parents=True, exist_ok=True)
    fresh = path.with_name(f"{path.name}.{secrets.token_hex(4)}")
    fresh.write_bytes(picture)
    os.replace(fresh, path)
