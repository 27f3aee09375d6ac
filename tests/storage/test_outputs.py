"""Printed output in blocks: numbered without gaps, topped up, head and tail kept."""

from __future__ import annotations

import secrets

import pytest

from kinetrum.core.text.printed_lines import Fold, Line
from kinetrum.storage.db.database import query
from kinetrum.storage.runs import outputs
from tests.storage.conftest import Place


def lines(first: int, count: int, size: int = 10) -> list[Line]:
    return [Line(at, "stdout", f"{at} ".ljust(size, "x")) for at in range(first, first + count)]


def append(run_id: int, writer: bytes, position: int, found: list[Line], fold: Fold | None = None) -> None:
    outputs.begin_append(run_id, writer)
    outputs.end_append(run_id, writer, position, {"stdout": fold} if fold else {}, found)


def everything(run_id: int) -> list[tuple[int, str]]:
    return [
        (item.number, item.line.text)
        for first, _ in outputs.blocks_from(run_id, 0)
        for item in outputs.read_block(run_id, first)
    ]


def test_small_pieces_make_one_block(place: Place) -> None:
    run_id, writer = place.run().run_id, secrets.token_bytes(16)
    for at in range(50):
        append(run_id, writer, at + 1, lines(at, 1))
    assert len(outputs.blocks_from(run_id, 0)) == 1
    assert [number for number, _ in everything(run_id)] == list(range(50))
    assert outputs.extent(run_id).next_line == 50
    assert outputs.begin_append(run_id, writer)[0] == 50


def test_a_writer_goes_on_with_its_open_lines_and_position(place: Place) -> None:
    run_id, first, second = place.run().run_id, secrets.token_bytes(16), secrets.token_bytes(16)
    fold = Fold("stdout")
    fold.feed("begun", 7)
    append(run_id, first, 3, [], fold)
    position, folds = outputs.begin_append(run_id, first)
    assert (position, folds["stdout"].pending()[0].text) == (3, "begun")
    assert outputs.begin_append(run_id, second) == (0, {})
    assert [line.text for line in outputs.open_lines(run_id)] == ["begun"]
    assert outputs.line_count(run_id) == 1
    outputs.finish_writers(run_id)
    assert everything(run_id) == [(0, "begun")]
    assert outputs.open_lines(run_id) == []


def test_open_lines_of_a_stream_keep_their_order(place: Place) -> None:
    """An outer bar is drawn after the inner one below it, and still stands above."""
    run_id = place.run().run_id
    fold, other = Fold("stderr"), Fold("stderr")
    fold.feed("\router 0\n\rinner 0\x1b[A", 10)
    fold.feed("\router 1", 20)
    other.feed("first of all", 5)
    append(run_id, secrets.token_bytes(16), 1, [], fold)
    append(run_id, secrets.token_bytes(16), 1, [], other)
    assert [line.text for line in outputs.open_lines(run_id)] == ["first of all", "outer 1", "inner 0"]


@pytest.fixture
def small(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(outputs, "HEAD_BYTES", 2_000)
    monkeypatch.setattr(outputs, "TAIL_BYTES", 4_000)
    monkeypatch.setattr(outputs, "BLOCK_BYTES", 500)


def test_the_middle_goes_and_numbers_stay(place: Place, small: None) -> None:
    run_id, writer = place.run().run_id, secrets.token_bytes(16)
    for at in range(100):
        append(run_id, writer, at + 1, lines(at * 10, 10))
    extent = outputs.extent(run_id)
    kept = everything(run_id)
    assert extent.next_line == 1_000
    assert extent.kept_bytes <= 2_000 + 4_000 + 500
    assert extent.kept_bytes == sum(
        size for (size,) in query("SELECT size_bytes FROM output_block WHERE run_id = %s", run_id)
    )
    assert [number for number, _ in kept] == [*range(extent.head_end), *range(extent.tail_begin, 1_000)]
    assert all(text.startswith(f"{number} ") for number, text in kept)
    assert extent.left_out == extent.tail_begin - extent.head_end > 500


def test_one_flood_at_once_is_cut_the_same_way(place: Place, small: None) -> None:
    run_id = place.run().run_id
    append(run_id, secrets.token_bytes(16), 1, lines(0, 1_000))
    extent = outputs.extent(run_id)
    assert (extent.next_line, extent.left_out > 500) == (1_000, True)
    assert everything(run_id)[-1][0] == 999


def test_a_run_that_printed_nothing(place: Place) -> None:
    run_id = place.run().run_id
    assert outputs.extent(run_id) == outputs.Extent(0, 0, 0, 0)
    assert (outputs.blocks_from(run_id, 0), outputs.read_block(run_id, 0), outputs.line_count(run_id)) == ([], [], 0)
    outputs.finish_writers(run_id)
