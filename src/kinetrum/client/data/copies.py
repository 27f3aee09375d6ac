"""Files on their way: which there are, and copies taken at the call, so that overwriting them does no harm."""

from __future__ import annotations

import errno
import fcntl
import hashlib
import os
import stat
import warnings
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

from kinetrum.core.base.errors import InvalidInput, NotFound
from kinetrum.core.base.manifests import FILE_LIMIT, FileEntry, check_path

_PIECE = 1024 * 1024
_FICLONE = 0x40049409
_NO_CLONE = frozenset({errno.EOPNOTSUPP, errno.EXDEV, errno.EINVAL, errno.ENOTTY, errno.ENOSYS})
# Above this, and where the file system cannot share blocks, an output is sent from where it lies instead of copied.
COPY_LIMIT = 1024**3
_TRIES = 3


@dataclass(frozen=True)
class SourceFile:
    """A file of an input or output: where it is and its path within the artifact."""

    source: Path
    path: str


def find_files(path: str | os.PathLike[str]) -> list[SourceFile]:
    """List a file, or the regular files below a folder; a single file has its own name as path.

    Links to files are followed. Links to folders, links that lead nowhere, and special files are left out of a
    folder with a warning that counts them; empty folders leave no trace. Raises NotFound for a path that is not
    there, InvalidInput for an empty folder, a special file, and names that cannot be kept (`check_path`).
    """
    top = Path(path)
    if not top.exists():
        raise NotFound(f"{path} is not there; give the path of a file or folder.", field="path")
    if top.is_file():
        return [SourceFile(top.absolute(), check_path(top.name))]
    if not top.is_dir():
        raise InvalidInput(f"{path} is neither a file nor a folder.", field="path")
    left_out: list[str] = []
    files = sorted(_walk(os.path.abspath(top), "", left_out), key=lambda item: item.path)
    if left_out:
        what = "entry was" if len(left_out) == 1 else "entries were"
        warnings.warn(
            f"{len(left_out)} {what} left out of {path}: links to folders, links that lead nowhere and special files "
            f"are not kept; the first is {left_out[0]!r}.",
            stacklevel=5,
        )
    if not files:
        raise InvalidInput(f"The folder {path} holds no file.", field="path")
    return files


def _walk(top: str, below: str, left_out: list[str]) -> Iterator[SourceFile]:
    count = 0
    waiting = [(top, below)]
    while waiting:
        folder, prefix = waiting.pop()
        with os.scandir(folder) as entries:
            for entry in entries:
                path = prefix + entry.name
                if entry.is_dir(follow_symlinks=False):
                    waiting.append((entry.path, f"{path}/"))
                elif entry.is_file():
                    count += 1
                    if count > FILE_LIMIT:
                        raise InvalidInput(f"{top} holds over {FILE_LIMIT} files; record parts of it.", field="path")
                    yield SourceFile(Path(entry.path), check_path(path))
                else:
                    left_out.append(path)


def modified_us(source: Path) -> int:
    """Return a file's last change in microseconds since 1970."""
    return source.stat().st_mtime_ns // 1000


def copy_all(files: Sequence[SourceFile], folder: Path) -> list[tuple[FileEntry, Path]] | None:
    """Copy files into the spool and fingerprint the copies; None where they are too large to be copied.

    Blocks are shared where the file system can, whatever the size.
    """
    total = sum(file.source.stat().st_size for file in files)
    copies = []
    for number, file in enumerate(files):
        copy = _copy_in(file, folder, number, may_copy=total <= COPY_LIMIT)
        if copy is None:
            return None
        copies.append(copy)
    return copies


def _copy_in(source: SourceFile, folder: Path, number: int, may_copy: bool) -> tuple[FileEntry, Path] | None:
    """Copy one file; one that is written to meanwhile is copied anew, a few times."""
    for _ in range(_TRIES):
        before = os.stat(source.source)
        copy = _copy_once(source, folder, number, may_copy)
        after = os.stat(source.source)
        if copy is None or (before.st_mtime_ns, before.st_size) == (after.st_mtime_ns, after.st_size):
            return copy
        copy[1].unlink()
    raise InvalidInput(f"{source.source} is being written to; record it once it is whole.", field="path")


def _copy_once(file: SourceFile, folder: Path, number: int, may_copy: bool) -> tuple[FileEntry, Path] | None:
    target = folder / f"{number:06d}"
    digest, size = hashlib.sha256(), 0
    with file.source.open("rb", buffering=0) as source, target.open("xb+", buffering=0) as copy:
        state = os.fstat(source.fileno())
        if not stat.S_ISREG(state.st_mode):
            raise InvalidInput(f"{file.source} is not an ordinary file.", field="path")
        shared = _share_blocks(source.fileno(), copy.fileno())
        if not shared and not may_copy:
            return None
        reader = copy if shared else source
        while piece := reader.read(_PIECE):
            digest.update(piece)
            size += len(piece)
            if not shared:
                _write_all(copy.fileno(), piece)
    return FileEntry(file.path, size, digest.hexdigest(), state.st_mtime_ns // 1000), target


def _share_blocks(source: int, copy: int) -> bool:
    try:
        fcntl.ioctl(copy, _FICLONE, source)
    except OSError as error:
        if error.errno not in _NO_CLONE:
            raise
        return False
    return True


def _write_all(target: int, piece: bytes) -> None:
    view = memoryview(piece)
    while view:
        view = view[os.write(target, view) :]
