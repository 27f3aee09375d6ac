"""Many files as one stream: tar for programs, zip for people; memory stays flat, nothing is written to disk."""

from __future__ import annotations

import io
import tarfile
import zipfile
from collections.abc import Callable, Iterable, Iterator
from datetime import UTC, datetime

from kinetrum.core.manifests import FileEntry

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


class _Sink(io.RawIOBase):
    """Collects what the archive writes until it is sent on."""

    def __init__(self) -> None:
        self.waiting = bytearray()

    def writable(self) -> bool:
        """Say that bytes are taken."""
        return True

    def write(self, piece: object) -> int:
        """Take bytes."""
        self.waiting += memoryview(piece)  # type: ignore[arg-type]
        return len(memoryview(piece))  # type: ignore[arg-type]

    def take(self) -> bytes:
        """Return what was written since the last call."""
        found = bytes(self.waiting)
        self.waiting.clear()
        return found


def _zip(entries: Iterable[FileEntry], read: Callable[[FileEntry], Iterator[bytes]]) -> Iterator[bytes]:
    sink = _Sink()
    with zipfile.ZipFile(sink, "w", zipfile.ZIP_STORED) as archive:
        for entry in entries:
            moment = datetime.fromtimestamp(max(_modified_s(entry), 315_532_800), UTC)
            member = zipfile.ZipInfo(entry.path, moment.timetuple()[:6])
            member.external_attr = 0o644 << 16
            with archive.open(member, "w", force_zip64=True) as file:
                for piece in read(entry):
                    file.write(piece)
                    yield sink.take()
    yield sink.take()
