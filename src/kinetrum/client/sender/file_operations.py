"""Delivering inputs and outputs: fingerprints, uploads, and then the record that names them."""

from __future__ import annotations

import json
import shutil
from pathlib import Path
from typing import Any

from kinetrum.client.sender.fingerprints import Fingerprints
from kinetrum.client.sender.remote_files import forget_elsewhere, found_elsewhere
from kinetrum.client.sender.uploads import upload_missing
from kinetrum.client.transport.http import Service
from kinetrum.client.transport.progress import Tick
from kinetrum.core.base import errors
from kinetrum.core.base.values import JsonObject

ELSEWHERE_PATIENCE_S = 30.0
_SAID = ("role", "step", "activity", "keep", "about", "labels")


class NotReadYet(errors.Unavailable):
    """Files elsewhere are still being read; the record waits without holding up others."""


def body_of(data: dict[str, object], files: list[dict[str, object]], by_reference: bool) -> dict[str, object]:
    """Return what is sent to make the version and its link."""
    optional = {field: data[field] for field in _SAID if data.get(field) is not None}
    body = {field: data[field] for field in ("id", "at", "name", "kind")} | optional | {"files": files}
    if data.get("named") is False:
        body |= {"named": False}
    if by_reference:
        body |= {"by_reference": True, "address": data["address"]}
    return body


def listed(data: JsonObject, folder: Path) -> list[Any]:
    """Return a record's list of files, which may lie in a file of its own."""
    if isinstance(data["files"], str):
        files: list[Any] = json.loads((folder / data["files"]).read_text())
        return files
    return list(data["files"])


def fingerprint_used(
    data: JsonObject, folder: Path, memory: Fingerprints, tick: Tick | None
) -> tuple[list[dict[str, object]], list[str]]:
    """Return an input's files with their fingerprints, and the paths of those that changed since it was recorded."""
    if data.get("elsewhere"):
        answer = found_elsewhere(folder, data["id"], ELSEWHERE_PATIENCE_S)
        if answer is None:
            raise NotReadYet(f"{data['address']} is still being read.")
        return [vars(entry) for entry in answer], []
    sources = listed(data, folder)
    try:
        prints = memory.all_of([Path(row[0]) for row in sources], tick)
    except OSError as error:
        raise errors.NotFound(
            f"The input {data['name']} could not be fingerprinted: {error.filename} {error.strerror}."
        ) from error
    files, changed = [], []
    for (source, path, size, modified), known in zip(sources, prints, strict=True):
        if (known.size, known.modified_ns) != (size, modified):
            changed.append(path)
        entry = {"path": path, "size": known.size, "sha256": known.sha256, "modified": known.modified_ns // 1000}
        # Where the version's address leads to it, a file needs none of its own.
        if source not in {data["address"], f"{data['address']}/{path}"}:
            entry["address"] = source
        files.append(entry)
    return files, changed


def upload_used(service: Service, data: JsonObject, folder: Path, files: list[JsonObject], tick: Tick | None) -> None:
    """Send an input's bytes from where they lie; raises InvalidInput where they changed since the fingerprint."""
    sources = {entry["sha256"]: Path(row[0]) for entry, row in zip(files, listed(data, folder), strict=True)}
    try:
        upload_missing(service, data["project"], sources, tick)
    except OSError as error:
        raise errors.NotFound(f"The input {data['name']} is gone ({error.strerror}).") from error


def upload_generated(service: Service, data: JsonObject, folder: Path, tick: Tick | None) -> list[dict[str, object]]:
    """Send an output's bytes, from the copies in the spool or from where large ones lie; returns its files."""
    rows = listed(data, folder)
    place = folder / data["folder"]
    # A path of its own stays what it is behind a slash: large files were not copied.
    sources = {row[3]: place / row[0] for row in rows}
    try:
        if place.exists() or Path(rows[0][0]).is_absolute():
            upload_missing(service, data["project"], sources, tick)
    except OSError as error:
        raise errors.NotFound(f"The bytes of {data['name']} are gone ({error.strerror}).") from error
    return [
        {"path": row[1], "size": row[2], "sha256": row[3], "modified": row[4] if len(row) > 4 else None} for row in rows
    ]


def forget_files(data: JsonObject, folder: Path) -> None:
    """Remove what lay beside the segments for a record that was delivered."""
    if isinstance(data["files"], str):
        (folder / data["files"]).unlink(missing_ok=True)
    if data.get("folder"):
        shutil.rmtree(folder / data["folder"], ignore_errors=True)
    if data.get("elsewhere"):
        forget_elsewhere(folder, data["id"])
