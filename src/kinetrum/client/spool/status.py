"""Looking into the spool: what waits there, where it goes, and why it does not arrive."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path

from kinetrum.client.sender.delivery import Delivery
from kinetrum.client.sender.file_queue import FILE_RECORDS, later_name, read_later, waiting_files
from kinetrum.client.spool.destinations import read_destination
from kinetrum.client.spool.layout import HEADER_SIZE, JSON, OUTPUT, POINTS
from kinetrum.client.spool.obstructions import HELD_FILES_NOTE, HELD_NOTE, Obstruction, obstruction_of, read_note
from kinetrum.client.spool.segments import Record, all_records, find_sealed
from kinetrum.core.base.errors import Unavailable
from kinetrum.core.base.values import JsonObject

# Stands for the run or destination of what its writer's death cut off from its declaration.
UNKNOWN = "?"


@dataclass(frozen=True)
class Behind:
    """One record that waits: its run and destination, and the segment that it lies in."""

    record: Record
    run: str
    to: str
    segment: int


@dataclass(frozen=True)
class Undelivered:
    """What one process recorded and the service has not acknowledged.

    `obstacle` says why nothing of it may be delivered from here; `addresses` are where it goes; `obstruction` is what
    stood in the way at the last try. `begun` are those of `runs` whose beginning waits too.
    """

    writer: str
    alive: bool
    records: int
    points: int
    runs: list[str]
    obstacle: str | None = None
    destinations: list[str] = field(default_factory=list)
    addresses: list[str] = field(default_factory=list)
    obstruction: Obstruction | None = None
    begun: list[str] = field(default_factory=list)


def undelivered(root: Path) -> list[Undelivered]:
    """List writers with undelivered records."""
    items = []
    for folder in sorted((root / "writers").glob("*")):
        waiting = _while_delivered(folder)
        if waiting is not None and (waiting.records or waiting.points or waiting.obstacle):
            items.append(waiting)
    return items


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
    records = points = 0
    runs: dict[str, bool] = {}
    names: set[str] = set()
    try:
        for behind in records_behind(delivery):
            begins = behind.record.kind == JSON and behind.record.data["op"] == "begin"
            runs[behind.run] = runs.get(behind.run, False) or begins
            if behind.to != UNKNOWN:
                names.add(behind.to)
            if behind.record.kind == POINTS:
                points += behind.record.count
            else:
                records += 1
        for address in filter(None, map(read_later, waiting_files(folder))):
            records += 1
            runs.setdefault(address["run"], False)
            names.add(address["to"])
    except ValueError:
        # Of a later format not even the records can be told apart.
        records, points, runs = 0, 0, {}
    root = folder.parent.parent
    return Undelivered(
        folder.name,
        delivery.writer_lives,
        records,
        points,
        sorted(runs),
        obstacle,
        sorted(names),
        sorted({described(root, name) for name in names}),
        standing_in_the_way(folder, names),
        sorted(run for run, begins in runs.items() if begins),
    )


def standing_in_the_way(folder: Path, destinations: set[str]) -> Obstruction | None:
    """Return what stood in the way of a writer's records at the last try: of all that go there, or of these alone."""
    root = folder.parent.parent
    notes = [read_note(folder / HELD_NOTE), read_note(folder / HELD_FILES_NOTE)]
    notes += [obstruction_of(root, name) for name in sorted(destinations)]
    return next((note for note in notes if note is not None), None)


def described(root: Path, name: str) -> str:
    """Say where a destination is, for people."""
    try:
        return read_destination(root, name).described
    except Unavailable:
        return "unknown"


def records_behind(delivery: Delivery, most: int | None = None) -> Iterator[Behind]:
    """Yield what waits behind the position, with the run and the destination that it belongs to.

    Of more than `most` segments only the first and the last half of so many are read.
    """
    shapes: dict[int, tuple[str, str]] = {}
    places = {run: address["to"] for run, address in delivery.open_runs.items()}
    paths = sorted(delivery.folder.glob("*.seg"))
    if most is not None and len(paths) > most:
        paths = [*paths[: most // 2], *paths[-(most - most // 2) :]]
    for path in paths:
        number = int(path.stem)
        # What was acknowledged is read for its shapes only. Neighbouring points come as one stretch, and the
        # position may lie within it: what waits is read from the position on.
        acknowledged = delivery.offset if number == delivery.segment else math.inf if number < delivery.segment else 0
        for record in _sealed(delivery, path, 0):
            if record.start >= acknowledged:
                break
            _note(record, shapes, places)
        if math.isinf(acknowledged):
            continue
        for record in _sealed(delivery, path, int(acknowledged)):
            _note(record, shapes, places)
            owner = _owner(record, shapes, places)
            if owner is not None:
                yield Behind(record, *owner, number)


def file_of(behind: Behind) -> str | None:
    """Return the name under which a record of files waits once it was passed on, None of other records."""
    if behind.record.kind == JSON and behind.record.data["op"] in FILE_RECORDS:
        return later_name(behind.segment, behind.record.start)
    return None


def _sealed(delivery: Delivery, path: Path, start: int) -> Iterator[Record]:
    """Yield sealed records, also those behind what a dead writer left unsealed."""
    at: int | None = start
    while at is not None:
        for record in all_records(path, at):
            yield record
            at = record.end
        at = None if delivery.writer_lives else find_sealed(path, max(at, HEADER_SIZE))


def _note(record: Record, shapes: dict[int, tuple[str, str]], places: dict[str, str]) -> None:
    if record.kind != JSON:
        return
    data: JsonObject = record.data
    places[data["run"]] = data["to"]
    if data["op"] == "shape":
        shapes[data["shape"]] = data["run"], data["to"]


def _owner(record: Record, shapes: dict[int, tuple[str, str]], places: dict[str, str]) -> tuple[str, str] | None:
    """Return the run and destination that a record belongs to, None for what only says what others mean."""
    if record.kind == JSON:
        return None if record.data["op"] == "shape" else (str(record.data["run"]), str(record.data["to"]))
    if record.kind == OUTPUT:
        return str(record.data.run), places.get(record.data.run, UNKNOWN)
    return shapes.get(record.shape, (UNKNOWN, UNKNOWN)) if record.kind == POINTS else None
