"""The spool's files: append-only segments that survive a kill of the process that writes them.

A segment is a file of fixed size, its room really allocated, mapped into memory; `layout` says what stands where.

Room is taken before it is written, in one line of Python without a call, which neither another thread nor a
signal handler can interrupt in an interpreter with a global lock. So several records may be under way at once;
a reader waits at the first that is not sealed, and looks behind it once the writing process is dead.
"""

from __future__ import annotations

import json
import mmap
import os
import struct
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from kinetrum.client.spool.layout import (
    END,
    END_ROOM,
    HEAD,
    HEADER,
    HEADER_SIZE,
    JSON,
    JSON_HEAD,
    MAGIC,
    OUTPUT,
    OUTPUT_HEAD,
    POINTS,
    SEAL,
    SEAL_MASK,
    VERSION,
    VOID,
    json_size,
    output_size,
)
from kinetrum.core.base.ids import id_text

SEGMENT_SIZE = 4 * 1024 * 1024


class Segment:
    """One segment being written by this process: mapped from a file, or held in memory where `path` is None."""

    def __init__(
        self, path: Path | None, writer: bytes, made_at: int, size: int = SEGMENT_SIZE, host: bytes = b""
    ) -> None:
        self.size = size
        self.map = mmap.mmap(-1, size) if path is None else _mapped(path, size)
        HEADER.pack_into(self.map, 0, MAGIC, VERSION, HEADER_SIZE, os.getpid(), writer, made_at, host)
        self.at = HEADER_SIZE
        self.limit = size - END_ROOM
        self.ended = False

    def fits(self, size: int) -> bool:
        """Tell whether a record of that size has room."""
        return not self.ended and self.at + size <= self.limit

    def reserve(self, size: int) -> int | None:
        """Take room for a record and return where it begins; None where there is none."""
        # One line, no call: see above.
        at = self.at; end = at + size; fits = end <= self.limit; self.at = end if fits else at  # fmt: skip # noqa: E702
        return at if fits else None

    def write_json(self, text: bytes) -> bool:
        """Append a JSON record; false where it does not fit any more."""
        return self._write(json_size(text), JSON_HEAD, (JSON, len(text), 0), text)

    def write_output(self, run: bytes, stream: int, moment: int, text: bytes) -> bool:
        """Append printed output; false where it does not fit any more."""
        return self._write(output_size(len(text)), OUTPUT_HEAD, (OUTPUT, moment, len(text), stream, run), text)

    def _write(self, size: int, head: struct.Struct, fields: tuple[object, ...], text: bytes) -> bool:
        at = self.reserve(size)
        if at is None:
            return False
        try:
            head.pack_into(self.map, at, size, *fields)
            begin = at + head.size
            self.map[begin : begin + len(text)] = text
            SEAL.pack_into(self.map, at + size - 8, at ^ SEAL_MASK)
        except BaseException:
            self.void(at, size)
            raise
        return True

    def void(self, at: int, size: int) -> None:
        """Mark room that was taken as not used, so that readers pass over it."""
        HEAD.pack_into(self.map, at, size, VOID)
        SEAL.pack_into(self.map, at + size - 8, at ^ SEAL_MASK)

    def end(self) -> None:
        """Mark the end; nothing is appended any more. What is under way still gets its seal."""
        at, self.limit = self.at, 0
        self.ended = True
        HEAD.pack_into(self.map, at, END_ROOM, END)
        SEAL.pack_into(self.map, at + 8, at ^ SEAL_MASK)

    def close(self) -> None:
        """Mark the end and give the map back; only where no other thread writes."""
        self.end()
        self.map.close()

    def move(self, path: Path) -> None:
        """Go on in a file with a segment that was begun in memory; the file appears whole or not at all.

        Whoever wrote into the memory meanwhile sees that the map is another one and writes again.
        """
        part = path.with_suffix(".part")
        part.unlink(missing_ok=True)
        fresh = _mapped(part, self.at + END_ROOM if self.ended else self.size)
        before, self.map = self.map, fresh
        written = self.at + END_ROOM
        fresh[:written] = before[:written]
        os.replace(part, path)


def _mapped(path: Path, size: int) -> mmap.mmap:
    handle = os.open(path, os.O_RDWR | os.O_CREAT | os.O_EXCL, 0o600)
    try:
        # A sparse map on a full disk would kill the process at the first touch.
        os.posix_fallocate(handle, 0, size)
        return mmap.mmap(handle, size)
    except OSError:
        path.unlink(missing_ok=True)
        raise
    finally:
        os.close(handle)


@dataclass(frozen=True)
class Header:
    """What stands at the beginning of a segment; `host` is zeros where version 1 wrote it."""

    version: int
    process: int
    writer: bytes
    made_at: int
    host: bytes


