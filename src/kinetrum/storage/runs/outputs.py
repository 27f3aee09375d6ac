"""What runs printed: numbered lines in packed blocks, the head and the tail of them kept.

Guarantee: every writer's output has a position; what was kept once is not kept again, however often it is sent.
A run's row is locked while lines are added, so that numbers have no gap but the stretch that was left out.
"""

from __future__ import annotations

import json
from dataclasses import dataclass

import zstandard

from kinetrum.core.text.printed_lines import Fold, Line
from kinetrum.storage.db.database import execute, query

HEAD_BYTES, TAIL_BYTES, BLOCK_BYTES = 4 * 1024 * 1024, 12 * 1024 * 1024, 128 * 1024


@dataclass(frozen=True)
class Numbered:
    """A line with its number within the run's output, from 0 on."""

    number: int
    line: Line


@dataclass(frozen=True)
class Extent:
    """How much there is: lines before `next_line`, of which those from `head_end` to `tail_begin` were left out."""

    next_line: int
    head_end: int
    tail_begin: int
    kept_bytes: int

    @property
    def left_out(self) -> int:
        """How many lines were left out between head and tail."""
        return self.tail_begin - self.head_end


def begin_append(run_id: int, writer: bytes) -> tuple[int, dict[str, Fold]]:
    """Lock the run's output; returns the writer's position and its open lines by stream."""
    execute("INSERT IGNORE INTO run_output (run_id, next_line, head_end, kept_bytes) VALUES (%s, 0, NULL, 0)", run_id)
    query("SELECT run_id FROM run_output WHERE run_id = %s FOR UPDATE", run_id)
    rows = query("SELECT position, open_lines FROM output_writer WHERE run_id = %s AND writer_uid = %s", run_id, writer)
    if not rows:
        return 0, {}
    return int(rows[0][0]), {state["stream"]: Fold.from_state(state) for state in json.loads(rows[0][1])}


def end_append(run_id: int, writer: bytes, position: int, folds: dict[str, Fold], lines: list[Line]) -> None:
    """Keep finished lines, the writer's open ones and its new position."""
    states = json.dumps([fold.state() for fold in folds.values()], separators=(",", ":"))
    execute(
        "INSERT INTO output_writer (run_id, writer_uid, position, open_lines) VALUES (%s, %s, %s, %s)"
        " ON DUPLICATE KEY UPDATE position = VALUES(position), open_lines = VALUES(open_lines)",
        run_id,
        writer,
        position,
        states,
    )
    if lines:
        _add_lines(run_id, lines)


def _size(line: Line) -> int:
    return len(line.text) + 24


def _pack(lines: list[Line]) -> bytes:
    columns = [[line.at for line in lines], [line.stream for line in lines], [line.text for line in lines]]
    text = json.dumps(columns, separators=(",", ":"), ensure_ascii=False)
    return zstandard.ZstdCompressor(level=3).compress(text.encode())


def _unpack(raw: bytes) -> list[Line]:
    return [Line(*row) for row in zip(*json.loads(zstandard.ZstdDecompressor().decompress(raw)), strict=True)]


def _add_lines(run_id: int, lines: list[Line]) -> None:
    ((next_line, head_end, kept),) = query(
        "SELECT next_line, head_end, kept_bytes FROM run_output WHERE run_id = %s", run_id
    )
    last = query(
        "SELECT first_line, line_count, size_bytes, payload FROM output_block WHERE run_id = %s"
        " ORDER BY first_line DESC LIMIT 1",
        run_id,
    )
    first, added = next_line, sum(map(_size, lines))
    if last and last[0][2] + added <= BLOCK_BYTES and last[0][0] + last[0][1] == next_line:
        # The last block is topped up: a line a second makes no block a second.
        first, before = last[0][0], last[0][2]
        lines, kept = _unpack(last[0][3]) + lines, kept - before
    for block in _blocks(lines):
        size = sum(map(_size, block))
        execute(
            "REPLACE INTO output_block (run_id, first_line, line_count, size_bytes, payload)"
            " VALUES (%s, %s, %s, %s, %s)",
            run_id,
            first,
            len(block),
            size,
            _pack(block),
        )
        first, kept = first + len(block), kept + size
        if head_end is None and kept >= HEAD_BYTES:
            head_end = first
    kept -= _drop_middle(run_id, head_end, kept)
    execute(
        "UPDATE run_output SET next_line = %s, head_end = %s, kept_bytes = %s WHERE run_id = %s",
        first,
        head_end,
        kept,
        run_id,
    )


