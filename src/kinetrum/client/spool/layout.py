"""How the spool is laid out: the bytes of a segment, and where notes on deliveries lie.

    header, 64 bytes:  8s magic "KTSPOOL1" | u16 version | u16 header size | u32 pid | 16s writer id
                       | i64 made at (microseconds since 1970) | 16s host | 8s zero
    records:           u32 size of the whole record, a multiple of 8 | u8 kind | u24 shape | payload | u64 seal

Version 1 had zeros in the place of the host, version 2 no printed output; what they wrote is read as before.

The seal is written last and depends on the record's place; a record without its seal is not there yet.
Kinds: 1 JSON (payload: u32 length, u32 zero, UTF-8 text, zeros), 2 points (payload: i64 step,
i64 microseconds since 1970, one f64 per key of the shape), 3 end of segment, 4 void (room that was taken and
not used), 5 printed output (payload: i64 microseconds since 1970, u32 length, u32 stream, 16s run, UTF-8 text,
zeros; streams: 0 stdout, 1 stderr, 2 Kinetrum's own). A shape is declared by a JSON record in the same
segment before its first use.

Loaded by commands that record a line and leave, so it takes nothing that is heavy.
"""

from __future__ import annotations

import os
import struct

MAGIC, VERSION, HEADER_SIZE = b"KTSPOOL1", 4, 64
JSON, POINTS, END, VOID, OUTPUT = 1, 2, 3, 4, 5
HEADER = struct.Struct("<8sHHI16sq16s8x")
JSON_HEAD = struct.Struct("<IIII")
OUTPUT_HEAD = struct.Struct("<IIqII16s")
SEAL = struct.Struct("<Q")
HEAD = struct.Struct("<II")
SEAL_MASK = 0x5EA1_C0DE_5EA1_C0DE
END_ROOM = 16


# What is delivered in two ways, each with its own note of how the last try went.
LANES = ("records", "files")


def note_path(root: str | os.PathLike[str], destination: str, lane: str) -> str:
    """Return where it is noted what stands in the way of a destination: `null` where nothing does."""
    return os.path.join(root, "arrivals", f"{destination}-{lane}.json")


def points_struct(keys: int) -> struct.Struct:
    """Return the layout of one record of points: size, kind and shape, step, time, values, seal."""
    return struct.Struct(f"<IIqq{keys}dQ")


def packed_points(keys: int) -> struct.Struct:
    """Return the same layout with size, kind and shape as one number, as `points_head` makes it."""
    return struct.Struct(f"<Qqq{keys}dQ")


def points_head(size: int, shape: int) -> int:
    """Return size, kind and shape of a record of points as one number."""
    return size | (shape << 8 | POINTS) << 32


def json_size(text: bytes) -> int:
    """Return the size of a JSON record."""
    return JSON_HEAD.size + -(-len(text) // 8) * 8 + 8


def output_size(length: int) -> int:
    """Return the size of a record of printed output with that many bytes of text."""
    return OUTPUT_HEAD.size + -(-length // 8) * 8 + 8
