"""Previews of stored files: small ones verified first, large ones from their beginning, strange forms apart."""

from __future__ import annotations

import json
from typing import Any

from kinetrum.actions.context import Actor
from kinetrum.actions.data.artifact_versions import stored_file
from kinetrum.actions.sandbox.runner import run_limited
from kinetrum.core.base.errors import Damaged, NotFound
from kinetrum.core.base.manifests import FileEntry
from kinetrum.core.preview import FORMS_APART, HEAD_BYTES, Preview, form_of, preview_head
from kinetrum.storage.data.blobs import BlobStore

VERIFIED_UP_TO = 256 * 1024 * 1024


def preview_file(actor: Actor, store: BlobStore, project: str, name: str, which: str, path: str) -> Preview:
    """Show what is in a stored file, as far as that can be told.

    Raises Damaged where the stored bytes changed, Conflict where they were never here or are purged.
    """
    _, entry = stored_file(actor, project, name, which, path)
    if not store.has(entry.sha256):
        raise NotFound(f"The bytes of {path} are missing in the store; ask its administrator to look.")
    if entry.size <= VERIFIED_UP_TO and not store.is_intact(entry.sha256):
        raise Damaged(f"The stored bytes of {path} changed on disk; they are not shown.")
    with store.path_of(entry.sha256).open("rb") as file:
        head = file.read(HEAD_BYTES)
    form = form_of(path, head)
    if form in FORMS_APART:
        return _apart(store, entry, form)
    return preview_head(path, head, entry.size)


def _apart(store: BlobStore, entry: FileEntry, form: str) -> Preview:
    """Read it in a process with bounded memory, time and no way to write; what goes wrong there is told."""
    answer = run_limited("preview", [store.path_of(entry.sha256)], {"form": form})
    if answer is None:
        return Preview("bytes", note=f"It takes too much memory or time to be read as {form}.")
    preview: dict[str, Any] = json.loads(answer)
    preview["rows"] = tuple(tuple(row) for row in preview["rows"])
    preview["columns"] = tuple(preview["columns"])
    preview["facts"] = tuple((name, value) for name, value in preview["facts"])
    return Preview(**preview)
