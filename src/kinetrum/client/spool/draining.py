"""Waiting for the spool to be delivered: what was recorded until now, and as long as it is of use."""

from __future__ import annotations

import os
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

from kinetrum.client.sender.delivery import Delivery
from kinetrum.client.sender.file_queue import read_later, waiting_files
from kinetrum.client.sender.launch import start_sender
from kinetrum.client.spool.destinations import read_destination
from kinetrum.client.spool.obstructions import Obstruction, ask_again
from kinetrum.client.spool.status import Behind, file_of, records_behind, standing_in_the_way, undelivered
from kinetrum.core.base.errors import KinetrumError, NotSignedIn, Unavailable

_UNKNOWN_S = 5.0
# A wait looks at no more than so many segments of 4 MiB of one writer: of a longer backlog at its beginning and end.
_SEGMENTS_READ = 16
_PAUSE_S = (0.02, 0.25)
Wanted = Callable[[str, str], bool]


@dataclass
class Mark:
    """How far one writer's records have to be delivered: until a place in a segment, and these files."""

    folder: Path
    segment: int = 0
    offset: int = 0
    patient: bool = True
    is_whole: bool = True
    files: set[str] = field(default_factory=set)
    runs: set[str] = field(default_factory=set)
    destinations: set[str] = field(default_factory=set)
    records: int = 0

    def add(self, behind: Behind) -> None:
        """One more record has to be delivered."""
        self.segment, self.offset = behind.segment, behind.record.end
        name = file_of(behind)
        if name is not None:
            self.files.add(name)
        self._add(behind.run, behind.to, behind.record.count or 1)

    def add_file(self, path: Path) -> None:
        """A record of files has to be delivered that was passed on before."""
        record = read_later(path)
        if record is not None:
            self.files.add(path.stem)
            self._add(record["run"], record["to"], 1)

    def _add(self, run: str, to: str, count: int) -> None:
        self.runs.add(run)
        self.destinations.add(to)
        self.records += count

    def is_reached(self) -> bool:
        """Tell whether all of it is acknowledged, or waits for a run that nobody knows and this does not wait with."""
        if not self.folder.exists():
            return True
        delivery = Delivery(self.folder)
        if not self.patient and _unknown_for_long(delivery):
            return True
        if self.segment and (delivery.segment, delivery.offset) < (self.segment, self.offset):
            return not self.folder.exists()
        return not any((self.folder / "later" / f"{name}.json").exists() for name in self.files)

    def obstruction(self) -> Obstruction | None:
        """Return what stood in the way at the last try."""
        return standing_in_the_way(self.folder, self.destinations)


def _unknown_for_long(delivery: Delivery) -> bool:
    """Tell whether a dead process's run is not known to the service, and has not been for a while.

    The sender goes on asking for it; a call that has nothing to do with that run does not wait with it.
    """
    return not delivery.writer_lives and not delivery.is_patient(_UNKNOWN_S)


def mark_of(folder: Path, wanted: Wanted, patient: bool = False) -> Mark | None:
    """Mark what waits in a writer's folder and may be delivered here; None where nothing does."""
    while folder.exists():
        mark = Mark(folder, patient=patient)
        try:
            delivery = Delivery(folder)
            if delivery.obstacle() is not None or (not patient and _unknown_for_long(delivery)):
                return None
            for path in waiting_files(folder):
                record = read_later(path)
                if record is not None and wanted(record["run"], record["to"]):
                    mark.add_file(path)
            last = None
            for behind in records_behind(delivery, _SEGMENTS_READ):
                last = behind
                if wanted(behind.run, behind.to):
                    mark.add(behind)
            mark.is_whole = sum(1 for _ in folder.glob("*.seg")) <= _SEGMENTS_READ
            is_open_here = any(wanted(run, address["to"]) for run, address in delivery.open_runs.items())
            if last is not None and not mark.is_whole and (mark.records or is_open_here):
                # In between may be more of what is wanted: until its end everything has to be delivered.
                mark.add(last)
        except FileNotFoundError:
            # The sender removed a segment meanwhile: something was acknowledged then.
            continue
        return mark if mark.records else None
    return None


def marks_of(root: Path, wanted: Wanted, patient: bool = False) -> list[Mark]:
    """Mark what waits in a spool until now, of the runs and destinations that are wanted."""
    marks = [mark_of(folder, wanted, patient) for folder in sorted((root / "writers").glob("*"))]
    return [mark for mark in marks if mark is not None]