def _blocks(lines: list[Line]) -> list[list[Line]]:
    found: list[list[Line]] = []
    size = BLOCK_BYTES
    for line in lines:
        if size >= BLOCK_BYTES:
            found.append([])
            size = 0
        found[-1].append(line)
        size += _size(line)
    return found


def _drop_middle(run_id: int, head_end: int | None, kept: int) -> int:
    """Delete the oldest blocks behind the head until the tail fits; returns how many bytes that freed."""
    freed = 0
    if head_end is None or kept <= HEAD_BYTES + TAIL_BYTES:
        return freed
    rows = query(
        "SELECT first_line, size_bytes FROM output_block WHERE run_id = %s AND first_line >= %s ORDER BY first_line",
        run_id,
        head_end,
    )
    for first, size in rows[:-1]:
        if kept - freed <= HEAD_BYTES + TAIL_BYTES:
            break
        execute("DELETE FROM output_block WHERE run_id = %s AND first_line = %s", run_id, first)
        freed += size
    return freed


def add_imported(run_id: int, lines: list[Line]) -> None:
    """Keep the lines of a run that comes from an archive, behind those that are there."""
    execute("INSERT IGNORE INTO run_output (run_id, next_line, head_end, kept_bytes) VALUES (%s, 0, NULL, 0)", run_id)
    query("SELECT run_id FROM run_output WHERE run_id = %s FOR UPDATE", run_id)
    if lines:
        _add_lines(run_id, lines)


def finish_writers(run_id: int) -> None:
    """Turn every writer's open lines into finished ones: the run has ended."""
    rows = query("SELECT writer_uid FROM output_writer WHERE run_id = %s AND open_lines <> '[]'", run_id)
    for (writer,) in rows:
        position, folds = begin_append(run_id, writer)
        lines = [line for fold in folds.values() for line in fold.finish()]
        end_append(run_id, writer, position, {}, lines)


def extent(run_id: int) -> Extent:
    """Return how much output a run has."""
    rows = query("SELECT next_line, head_end, kept_bytes FROM run_output WHERE run_id = %s", run_id)
    if not rows:
        return Extent(0, 0, 0, 0)
    next_line, head_end, kept = rows[0]
    if head_end is None:
        return Extent(next_line, next_line, next_line, kept)
    ((tail,),) = query(
        "SELECT MIN(first_line) FROM output_block WHERE run_id = %s AND first_line >= %s", run_id, head_end
    )
    return Extent(next_line, head_end, next_line if tail is None else tail, kept)


def line_count(run_id: int) -> int:
    """Return how many lines a run printed, counting those that may still change."""
    return extent(run_id).next_line + len(open_lines(run_id))


def open_lines(run_id: int) -> list[Line]:
    """Return the lines that may still change, such as progress bars; those of one stream stay in their order."""
    rows = query("SELECT open_lines FROM output_writer WHERE run_id = %s AND open_lines <> '[]'", run_id)
    streams = [Fold.from_state(state).pending() for (states,) in rows for state in json.loads(states)]
    return [line for stream in sorted(filter(None, streams), key=lambda stream: stream[0].at) for line in stream]


def blocks_from(run_id: int, first: int, backwards: bool = False) -> list[tuple[int, int]]:
    """Return (first line, number of lines) of the blocks that hold lines from `first` on."""
    order = "DESC" if backwards else "ASC"
    return query(
        "SELECT first_line, line_count FROM output_block WHERE run_id = %s AND first_line + line_count > %s"
        f" ORDER BY first_line {order}",
        run_id,
        first,
    )


def read_block(run_id: int, first: int) -> list[Numbered]:
    """Return one block's lines."""
    rows = query("SELECT payload FROM output_block WHERE run_id = %s AND first_line = %s", run_id, first)
    return [Numbered(first + at, line) for at, line in enumerate(_unpack(rows[0][0]))] if rows else []
