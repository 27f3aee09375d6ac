"""Files on their way: copies taken at the call, so that overwriting a file afterwards does no harm."""

from __future__ import annotations

import errno
import fcntl
import hashlib
import os
import stat
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from kinetrum.core.errors import InvalidInput, NotFound
from kinetrum.core.manifests import FILE_LIMIT, FileEntry, check_path

_PIECE = 1024 * 1024
_FICLONE = 0x40049409


@dataclass(frozen=True)
class Found:
    """A file of an input or output: where it is and its path within the artifact."""

    source: Path
    path: str


def find_files(given: str | os.PathLike[str]) -> list[Found]:
    """List a file, or the regular files below a folder; a single file has its own name as path.

    Links to files are followed, links to folders and special files are left out. Raises NotFound for a
    path that is not there, InvalidInput for an empty folder, special files, names that cannot be kept.
    """
    top = Path(given)
    if not top.exists():
        raise NotFound(f"{given} is not there; give the path of a file or folder.", field="path")
    if top.is_file():
        return [Found(top.absolute(), check_path(top.name))]
    if not top.is_dir():
        raise InvalidInput(f"{given} is neither a file nor a folder.", field="path")
    found = sorted(_walk(top), key=lambda item: item.path)
    if not found:
        raise InvalidInput(f"The folder {given} holds no file.", field="path")
    if len(found) > FILE_LIMIT:
        raise InvalidInput(f"{given} holds over {FILE_LIMIT} files; record parts of it.", field="path")
    return found


def _walk(top: Path) -> Iterator[Found]:
    for folder, _, names in os.walk(top):
        for name in names:
            source = Path(folder, name)
            if source.is_file():
                yield Found(source.absolute(), check_path(source.relative_to(top).as_posix()))


def fingerprint(source: Path) -> tuple[int, str]:
    """Return size and SHA-256 of a file."""
    digest, size = hashlib.sha256(), 0
    with source.open("rb") as file:
        while piece := file.read(_PIECE):
            digest.update(piece)
            size += len(piece)
    return size, digest.hexdigest()


def copy_in(found: Found, folder: Path, number: int) -> tuple[FileEntry, Path]:
    """Copy a file into the spool, sharing its blocks where the file system can, and fingerprint the copy."""
    target = folder / f"{number:06d}"
    with found.source.open("rb") as source, target.open("xb") as copy:
        if not stat.S_ISREG(os.fstat(source.fileno()).st_mode):
            raise InvalidInput(f"{found.source} is no ordinary file.", field="path")
        try:
            fcntl.ioctl(copy.fileno(), _FICLONE, source.fileno())
        except OSError as error:
            if error.errno not in {errno.EOPNOTSUPP, errno.EXDEV, errno.EINVAL, errno.ENOTTY, errno.ENOSYS}:
                raise
            while piece := source.read(_PIECE):
                copy.write(piece)
    size, sha256 = fingerprint(target)
    return FileEntry(found.path, size, sha256), target
