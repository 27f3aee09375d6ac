"""What runs printed: numbered lines in packed blocks, the head and the tail of them kept.

Guarantee: every writer's output has a position; what was kept once is not kept again, however often it is sent.
A run's row is locked while lines are added, so that numbers have no gap but the stretch that was left out.
"""

from __future__ import annotations

import json
from dataclasses import dataclass

import zstandard
from peewee import fn

from kinetrum.core.text.printed_lines import Fold, Line
from kinetrum.storage.db.database import insert_rows, lock_rows, named_rows
from kinetrum.storage.tables.runs import OutputBlock, OutputWriter, RunOutput

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
    _lock_output(run_id)
    row = OutputWriter.get_or_none(OutputWriter.run_id == run_id, OutputWriter.writer_uid == writer)
    if row is None:
        return 0, {}
    return row.position, {state["stream"]: Fold.from_state(state) for state in json.loads(row.open_lines)}


def _lock_output(run_id: int) -> None:
    RunOutput.insert(run_id=run_id, next_line=0, head_end=None, kept_bytes=0).on_conflict_ignore().execute()
    lock_rows(RunOutput.select(RunOutput.run_id).where(RunOutput.run_id == run_id))


def end_append(run_id: int, writer: bytes, position: int, folds: dict[str, Fold], lines: list[Line]) -> None:
    """Keep finished lines, the writer's open ones and its new position."""
    states = json.dumps([fold.state() for fold in folds.values()], separators=(",", ":"))
    insert_rows(
        OutputWriter,
        [OutputWriter.run_id, OutputWriter.writer_uid, OutputWriter.position, OutputWriter.open_lines],
        [(run_id, writer, position, states)],
        renew=[OutputWriter.position, OutputWriter.open_lines],
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
    output = RunOutput.get_by_id(run_id)
    head_end, kept_bytes = output.head_end, output.kept_bytes
    last = OutputBlock.select().where(OutputBlock.run_id == run_id).order_by(OutputBlock.first_line.desc()).first()
    first, added = output.next_line, sum(map(_size, lines))
    if last and last.size_bytes + added <= BLOCK_BYTES and last.first_line + last.line_count == first:
        # The last block is topped up: a line a second makes no block a second.
        first = last.first_line
        lines, kept_bytes = _unpack(last.payload) + lines, kept_bytes - last.size_bytes
    for block in _blocks(lines):
        size = sum(map(_size, block))
        OutputBlock.replace(
            run_id=run_id, first_line=first, line_count=len(block), size_bytes=size, payload=_pack(block)
        ).execute()
        first, kept_bytes = first + len(block), kept_bytes + size
        if head_end is None and kept_bytes >= HEAD_BYTES:
            head_end = first
    kept_bytes -= _drop_middle(run_id, head_end, kept_bytes)
    changes = RunOutput.update(next_line=first, head_end=head_end, kept_bytes=kept_bytes)
    changes.where(RunOutput.run_id == run_id).execute()


def _blocks(lines: list[Line]) -> list[list[Line]]:
    blocks: list[list[Line]] = []
    size = BLOCK_BYTES
    for line in lines:
        if size >= BLOCK_BYTES:
            blocks.append([])
            size = 0
        blocks[-1].append(line)
        size += _size(line)
    return blocks


def _drop_middle(run_id: int, head_end: int | None, kept_bytes: int) -> int:
    """Delete the oldest blocks behind the head until the tail fits; returns how many bytes that freed."""
    freed = 0
    if head_end is None or kept_bytes <= HEAD_BYTES + TAIL_BYTES:
        return freed
    behind = OutputBlock.select(OutputBlock.first_line, OutputBlock.size_bytes).where(
        OutputBlock.run_id == run_id, OutputBlock.first_line >= head_end
    )
    for block in named_rows(behind.order_by(OutputBlock.first_line))[:-1]:
        if kept_bytes - freed <= HEAD_BYTES + TAIL_BYTES:
            break
        OutputBlock.delete().where(OutputBlock.run_id == run_id, OutputBlock.first_line == block.first_line).execute()
        freed += block.size_bytes
    return freed


def add_imported(run_id: int, lines: list[Line]) -> None:
    """Keep the lines of a run that comes from an archive, behind those that are there."""
    _lock_output(run_id)
    if lines:
        _add_lines(run_id, lines)


def finish_writers(run_id: int) -> None:
    """Turn every writer's open lines into finished ones: the run has ended."""
    for writer in _writers_with_open_lines(run_id):
        position, folds = begin_append(run_id, writer.writer_uid)
        lines = [line for fold in folds.values() for line in fold.finish()]
        end_append(run_id, writer.writer_uid, position, {}, lines)


def _writers_with_open_lines(run_id: int) -> list[OutputWriter]:
    return list(OutputWriter.select().where(OutputWriter.run_id == run_id, OutputWriter.open_lines != "[]"))


def extent(run_id: int) -> Extent:
    """Return how much output a run has."""
    output = RunOutput.get_or_none(RunOutput.run_id == run_id)
    if output is None:
        return Extent(0, 0, 0, 0)
    next_line, head_end = output.next_line, output.head_end
    if head_end is None:
        return Extent(next_line, next_line, next_line, output.kept_bytes)
    tail = (
        OutputBlock.select(fn.MIN(OutputBlock.first_line))
        .where(OutputBlock.run_id == run_id, OutputBlock.first_line >= head_end)
        .scalar()
    )
    return Extent(next_line, head_end, next_line if tail is None else tail, output.kept_bytes)


def line_count(run_id: int) -> int:
    """Return how many lines a run printed, counting those that may still change."""
    return extent(run_id).next_line + len(open_lines(run_id))


def open_lines(run_id: int) -> list[Line]:
    """Return the lines that may still change, such as progress bars; those of one stream stay in their order."""
    writers = _writers_with_open_lines(run_id)
    streams = [Fold.from_state(state).pending() for writer in writers for state in json.loads(writer.open_lines)]
    return [line for stream in sorted(filter(None, streams), key=lambda stream: stream[0].at) for line in stream]


def blocks_from(run_id: int, first: int, backwards: bool = False) -> list[tuple[int, int]]:
    """Return (first line, number of lines) of the blocks that hold lines from `first` on."""
    order = OutputBlock.first_line.desc() if backwards else OutputBlock.first_line.asc()
    blocks = OutputBlock.select(OutputBlock.first_line, OutputBlock.line_count).where(
        OutputBlock.run_id == run_id, OutputBlock.first_line + OutputBlock.line_count > first
    )
    return [(block.first_line, block.line_count) for block in named_rows(blocks.order_by(order))]


def read_block(run_id: int, first: int) -> list[Numbered]:
    """Return one block's lines."""
    block = OutputBlock.get_or_none(OutputBlock.run_id == run_id, OutputBlock.first_line == first)
    return [Numbered(first + at, line) for at, line in enumerate(_unpack(block.payload))] if block else []