def wait_for(root: Path, marks: list[Mark], timeout_s: float, until_obstructed: bool = False) -> list[Mark]:
    """Wait until marks are reached and return those that were not.

    With `until_obstructed`, what is tried while this waits and does not arrive is not waited for any longer; nor is
    anything where nobody delivers.
    """
    if not marks:
        return []
    give_up, pause = time.monotonic() + timeout_s, _PAUSE_S[0]
    asked_moment = ask_again(root) if any(mark.obstruction() for mark in marks) else None
    while True:
        marks = [mark for mark in marks if not mark.is_reached()]
        if not marks or time.monotonic() > give_up:
            return marks
        if until_obstructed and os.environ.get("KINETRUM_SENDER") == "off":
            return marks
        if asked_moment is None:
            # Nothing stood in the way when this began. What does now may be no more than what an earlier process
            # knew of proxies, authorities and tokens: it is tried once with what holds here.
            asked_moment = ask_again(root) if any(mark.obstruction() for mark in marks) else None
        elif until_obstructed and all(_stands(mark, asked_moment) for mark in marks):
            return marks
        start_sender(root)
        time.sleep(pause)
        pause = min(pause * 1.5, _PAUSE_S[1])


def _stands(mark: Mark, since: float) -> bool:
    """Tell whether a mark was tried since a moment and something stood in its way."""
    obstruction = mark.obstruction()
    if obstruction is None or obstruction.tried_at < since:
        return False
    # The beginning of a run may come from another process of this machine, a moment later.
    return obstruction.kind != "unknown-run" or obstruction.tried_at - obstruction.since > _UNKNOWN_S


def drain(root: Path, timeout_s: float, run: str | None = None, *, until_obstructed: bool = False) -> None:
    """Wait until everything recorded until now (of one run, if named) is acknowledged.

    Raises NotSignedIn or Unavailable after `timeout_s`, with what stands in the way; with `until_obstructed`, as soon
    as something does.
    """
    marks = marks_of(root, lambda of, _: run is None or of == run, patient=run is not None)
    left = wait_for(root, marks, timeout_s, until_obstructed)
    if left:
        raise not_arrived(root, left, timeout_s)


def not_arrived(root: Path, left: list[Mark], timeout_s: float) -> KinetrumError:
    """Return the error that tells what was not acknowledged, and why."""
    obstruction = _first_obstruction(left)
    kind = NotSignedIn if obstruction is not None and obstruction.kind == "not-signed-in" else Unavailable
    were = f"{_counted(root, left)} not acknowledged"
    if obstruction is not None:
        return kind(f"{were}: {obstruction.reason} They are safe in {root}; see 'kinetrum spool'.")
    return kind(f"{were} within {timeout_s:.0f} s{_if_off()}. They are safe in {root}; see 'kinetrum spool'.")


def told_left(root: Path, left: list[Mark]) -> str:
    """Say in one line what was not delivered, and why."""
    obstruction = _first_obstruction(left)
    why = f": {obstruction.reason}" if obstruction is not None else f"{_if_off() or '; delivery goes on'}."
    return f"{_counted(root, left)} not delivered yet{why} 'kinetrum spool' shows more."


def _counted(root: Path, left: list[Mark]) -> str:
    runs = len(set().union(*(mark.runs for mark in left)))
    if all(mark.is_whole for mark in left):
        names = {mark.folder.name for mark in left}
        now = [item for item in undelivered(root) if item.writer in names]
        count = sum(item.records + item.points for item in now) or sum(mark.records for mark in left)
        records = "1 record of" if count == 1 else f"{count} records of"
    else:
        count = sum(mark.records for mark in left)
        records = f"Over {count} records of"
    return f"{records} {runs} {'run' if runs == 1 else 'runs'} {'was' if count == 1 else 'were'}"


def _first_obstruction(left: list[Mark]) -> Obstruction | None:
    return next(filter(None, (mark.obstruction() for mark in left)), None)


def _if_off() -> str:
    return "; KINETRUM_SENDER=off keeps them here" if os.environ.get("KINETRUM_SENDER") == "off" else ""


def goes_to(root: Path, url: str) -> Wanted:
    """Return what tells whether records go to a service now."""
    known: dict[str, bool] = {}

    def tell(_: str, to: str) -> bool:
        if to not in known:
            known[to] = url in addresses_now(root, to)
        return known[to]

    return tell


def addresses_now(root: Path, name: str) -> set[str]:
    """Return where a destination's records would be sent now; nothing where no service is known."""
    try:
        return {address for address, _ in read_destination(root, name).targets(root)}
    except Unavailable:
        return set()
