"""The spool's files: what was sealed is read, what was not is not."""

from __future__ import annotations

import math
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from kinetrum.client.spool.layout import END, HEADER_SIZE, JSON, POINTS, SEAL_MASK, json_size, points_struct
from kinetrum.client.spool.segments import Segment, find_sealed, read_header, read_records


def file_of(folder: Path) -> Path:
    return folder / "000001.seg"


def segment(folder: Path, size: int = 65_536) -> Segment:
    return Segment(file_of(folder), b"w" * 16, 1, size)


def put_points(found: Segment, shape: int, step: int, *values: float) -> None:
    layout = points_struct(len(values))
    layout.pack_into(found.map, found.at, layout.size, shape << 8 | POINTS, step, 1, *values, found.at ^ SEAL_MASK)
    found.at += layout.size


def test_records_come_back_in_order(tmp_path: Path) -> None:
    found = segment(tmp_path)
    found.write_json(b'{"a":1}')
    for step in range(5):
        put_points(found, 7, step, step / 2, math.nan)
    put_points(found, 8, 0, 1.0)
    found.write_json('{"größe":"ä"}'.encode())
    found.close()
    records = list(read_records(file_of(tmp_path), 0))
    assert [(record.kind, record.count) for record in records] == [
        (JSON, 0),
        (POINTS, 5),
        (POINTS, 1),
        (JSON, 0),
        (END, 0),
    ]
    assert records[0].data == {"a": 1}
    assert (records[1].shape, records[2].shape) == (7, 8)
    assert records[3].data == {"größe": "ä"}
    later = list(read_records(file_of(tmp_path), records[1].end))
    assert [record.kind for record in later] == [POINTS, JSON, END]


def test_what_is_not_sealed_is_not_there_yet(tmp_path: Path) -> None:
    found = segment(tmp_path)
    put_points(found, 1, 0, 1.0)
    put_points(found, 1, 1, 2.0)
    start = found.at - points_struct(1).size
    found.map[found.at - 8 : found.at] = bytes(8)
    (record,) = list(read_records(file_of(tmp_path), 0))
    assert record.count == 1
    assert record.end == start
    found.map[start + 8 : start + 16] = b"\xff" * 8
    assert len(list(read_records(file_of(tmp_path), 0))) == 1


def test_a_later_format_is_refused_with_a_reason(tmp_path: Path) -> None:
    found = segment(tmp_path)
    found.map[8:10] = (99).to_bytes(2, "little")
    with pytest.raises(ValueError, match="later version"):
        list(read_records(file_of(tmp_path), 0))
    (tmp_path / "other").write_bytes(b"not a segment at all" * 10)
    assert list(read_records(tmp_path / "other", 0)) == []
    (tmp_path / "short").write_bytes(b"x")
    assert list(read_records(tmp_path / "short", 0)) == []


def test_room_is_really_taken_and_private(tmp_path: Path) -> None:
    found = segment(tmp_path, 1 << 20)
    assert file_of(tmp_path).stat().st_blocks * 512 >= 1 << 20
    assert file_of(tmp_path).stat().st_mode & 0o777 == 0o600
    assert found.fits((1 << 20) - HEADER_SIZE - 16)
    assert not found.fits(1 << 20)


@given(st.binary(max_size=400))
def test_any_bytes_after_a_header_are_read_or_left(content: bytes) -> None:
    import tempfile

    with tempfile.TemporaryDirectory() as folder:
        found = segment(Path(folder), 4096)
        found.map[HEADER_SIZE : HEADER_SIZE + len(content)] = content
        list(read_records(file_of(Path(folder)), 0))


@pytest.mark.parametrize("length", [0, 1, 7, 8, 9, 1000])
def test_records_are_aligned(length: int) -> None:
    assert json_size(b"x" * length) % 8 == 0
    assert json_size(b"x" * length) >= length + 24


def test_a_segment_in_memory_moves_to_a_file(tmp_path: Path) -> None:
    found = Segment(None, b"w" * 16, 1, 65_536, b"h" * 16)
    found.write_json(b'{"a":1}')
    put_points(found, 7, 0, 0.5)
    found.move(file_of(tmp_path))
    put_points(found, 7, 1, 1.5)
    assert [record.kind for record in read_records(file_of(tmp_path), 0)] == [JSON, POINTS]
    assert list(read_records(file_of(tmp_path), 0))[1].count == 2
    found.close()
    assert [record.kind for record in read_records(file_of(tmp_path), 0)] == [JSON, POINTS, END]
    header = read_header(file_of(tmp_path))
    assert header is not None
    assert (header.version, header.host, header.writer) == (4, b"h" * 16, b"w" * 16)


def test_an_ended_segment_in_memory_is_saved_whole_or_not_at_all(tmp_path: Path) -> None:
    found = Segment(None, b"w" * 16, 1, 65_536)
    found.write_json(b'{"a":1}')
    found.end()
    assert not found.fits(8)
    with pytest.raises(FileNotFoundError):
        found.move(tmp_path / "missing" / "000001.seg")
    found.move(file_of(tmp_path))
    assert file_of(tmp_path).stat().st_size < 200
    assert [record.kind for record in read_records(file_of(tmp_path), 0)] == [JSON, END]
    assert [path.name for path in tmp_path.iterdir()] == ["000001.seg"]


def test_room_that_was_taken_and_not_used_is_passed_over(tmp_path: Path) -> None:
    found = segment(tmp_path)
    found.write_json(b'{"a":1}')
    at = found.reserve(48)
    assert at is not None
    found.void(at, 48)
    found.write_json(b'{"b":2}')
    assert [record.data for record in read_records(file_of(tmp_path), 0) if record.kind == JSON] == [{"a": 1}, {"b": 2}]


def test_behind_a_gap(tmp_path: Path) -> None:
    """A thread took room and was killed with its process before it sealed; another one's call was complete."""
    found = segment(tmp_path)
    found.write_json(b'{"a":1}')
    gap = found.reserve(64)
    assert gap is not None
    # What an earlier content of the file may look like must not be taken for a record.
    found.map[gap : gap + 24] = (gap ^ SEAL_MASK).to_bytes(8, "little") * 3
    following = found.at
    put_points(found, 7, 0, 0.5)
    assert [record.kind for record in read_records(file_of(tmp_path), 0)] == [JSON]
    assert find_sealed(file_of(tmp_path), gap) == following
    assert find_sealed(file_of(tmp_path), following) is None


def test_what_moves_while_it_is_written_is_written_again(tmp_path: Path) -> None:
    found = Segment(None, b"w" * 16, 1, 65_536)
    before = found.map
    at = found.reserve(points_struct(1).size)
    assert at is not None
    found.move(file_of(tmp_path))
    assert found.map is not before
    assert list(read_records(file_of(tmp_path), 0)) == []
    points_struct(1).pack_into(found.map, at, points_struct(1).size, 7 << 8 | POINTS, 0, 1, 0.5, at ^ SEAL_MASK)
    assert [record.kind for record in read_records(file_of(tmp_path), 0)] == [POINTS]
