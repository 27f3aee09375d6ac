"""Printed output of runs: taken in by position, read by line, searched."""

from __future__ import annotations

import json
from collections.abc import Iterator
from dataclasses import dataclass

from kinetrum.actions.context import Actor, enter
from kinetrum.actions.search.references import find_run, run_to_write
from kinetrum.core.base.errors import InvalidInput
from kinetrum.core.base.ids import id_bytes
from kinetrum.core.text.printed_lines import STREAMS, Fold, Line, plain
from kinetrum.storage.db.database import snapshot, transaction
from kinetrum.storage.live import events
from kinetrum.storage.runs import outputs, runs
from kinetrum.storage.runs.outputs import Extent, Numbered

LINES_LIMIT = 5_000
_FINAL = frozenset({"finished", "failed", "stopped"})


@dataclass(frozen=True)
class Piece:
    """Text as it was printed: where in its writer's records, when (microseconds since 1970), to which stream."""

    position: int
    at: int
    stream: str
    text: str


@dataclass(frozen=True)
class Output:
    """Lines of a run's output in order, those that may still change, and how much there is."""

    lines: list[Numbered]
    unfinished: list[Line]
    extent: Extent
    more: bool


@transaction
def add_output(actor: Actor, project: str, experiment: str, run_ref: str, writer: str, pieces: list[Piece]) -> int:
    """Keep what a writer printed, in the order of its positions; what was kept before changes nothing.

    Returns the position up to which everything of this writer is kept.
    """
    _, run = run_to_write(actor, project, experiment, run_ref)
    uid = id_bytes(writer, "writer")
    position, folds = outputs.begin_append(run.run_id, uid)
    lines: list[Line] = []
    fresh = [piece for piece in pieces if piece.position > position]
    for piece in fresh:
        if piece.stream not in STREAMS:
            raise InvalidInput(f"Unknown stream {piece.stream!r}. Choose one of: {', '.join(STREAMS)}.", field="stream")
        fold = folds.setdefault(piece.stream, Fold(piece.stream))
        lines += fold.feed(piece.text, piece.at)
        position = max(position, piece.position)
    if fresh:
        if run.status in _FINAL:
            lines += [line for fold in folds.values() for line in fold.finish()]
        outputs.end_append(run.run_id, uid, position, folds, lines)
        runs.sign_of_life(run.run_id)
        events.tell_run(run.run_id, "output")
    return position


@dataclass(frozen=True)
class LinesAsked:
    """Which lines of a run's output: from a line on (backwards from the end without), of a stream, with a text."""

    from_line: int | None = None
    limit: int = 1_000
    stream: str | None = None
    search: str = ""


@snapshot
def read_output(
    actor: Actor,
    project: str,
    experiment: str,
    run_ref: str,
    lines: LinesAsked,
) -> Output:
    """Return lines from `from_line` on, or the last ones without it; only of a stream, only those that hold a text.

    The search takes no notice of case and colours. What may still change is told apart.
    """
    if not 1 <= lines.limit <= LINES_LIMIT:
        raise InvalidInput(f"1 to {LINES_LIMIT} lines are read at once, not {lines.limit}.", field="limit")
    if lines.stream is not None and lines.stream not in STREAMS:
        raise InvalidInput(f"Unknown stream {lines.stream!r}. Choose one of: {', '.join(STREAMS)}.", field="stream")
    run = find_run(enter(actor, project), experiment, run_ref)
    wanted = lines.search.casefold()

    def fits(line: Line) -> bool:
        return (lines.stream is None or line.stream == lines.stream) and (
            not wanted or wanted in plain(line.text).casefold()
        )

    backwards = lines.from_line is None
    fitting_lines: list[Numbered] = []
    for first, _ in outputs.blocks_from(run.run_id, lines.from_line or 0, backwards):
        block = [item for item in outputs.read_block(run.run_id, first) if item.number >= (lines.from_line or 0)]
        fitting = [item for item in block if fits(item.line)]
        fitting_lines = fitting + fitting_lines if backwards else fitting_lines + fitting
        if len(fitting_lines) > lines.limit:
            break
    more = len(fitting_lines) > lines.limit
    fitting_lines = fitting_lines[-lines.limit :] if backwards else fitting_lines[: lines.limit]
    pending = [] if more and not backwards else [line for line in outputs.open_lines(run.run_id) if fits(line)]
    return Output(fitting_lines, pending, outputs.extent(run.run_id), more)


def stream_output(actor: Actor, project: str, experiment: str, run_ref: str, form: str) -> Iterator[bytes]:
    """Yield all that is kept of a run's output: as text, or as JSON Lines with number, time and stream."""
    blocks, run_id, extent = _blocks(actor, project, experiment, run_ref)

    def pieces() -> Iterator[bytes]:
        is_whole = extent.left_out == 0
        for first, _ in blocks:
            if not is_whole and first >= extent.tail_begin:
                is_whole = True
                yield _left_out(extent, form)
            yield "".join(_written(item.number, item.line, form) for item in _block(run_id, first)).encode()
        yield "".join(_written(None, line, form) for line in _open(run_id)).encode()

    return pieces()


def _left_out(extent: Extent, form: str) -> bytes:
    text = f"{extent.left_out:,} lines were left out here"
    return (json.dumps({"left_out": extent.left_out}) if form == "jsonl" else f"[{text}]").encode() + b"\n"


def _written(number: int | None, line: Line, form: str) -> str:
    if form == "jsonl":
        fields = {"number": number, "at": line.at, "stream": line.stream, "text": line.text}
        return json.dumps(fields, ensure_ascii=False) + "\n"
    return plain(line.text) + "\n"


@snapshot
def _blocks(actor: Actor, project: str, experiment: str, run_ref: str) -> tuple[list[tuple[int, int]], int, Extent]:
    run = find_run(enter(actor, project), experiment, run_ref)
    return outputs.blocks_from(run.run_id, 0), run.run_id, outputs.extent(run.run_id)


@snapshot
def _block(run_id: int, first: int) -> list[Numbered]:
    return outputs.read_block(run_id, first)


@snapshot
def _open(run_id: int) -> list[Line]:
    return outputs.open_lines(run_id)
