"""Downloads: to a temporary file, verified by SHA-256, then put in place; small files together, large ones resumed."""

from __future__ import annotations

import hashlib
import os
import tarfile
import time
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import IO, TYPE_CHECKING, cast

from kinetrum.client.transport.http import Service, path_of
from kinetrum.client.transport.progress import Tick, in_turn
from kinetrum.core.base.errors import Conflict, Damaged, Unavailable
from kinetrum.core.base.manifests import check_path

if TYPE_CHECKING:
    from collections.abc import Iterator

    from kinetrum.client.transport import answers

_SMALL, _TOGETHER_FROM = 1024 * 1024, 20
_SIDE_BY_SIDE = 4
_TRIES = 3


def download_files(
    service: Service,
    base: str,
    files: Sequence[answers.FileEntry],
    to: Path,
    tick: Tick | None = None,
    replace: bool = False,
) -> list[Path]:
    """Download files of a version below a folder; returns their paths. `tick` is told the bytes that came.

    `base` is the version's path in the interface, of an artifact or of a model.

    A file that is there with the right content is left alone; one with other content is refused, or with `replace`
    replaced in one step. Raises Damaged where what arrived does not match the manifest, Conflict where a file with
    other content stands there; other files are whole or absent.
    """
    tell = in_turn(tick)
    wanted, paths = [], []
    for entry in files:
        target = _target(entry, to)
        paths.append(target)
        if target.exists() and _is_right(target, entry, replace):
            tell(entry["size"])
        else:
            wanted.append((entry, target))
    small = [item for item in wanted if item[0]["size"] <= _SMALL]
    if len(small) >= _TOGETHER_FROM:
        _download_together(service, base, small, tell)
        wanted = [item for item in wanted if item[0]["size"] > _SMALL]
    with ThreadPoolExecutor(max_workers=_SIDE_BY_SIDE) as pool:
        for job in [pool.submit(_download, service, base, entry, target, tell) for entry, target in wanted]:
            job.result()
    return paths


def _target(entry: answers.FileEntry, to: Path) -> Path:
    target = to / check_path(entry["path"])
    if not target.resolve().is_relative_to(to.resolve()):
        raise Conflict(f"{target} lies outside {to} by a link; choose another folder.", field="path")
    return target


def _is_right(target: Path, entry: answers.FileEntry, replace: bool) -> bool:
    """Tell whether a file is there as it should be; one that is not is refused unless it may be replaced."""
    if target.is_file() and target.stat().st_size == entry["size"]:
        with target.open("rb") as file:
            if hashlib.file_digest(file, "sha256").hexdigest() == entry["sha256"]:
                return True
    if replace and target.is_file():
        return False
    raise Conflict(
        f"{target} is there with other content; choose another folder, or have it replaced (--replace, replace=True).",
        field="path",
    )


def _put(part: Path, target: Path, entry: answers.FileEntry, sha256: str) -> None:
    if sha256 != entry["sha256"]:
        part.unlink(missing_ok=True)
        raise Damaged(f"What arrived as {entry['path']} does not match its SHA-256; nothing was kept.")
    os.replace(part, target)


def _part_of(target: Path) -> Path:
    target.parent.mkdir(parents=True, exist_ok=True)
    # The digest keeps long names that begin alike apart, and within what a file system takes.
    name = hashlib.sha256(os.fsencode(target.name)).hexdigest()[:16]
    return target.with_name(f".{name}.{os.getpid()}.part")


def _download_together(service: Service, base: str, wanted: list[tuple[answers.FileEntry, Path]], tell: Tick) -> None:
    """Take many small files out of one archive; asked again where it broke off, as long as it gets on."""
    lacking = {entry["path"]: (entry, target) for entry, target in wanted}
    while lacking:
        before, broken = len(lacking), None
        try:
            _take_from_bundle(service, base, lacking, tell)
        except (tarfile.TarError, Unavailable) as error:
            broken = error
        if len(lacking) == before:
            raise _broke_off(next(iter(lacking)), broken) from broken


def _take_from_bundle(
    service: Service, base: str, lacking: dict[str, tuple[answers.FileEntry, Path]], tell: Tick
) -> None:
    """Put files of the archive in place, each verified before; those are lacking no longer."""
    with service.stream(f"{base}/bundle", {"form": "tar", "up_to_bytes": _SMALL}) as response:
        stream = _Stream(response.iter_raw())
        with tarfile.open(fileobj=cast("IO[bytes]", stream), mode="r|") as bundle:
            for member in bundle:
                file = bundle.extractfile(member)
                if member.name in lacking and file is not None:
                    _keep_member(file, *lacking[member.name])
                    entry, _ = lacking.pop(member.name)
                    tell(entry["size"])


def _broke_off(path: str, error: Exception | None) -> Damaged:
    return Damaged(
        f"The service broke off before {path}{f' ({error})' if error else ''}: its stored bytes may be damaged; ask "
        "the service's administrator to look. What arrived before it is whole."
    )


def _keep_member(file: IO[bytes], entry: answers.FileEntry, target: Path) -> None:
    content = file.read()
    part = _part_of(target)
    try:
        part.write_bytes(content)
        _put(part, target, entry, hashlib.sha256(content).hexdigest())
    finally:
        part.unlink(missing_ok=True)


class _Stream:
    """A download as a file to read from."""

    def __init__(self, pieces: Iterator[bytes]) -> None:
        self._pieces, self._held = pieces, b""

    def read(self, size: int) -> bytes:
        """Return up to `size` bytes, fewer only at the end."""
        parts, length = [self._held], len(self._held)
        while length < size:
            piece = next(self._pieces, b"")
            if not piece:
                break
            parts.append(piece)
            length += len(piece)
        whole = b"".join(parts)
        self._held = whole[size:]
        return whole[:size]


def _download(service: Service, base: str, entry: answers.FileEntry, target: Path, tell: Tick) -> Path:
    part = _part_of(target)
    try:
        with part.open("xb") as file:
            digest = _receive(service, f"{base}/files" + path_of(*entry["path"].split("/")), entry, file, tell)
        _put(part, target, entry, digest)
    finally:
        part.unlink(missing_ok=True)
    return target


def _receive(service: Service, path: str, entry: answers.FileEntry, file: IO[bytes], tell: Tick) -> str:
    """Write a file's bytes as they come; a broken connection is taken up behind what arrived, as long as it gets on."""
    digest, size, tries = hashlib.sha256(), 0, 0
    while True:
        begun_at = size
        headers = {"Range": f"bytes={size}-", "If-Range": f'"{entry["sha256"]}"'} if size else {}
        try:
            with service.stream(path, {"counted": "false"} if "/models/" in path else None, headers) as response:
                if size and response.status_code != 206:
                    raise Damaged(f"The service began {entry['path']} anew instead of going on; fetch it again.")
                for piece in response.iter_raw():
                    digest.update(piece)
                    size += len(piece)
                    file.write(piece)
                    tell(len(piece))
            return digest.hexdigest()
        except Unavailable as error:
            if not size:
                raise
            tries = 0 if size > begun_at else tries + 1
            if tries >= _TRIES:
                raise _broke_off(f"the end of {entry['path']}, after {size} of {entry['size']} bytes", error) from error
            time.sleep(0.3 * 2**tries)
