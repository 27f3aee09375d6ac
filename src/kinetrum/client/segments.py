"""The spool's files: append-only segments that survive a kill of the process that writes them.

A segment is a file of fixed size, its room really allocated, mapped into memory:

    header, 64 bytes:  8s magic "KTSPOOL1" | u16 version | u16 header size | u32 pid | 16s writer id
                       | i64 made at (microseconds since 1970) | 16s host | 8s zero
    records:           u32 size of the whole record, a multiple of 8 | u8 kind | u24 shape | payload | u64 seal

Version 1 had zeros in the place of the host; what it wrote is read as before.

The seal is written last and depends on the record's place; a record without its seal is not there yet.
Kinds: 1 JSON (payload: u32 length, u32 zero, UTF-8 text, zeros), 2 points (payload: i64 step,
i64 microseconds since 1970, one f64 per key of the shape), 3 end of segment. A shape is declared by a
JSON record in the same segment before its first use.
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

MAGIC, VERSION, HEADER_SIZE = b"KTSPOOL1", 2, 64
SEGMENT_SIZE = 4 * 1024 * 1024
JSON, POINTS, END = 1, 2, 3
_HEADER = struct.Struct("<8sHHI16sq16s8x")
_JSON_HEAD = struct.Struct("<IIII")
_SEAL = struct.Struct("<Q")
_HEAD = struct.Struct("<II")
SEAL_MASK = 0x5EA1_C0DE_5EA1_C0DE
_END_ROOM = 16


def points_struct(keys: int) -> struct.Struct:
    """Return the layout of one record of points: size, kind and shape, step, time, values, seal."""
    return struct.Struct(f"<IIqq{keys}dQ")


def packed_points(keys: int) -> struct.Struct:
    """Return the same layout with size, kind and shape as one number, as `points_head` makes it."""
    return struct.Struct(f"<Qqq{keys}dQ")


def points_head(size: int, shape: int) -> int:
    """Return size, kind and shape of a record of points as one number."""
    return size | (shape << 8 | POINTS) << 32


class Segment:
    """One segment being written by this process: mapped from a file, or held in memory where `path` is None."""

    def __init__(
        self, path: Path | None, writer: bytes, made_at: int, size: int = SEGMENT_SIZE, host: bytes = b""
    ) -> None:
        self.size = size
        self.map = mmap.mmap(-1, size) if path is None else _mapped(path, size)
        _HEADER.pack_into(self.map, 0, MAGIC, VERSION, HEADER_SIZE, os.getpid(), writer, made_at, host)
        self.at = HEADER_SIZE
        self.limit = size - _END_ROOM
        self.ended = False
        self._in_memory = path is None

    def fits(self, size: int) -> bool:
        """Tell whether a record of that size has room."""
        return not self.ended and self.at + size <= self.limit

    def write_json(self, text: bytes) -> None:
        """Append a JSON record; the caller made sure that it fits."""
        size = json_size(text)
        _JSON_HEAD.pack_into(self.map, self.at, size, JSON, len(text), 0)
        start = self.at + _JSON_HEAD.size
        self.map[start : start + len(text)] = text
        _SEAL.pack_into(self.map, self.at + size - 8, self.at ^ SEAL_MASK)
        self.at += size

    def end(self) -> None:
        """Mark the end; nothing is appended any more."""
        _HEAD.pack_into(self.map, self.at, _END_ROOM, END)
        _SEAL.pack_into(self.map, self.at + 8, self.at ^ SEAL_MASK)
        self.ended = True
        self.limit = 0

    def release(self) -> None:
        """Give the map of a file back; what is in memory stays until it is saved."""
        if not self._in_memory and not self.map.closed:
            self.map.close()

    def close(self) -> None:
        """Mark the end and give the map back."""
        self.end()
        self.release()

    def save(self, path: Path) -> None:
        """Write a segment that ended from memory to a file, which appears whole or not at all."""
        part = path.with_suffix(".part")
        try:
            part.write_bytes(self.map[: self.at + _END_ROOM])
            os.replace(part, path)
        except OSError:
            part.unlink(missing_ok=True)
            raise
        self._in_memory = False
        self.map.close()

    def move(self, path: Path) -> None:
        """Go on in a file with a segment that was begun in memory."""
        part = path.with_suffix(".part")
        part.unlink(missing_ok=True)
        fresh = _mapped(part, self.size)
        fresh[: self.at] = self.map[: self.at]
        os.replace(part, path)
        before, self.map, self._in_memory = self.map, fresh, False
        before.close()


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
    """Return a segment's header, None where the file is none."""
    with path.open("rb") as file:
        head = file.read(HEADER_SIZE)
    if len(head) < HEADER_SIZE or head[:8] != MAGIC:
        return None
    _, version, _, process, writer, made_at, host = _HEADER.unpack(head)
    return Header(version, process, writer, made_at, host if version > 1 else bytes(16))


def json_size(text: bytes) -> int:
    """Return the size of a JSON record."""
    return _JSON_HEAD.size + -(-len(text) // 8) * 8 + 8


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
    while at + _END_ROOM <= len(data):
        size, tag = _HEAD.unpack_from(data, at)
        if size < _END_ROOM or size % 8 or at + size > len(data):
            return
        if _SEAL.unpack_from(data, at + size - 8)[0] != (origin + at) ^ SEAL_MASK:
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
            length = _JSON_HEAD.unpack_from(data, at)[2]
            payload = json.loads(data[at + 16 : at + 16 + length])
        yield Record(kind, origin + at, origin + at + size, data=payload)
        at += size


def _stretch(data: bytes, at: int, size: int, origin: int) -> int:
    """Count how many records of the same size and shape follow each other, all sealed.

    Looks ahead in windows that grow, so that many short stretches cost no more than one long one.
    """
    head, count, window = data[at : at + 8], 1, 32
    while data[at + count * size : at + count * size + 8] == head:
        most = min(window, (len(data) - at) // size - count)
        if most < 1:
            break
        found = _alike(data, at + count * size, size, origin, most, head)
        count += found
        if found < most:
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
