"""Waiting for the spool to be delivered, and looking into it."""

from __future__ import annotations

import math
import time
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from kinetrum.client.delivery import Delivery
from kinetrum.client.later import run_of, waiting_files
from kinetrum.client.segments import HEADER_SIZE, JSON, OUTPUT, POINTS, Record, all_records, find_sealed
from kinetrum.client.starting import start_sender
from kinetrum.core.errors import Unavailable

_UNKNOWN_S = 5.0


@dataclass(frozen=True)
class Undelivered:
    """What one process recorded and the service has not acknowledged."""

    writer: str
    alive: bool
    records: int
    points: int
    runs: list[str]
    obstacle: str | None = None


def undelivered(root: Path) -> list[Undelivered]:
    """List writers with undelivered records."""
    found = []
    for folder in sorted((root / "writers").glob("*")):
        waiting = _while_delivered(folder)
        if waiting is not None and (waiting.records or waiting.points or waiting.obstacle):
            found.append(waiting)
    return found


def _while_delivered(folder: Path) -> Undelivered | None:
    """Look again where the sender removed a segment meanwhile: something was acknowledged then."""
    while folder.exists():
        try:
            return _undelivered_of(folder)
        except FileNotFoundError:
            continue
    return None


def _undelivered_of(folder: Path) -> Undelivered:
    delivery = Delivery(folder)
    obstacle = delivery.obstacle()
    later = waiting_files(folder)
    try:
        records, points, runs = _count(delivery)
        records += len(later)
        runs |= {run for path in later if (run := run_of(path)) is not None}
    except ValueError:
        # Of a later format not even the records can be told apart.
        records, points, runs = 0, 0, set()
    return Undelivered(folder.name, delivery.writer_lives, records, points, sorted(runs), obstacle)


def _count(delivery: Delivery) -> tuple[int, int, set[str]]:
    records = points = 0
    runs: set[str] = set()
    for record, run in _behind(delivery):
        runs.add(run)
        if record.kind == POINTS:
            points += record.count
        else:
            records += 1
    return records, points, runs


def _behind(delivery: Delivery) -> Iterator[tuple[Record, str]]:
    """Yield what waits behind the position, and the run that it belongs to."""
    shapes: dict[int, str] = {}
    for path in sorted(delivery.folder.glob("*.seg")):
        number = int(path.stem)
        # What was acknowledged is read for its shapes only. Neighbouring points come as one stretch, and the
        # position may lie within it: what waits is read from the position on.
        acknowledged = delivery.offset if number == delivery.segment else math.inf if number < delivery.segment else 0
        for record in _sealed(delivery, path, 0):
            if record.start >= acknowledged:
                break
            _note_shape(record, shapes)
        if math.isinf(acknowledged):
            continue
        for record in _sealed(delivery, path, int(acknowledged)):
            _note_shape(record, shapes)
            run = _run_of(record, shapes)
            if run is not None:
                yield record, run


def _sealed(delivery: Delivery, path: Path, start: int) -> Iterator[Record]:
    """Yield sealed records, also those behind what a dead writer left unsealed."""
    at: int | None = start
    while at is not None:
        for record in all_records(path, at):
            yield record
            at = record.end
        at = None if delivery.writer_lives else find_sealed(path, max(at, HEADER_SIZE))


def _note_shape(record: Record, shapes: dict[int, str]) -> None:
    if record.kind == JSON and record.data["op"] == "shape":
        shapes[record.data["shape"]] = record.data["run"]


def _unknown_for_long(delivery: Delivery) -> bool:
    """Tell whether a dead process's run is not known to the service, and has not been for a while.

    The sender goes on asking for it; a call that has nothing to do with that run does not wait with it.
    """
    return not delivery.writer_lives and not delivery.is_patient(_UNKNOWN_S)


def _waits(folder: Path, run: str | None) -> bool:
    """Tell whether a writer's folder holds something undelivered (of one run, if named) that may be delivered here."""
    try:
        delivery = Delivery(folder)
        if delivery.obstacle() is not None or (run is None and _unknown_for_long(delivery)):
            return False
        later = waiting_files(folder)
        if later and (run is None or run in {run_of(path) for path in later}):
            return True
        return delivery.pending() and (run is None or any(of == run for _, of in _behind(delivery)))
    except FileNotFoundError:
        # The sender removed a segment meanwhile: something was acknowledged; the next look tells what is left.
        return folder.exists()


def _run_of(record: Record, shapes: dict[int, str]) -> str | None:
    """Return the run that a record belongs to, None for what only says what others mean."""
    if record.kind == JSON:
        return None if record.data["op"] == "shape" else str(record.data["run"])
    if record.kind == OUTPUT:
        return str(record.data.run)
    return shapes.get(record.shape, "?") if record.kind == POINTS else None


def drain(root: Path, timeout_s: float, run: str | None = None) -> None:
    """Wait until everything (of one run, if named) is acknowledged; raises Unavailable after `timeout_s`."""
    give_up = time.monotonic() + timeout_s
    pause = 0.02
    while any(_waits(folder, run) for folder in (root / "writers").glob("*")):
        if time.monotonic() > give_up:
            left = [item for item in undelivered(root) if item.obstacle is None and (run is None or run in item.runs)]
            count = sum(item.records + item.points for item in left)
            raise Unavailable(
                f"{count} records were not acknowledged within {timeout_s:.0f} s; they are safe in {root}. "
                "See 'kinetrum spool list'."
            )
        start_sender(root)
        time.sleep(pause)
        pause = min(pause * 1.5, 0.25)
