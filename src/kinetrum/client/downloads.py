"""Downloads: to a temporary file, verified by SHA-256, then put in place."""

from __future__ import annotations

import hashlib
import os
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from kinetrum.client.http import Service, path_of
from kinetrum.core.errors import Conflict, Damaged, Unavailable
from kinetrum.core.manifests import check_path


def download_files(
    service: Service, project: str, artifact: str, number: int, files: Sequence[dict[str, Any]], to: Path
) -> list[Path]:
    """Download files of an artifact version below a folder; returns their paths.

    A file that is there with the right content is left alone. Raises Damaged where what arrived does not
    match the manifest, Conflict where a file with other content stands there; files before it are whole.
    """
    return [_download(service, project, artifact, number, entry, to) for entry in files]


def _download(service: Service, project: str, artifact: str, number: int, entry: dict[str, Any], to: Path) -> Path:
    target = to / check_path(entry["path"])
    if not target.resolve().is_relative_to(to.resolve()):
        raise Conflict(f"{target} lies outside {to} by a link; choose another folder.", field="path")
    if target.exists():
        if target.is_file() and _digest(target) == entry["sha256"]:
            return target
        raise Conflict(f"{target} is there with other content; remove it or choose another folder.", field="path")
    target.parent.mkdir(parents=True, exist_ok=True)
    part = target.with_name(f".{target.name}.{os.getpid()}.part")
    digest, size = hashlib.sha256(), 0
    path = path_of("projects", project, "artifacts", artifact, "versions", str(number), "files") + path_of(
        *entry["path"].split("/")
    )
    try:
        with service.stream(path) as response, part.open("xb") as file:
            for piece in response.iter_raw(1024 * 1024):
                digest.update(piece)
                size += len(piece)
                file.write(piece)
        if digest.hexdigest() != entry["sha256"]:
            raise Damaged(f"What arrived as {entry['path']} does not match its SHA-256; nothing was kept.")
        os.replace(part, target)
    except Unavailable as error:
        if 0 < size < entry["size"]:
            raise Damaged(
                f"The service broke off {entry['path']} after {size} of {entry['size']} bytes: its stored bytes may be "
                "damaged; ask the service's administrator to look."
            ) from error
        raise
    finally:
        part.unlink(missing_ok=True)
    return target


def _digest(path: Path) -> str:
    digest = hashlib.sha256()
    with path.open("rb") as file:
        while piece := file.read(1024 * 1024):
            digest.update(piece)
    return digest.hexdigest()
