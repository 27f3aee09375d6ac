"""Waiting for the spool to be delivered, and looking into it."""

from __future__ import annotations

import time
from dataclasses import dataclass
from pathlib import Path

from kinetrum.client.delivery import Delivery
from kinetrum.client.later import run_of, waiting_files
from kinetrum.client.segments import JSON, OUTPUT, POINTS, Record, all_records
from kinetrum.client.starting import start_sender
from kinetrum.core.errors import Unavailable


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
    shapes: dict[int, str] = {}
    for path in sorted(delivery.folder.glob("*.seg")):
        number = int(path.stem)
        for record in all_records(path):
            if record.kind == JSON and record.data["op"] == "shape":
                shapes[record.data["shape"]] = record.data["run"]
            if number < delivery.segment or (number == delivery.segment and record.start < delivery.offset):
                continue
            if record.kind == JSON and record.data["op"] != "shape":
                records += 1
                runs.add(record.data["run"])
            elif record.kind == POINTS:
                points += record.count
                runs.add(shapes.get(record.shape, "?"))
            elif record.kind == OUTPUT:
                records += 1
                runs.add(record.data.run)
    return records, points, runs


def _waits(folder: Path, run: str | None) -> bool:
    """Tell whether a writer's folder holds something undelivered (of one run, if named) that may be delivered here."""
    try:
        delivery = Delivery(folder)
        if delivery.obstacle() is not None:
            return False
        later = waiting_files(folder)
        if later and (run is None or run in {run_of(path) for path in later}):
            return True
        return delivery.pending() and (run is None or _waits_of(delivery, run))
    except FileNotFoundError:
        # The sender removed a segment meanwhile: something was acknowledged; the next look tells what is left.
        return folder.exists()


def _waits_of(delivery: Delivery, run: str) -> bool:
    runs: dict[int, str] = {}
    for path in sorted(delivery.folder.glob("*.seg")):
        if int(path.stem) < delivery.segment:
            continue
        for record in all_records(path):
            if record.kind == JSON and record.data["op"] == "shape":
                runs[record.data["shape"]] = record.data["run"]
            acknowledged = int(path.stem) == delivery.segment and record.start < delivery.offset
            if not acknowledged and _run_of(record, runs) == run:
                return True
    return False


def _run_of(record: Record, runs: dict[int, str]) -> str | None:
    """Return the run that a record belongs to; `runs` knows it by shape."""
    if record.kind == JSON:
        return str(record.data["run"])
    if record.kind == OUTPUT:
        return str(record.data.run)
    return runs.get(record.shape) if record.kind == POINTS else None


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
