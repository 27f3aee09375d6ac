"""Binary forms of points: a chunk as stored, and a batch as sent.

A chunk is zstd over three columns, each delta-encoded where it grows evenly and laid out
byte by byte, so that equal high bytes stand together.

A batch ("application/vnd.kinetrum.points") is the four bytes KPB1, then one zstd frame of
little-endian groups, in which several metrics share steps and times:

    u16  number of groups
    per group:
        u16 number of keys, then per key: u16 length, UTF-8 bytes
        u32 number of points
        i64 step per point | i64 time per point (microseconds since 1970, UTC)
        f64 value per point, one whole column per key in the order of the keys
"""

from __future__ import annotations

import struct
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np
import zstandard
from numpy.typing import NDArray

from kinetrum.core.base.errors import InvalidInput, TooLarge
from kinetrum.core.base.values import check_key
from kinetrum.core.points.columns import Numbers, Points, Steps, Times, points_of

BATCH_MAGIC = b"KPB1"
BATCH_MEDIA_TYPE = "application/vnd.kinetrum.points"
BATCH_POINT_LIMIT = 1_000_000
BATCH_BYTE_LIMIT = 32 * 1024 * 1024
STEP_LIMIT = 2**62
_TIME_LIMIT = 2**55


@dataclass(frozen=True)
class Group:
    """Several metrics measured together: `values` has a row per key and a column per point."""

    keys: tuple[str, ...]
    steps: Steps
    times: Times
    values: NDArray[np.float64]

    def series(self) -> Iterator[tuple[str, Points]]:
        """Yield each key with its own points."""
        for key, row in zip(self.keys, self.values, strict=True):
            yield key, points_of(self.steps, self.times, row)


def encode_chunk(points: Points) -> bytes:
    """Pack merged points for storage; about 6 bytes a point in chunks of thousands."""
    raw = b"".join((_shuffle(_deltas(points.steps)), _shuffle(_deltas(points.times)), _shuffle(points.values)))
    return struct.pack("<I", len(points)) + zstandard.ZstdCompressor(level=3).compress(raw)


def decode_chunk(data: bytes) -> Points:
    """Undo `encode_chunk`."""
    (count,) = struct.unpack_from("<I", data)
    raw = zstandard.ZstdDecompressor().decompress(data[4:], max_output_size=24 * count)
    width = 8 * count
    return Points(
        np.cumsum(_unshuffle(raw[:width], np.int64)),
        np.cumsum(_unshuffle(raw[width : 2 * width], np.int64)),
        _unshuffle(raw[2 * width :], np.float64),
    )


def _deltas(column: NDArray[np.int64]) -> NDArray[np.int64]:
    deltas: NDArray[np.int64] = np.diff(column, prepend=np.int64(0))
    return deltas


def _shuffle(column: NDArray[Any]) -> bytes:
    return column.view(np.uint8).reshape(-1, 8).T.tobytes()


def _unshuffle(raw: bytes, kind: Any) -> NDArray[Any]:
    planes = np.frombuffer(raw, dtype=np.uint8).reshape(8, -1)
    column: NDArray[Any] = np.ascontiguousarray(planes.T).view(kind).reshape(-1)
    return column


def encode_batch(groups: Iterable[Group]) -> bytes:
    """Write groups as one batch body."""
    parts: list[bytes] = []
    count = 0
    for group in groups:
        count += 1
        parts.append(struct.pack("<H", len(group.keys)))
        for key in group.keys:
            name = key.encode()
            parts.append(struct.pack("<H", len(name)) + name)
        parts.append(struct.pack("<I", len(group.steps)))
        parts += [group.steps.astype("<i8").tobytes(), group.times.astype("<i8").tobytes()]
        parts.append(np.ascontiguousarray(group.values, dtype="<f8").tobytes())
    frame = struct.pack("<H", count) + b"".join(parts)
    return BATCH_MAGIC + zstandard.ZstdCompressor(level=1).compress(frame)


def decode_batch(body: bytes) -> list[Group]:
    """Read and check a batch body.

    Raises InvalidInput for anything malformed and TooLarge over 1,000,000 values or 32 MiB unpacked.
    """
    if body[:4] != BATCH_MAGIC:
        raise InvalidInput("The body is not a batch of points: it does not begin with KPB1.", field="body")
    try:
        size = zstandard.frame_content_size(body[4:])
        if size > BATCH_BYTE_LIMIT:
            raise TooLarge(f"The batch unpacks to {size} bytes; at most {BATCH_BYTE_LIMIT} are taken at once.")
        if size < 0:
            raise InvalidInput("The batch does not state its unpacked size.", field="body")
        frame = zstandard.ZstdDecompressor().decompress(body[4:], max_output_size=max(size, 1))
        return _read_groups(_Reader(frame))
    except zstandard.ZstdError as error:
        raise InvalidInput(f"The batch cannot be unpacked ({error}).", field="body") from None


class _Reader:
    """Takes little-endian fields off a frame, never past its end."""

    def __init__(self, frame: bytes) -> None:
        self.frame, self.at = frame, 0

    def take(self, size: int) -> bytes:
        if self.at + size > len(self.frame):
            raise InvalidInput("The batch ends in the middle of a group.", field="body")
        piece = self.frame[self.at : self.at + size]
        self.at += size
        return piece

    def number(self, form: str) -> int:
        return int(struct.unpack(form, self.take(struct.calcsize(form)))[0])

    def column(self, form: str, count: int) -> NDArray[Any]:
        numbers: NDArray[Any] = np.frombuffer(self.take(8 * count), dtype=form)
        return numbers


def _read_groups(reader: _Reader) -> list[Group]:
    groups, total = [], 0
    for _ in range(reader.number("<H")):
        names = [reader.take(reader.number("<H")) for _ in range(reader.number("<H"))]
        keys = tuple(_key(name) for name in names)
        count = reader.number("<I")
        total += count * len(keys)
        if total > BATCH_POINT_LIMIT:
            raise TooLarge(f"The batch holds over {BATCH_POINT_LIMIT} values; send it in parts.")
        steps, times = reader.column("<i8", count), reader.column("<i8", count)
        values = reader.column("<f8", count * len(keys)).reshape(len(keys), count)
        group = Group(keys, steps, times, values)
        check_group(group)
        groups.append(group)
    if reader.at != len(reader.frame):
        raise InvalidInput("The batch holds bytes after its last group.", field="body")
    return groups


def _key(raw: bytes) -> str:
    try:
        return check_key(raw.decode(), "metric")
    except UnicodeDecodeError:
        raise InvalidInput(f"A metric's name is not UTF-8: {raw[:40]!r}.", field="body") from None


def check_group(group: Group) -> None:
    """Refuse groups without keys, with a key twice, or with steps or times out of any sensible range."""
    if not group.keys or len(set(group.keys)) != len(group.keys):
        raise InvalidInput("A group of points names no metric, or one twice.", field="keys")
    if len(group.steps) == 0:
        return
    if np.abs(group.steps).max() > STEP_LIMIT or group.steps.min() < -STEP_LIMIT:
        raise InvalidInput(f"A step lies outside ±{STEP_LIMIT}.", field="steps")
    if group.times.min() < 0 or group.times.max() > _TIME_LIMIT:
        raise InvalidInput("A time is not in microseconds since 1970.", field="times")


def value_rows(columns: dict[str, Numbers]) -> NDArray[np.float64]:
    """Stack columns per key to the rows that Group.values holds."""
    return np.vstack([np.asarray(column, dtype=np.float64) for column in columns.values()])