def read_header(path: Path) -> Header | None:
    """Return a segment's header, None where its writer has not begun it, or was killed before it could.

    Raises ValueError for a file that is no segment.
    """
    with path.open("rb") as file:
        head = file.read(HEADER_SIZE)
    if not any(head):
        return None
    if len(head) < HEADER_SIZE or head[:8] != MAGIC:
        raise ValueError(f"{path.name} is not a segment of a spool")
    _, version, _, process, writer, made_at, host = HEADER.unpack(head)
    return Header(version, process, writer, made_at, host if version > 1 else bytes(16))


@dataclass(frozen=True)
class Printed:
    """Printed output as read: the run's id, the stream's number, microseconds since 1970, the text."""

    run: str
    stream: int
    at: int
    text: str


@dataclass(frozen=True)
class Record:
    """A record as read: `end` is where the next begins. Points carry raw bytes of `count` equal records."""

    kind: int
    start: int
    end: int
    data: Any = None
    shape: int = 0
    raw: bytes = b""
    count: int = 0


def read_records(path: Path, start: int, most: int = 1024 * 1024) -> Iterator[Record]:
    """Yield the sealed records of a segment from an offset on; neighbouring points of one shape come together.

    Reads about `most` bytes, and one whole record at least; whoever wants more calls again from where this ended.
    """
    with path.open("rb") as file:
        head = file.read(HEADER_SIZE)
        if len(head) < HEADER_SIZE or head[:8] != MAGIC:
            return
        version, header_size = struct.unpack_from("<HH", head, 8)
        if version > VERSION:
            raise ValueError(f"{path} was written by a later version of Kinetrum (format {version}).")
        at = start or header_size
        file.seek(at)
        data = file.read(most)
        if len(data) >= 4:
            (first,) = struct.unpack_from("<I", data)
            data += file.read(max(0, first - len(data)))
    origin, at = at, 0
    while at + END_ROOM <= len(data):
        size, tag = HEAD.unpack_from(data, at)
        if size < END_ROOM or size % 8 or at + size > len(data):
            return
        if SEAL.unpack_from(data, at + size - 8)[0] != (origin + at) ^ SEAL_MASK:
            return
        kind = tag & 0xFF
        if kind == POINTS:
            count = _stretch(data, at, size, origin)
            end = at + count * size
            yield Record(POINTS, origin + at, origin + end, shape=tag >> 8, raw=data[at:end], count=count)
            at = end
            continue
        payload = None
        if kind == JSON:
            length = JSON_HEAD.unpack_from(data, at)[2]
            payload = json.loads(data[at + 16 : at + 16 + length])
        elif kind == OUTPUT:
            _, _, moment, length, stream, run = OUTPUT_HEAD.unpack_from(data, at)
            begin = at + OUTPUT_HEAD.size
            text = data[begin : begin + length].decode("utf-8", "replace")
            payload = Printed(id_text(run), stream, moment, text)
        yield Record(kind, origin + at, origin + at + size, data=payload)
        at += size


def all_records(path: Path, start: int = 0) -> Iterator[Record]:
    """Yield every sealed record of a segment up to the first that is not, a piece at a time."""
    at = start
    while True:
        end = at
        for record in read_records(path, at):
            yield record
            end = record.end
        if end == at:
            return
        at = end


def find_sealed(path: Path, start: int) -> int | None:
    """Return where the first sealed record behind a gap begins, for a segment whose writer is dead."""
    import numpy as np

    data = path.read_bytes()
    words = np.frombuffer(data, "<u8", len(data) // 8)
    places = np.arange(len(words), dtype=np.uint64) * np.uint64(8)
    begins = words ^ np.uint64(SEAL_MASK)
    likely = np.flatnonzero((begins > np.uint64(start)) & (begins <= places) & (begins % np.uint64(8) == 0))
    for seal in likely.tolist():
        begin = int(begins[seal])
        if HEAD.unpack_from(data, begin)[0] == seal * 8 + 8 - begin:
            return begin
    return None


def _stretch(data: bytes, at: int, size: int, origin: int) -> int:
    """Count how many records of the same size and shape follow each other, all sealed.

    Looks ahead in windows that grow, so that many short stretches cost no more than one long one.
    """
    head, count, window = data[at : at + 8], 1, 32
    while data[at + count * size : at + count * size + 8] == head:
        most = min(window, (len(data) - at) // size - count)
        if most < 1:
            break
        alike = _alike(data, at + count * size, size, origin, most, head)
        count += alike
        if alike < most:
            break
        window *= 4
    return count


def _alike(data: bytes, start: int, size: int, origin: int, most: int, head: bytes) -> int:
    import numpy as np

    table = np.frombuffer(data, np.uint8, most * size, start).reshape(most, size)
    same = (table[:, :8] == np.frombuffer(head, np.uint8)).all(axis=1)
    seals = np.ascontiguousarray(table[:, -8:]).view("<u8").reshape(-1)
    wanted = (np.uint64(origin + start) + np.arange(most, dtype=np.uint64) * np.uint64(size)) ^ np.uint64(SEAL_MASK)
    good = same & (seals == wanted)
    return most if good.all() else int(good.argmin())
