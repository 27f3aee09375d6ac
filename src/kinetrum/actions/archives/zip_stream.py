"""A zip archive written as a stream: nothing on disk, memory flat, sizes known only at the end."""

from __future__ import annotations

import io
import zipfile
from collections.abc import Iterable, Iterator
from datetime import UTC, datetime
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from typing_extensions import Buffer

# The first moment that a zip archive can tell.
_EARLIEST_S = 315_532_800
# Beyond this, packing costs more time than it saves room: large files are mostly packed already.
PACKED_UP_TO = 16 * 1024 * 1024


class _Sink(io.RawIOBase):
    """Collects what the archive writes until it is sent on."""

    def __init__(self) -> None:
        self.waiting = bytearray()

    def writable(self) -> bool:
        """Say that bytes are taken."""
        return True

    def write(self, piece: Buffer) -> int:
        """Take bytes."""
        view = memoryview(piece)
        self.waiting += view
        return len(view)

    def take(self) -> bytes:
        """Return what was written since the last call."""
        taken = bytes(self.waiting)
        self.waiting.clear()
        return taken


class ZipStream:
    """One archive: `add` yields the bytes of a member, `end` those that close it."""

    def __init__(self) -> None:
        self._sink = _Sink()
        self._archive = zipfile.ZipFile(self._sink, "w", zipfile.ZIP_STORED)

    def add(self, name: str, pieces: Iterable[bytes], modified_s: int = 0, pack: bool = False) -> Iterator[bytes]:
        """Yield the bytes of the archive with one more member."""
        moment = datetime.fromtimestamp(max(modified_s, _EARLIEST_S), UTC)
        member = zipfile.ZipInfo(name, moment.timetuple()[:6])
        member.external_attr = 0o644 << 16
        member.compress_type = zipfile.ZIP_DEFLATED if pack else zipfile.ZIP_STORED
        with self._archive.open(member, "w", force_zip64=True) as file:
            for piece in pieces:
                file.write(piece)
                if len(self._sink.waiting) > 64 * 1024:
                    yield self._sink.take()
        yield self._sink.take()

    def end(self) -> Iterator[bytes]:
        """Yield the list of members that closes the archive."""
        self._archive.close()
        yield self._sink.take()
