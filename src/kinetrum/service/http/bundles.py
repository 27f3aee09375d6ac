"""Many files as one stream: tar for programs, zip for people; memory stays flat, nothing is written to disk."""

from __future__ import annotations

import tarfile
from collections.abc import Callable, Iterable, Iterator

from kinetrum.actions.archives.zip_stream import ZipStream
from kinetrum.core.base.manifests import FileEntry

MEDIA_TYPES = {"tar": "application/x-tar", "zip": "application/zip"}
_BLOCK = 512


def bundle(form: str, entries: Iterable[FileEntry], read: Callable[[FileEntry], Iterator[bytes]]) -> Iterator[bytes]:
    """Yield files as a tar or zip archive, each named by its path."""
    return (_tar if form == "tar" else _zip)(entries, read)


def _modified_s(entry: FileEntry) -> int:
    return max(0, (entry.modified or 0) // 1_000_000)


def _tar(entries: Iterable[FileEntry], read: Callable[[FileEntry], Iterator[bytes]]) -> Iterator[bytes]:
    waiting = bytearray()
    for entry in entries:
        member = tarfile.TarInfo(entry.path)
        member.size, member.mtime = entry.size, _modified_s(entry)
        waiting += member.tobuf(tarfile.PAX_FORMAT, "utf-8", "strict")
        for piece in read(entry):
            waiting += piece
            if len(waiting) >= 64 * _BLOCK:
                yield bytes(waiting)
                waiting.clear()
        waiting += bytes(-entry.size % _BLOCK)
    yield bytes(waiting) + bytes(2 * _BLOCK)


def _zip(entries: Iterable[FileEntry], read: Callable[[FileEntry], Iterator[bytes]]) -> Iterator[bytes]:
    archive = ZipStream()
    for entry in entries:
        yield from archive.add(entry.path, read(entry), _modified_s(entry))
    yield from archive.end()
