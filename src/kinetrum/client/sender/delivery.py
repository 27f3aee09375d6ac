"""Delivering one writer's segments: in order, resumed where the last acknowledged record ended."""

from __future__ import annotations

import hashlib
import json
import os
import shutil
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING

from kinetrum import locks
from kinetrum.client.capture.host import host_identity
from kinetrum.client.sender.file_queue import FILE_RECORDS, later_name, put_later, waiting_files
from kinetrum.client.spool.layout import END, HEADER_SIZE, JSON, OUTPUT, POINTS, VERSION
from kinetrum.client.spool.obstructions import HELD_NOTE, note_held
from kinetrum.client.spool.segments import Printed, Record, all_records, find_sealed, read_header, read_records
from kinetrum.core.base.errors import Unavailable
from kinetrum.core.base.values import JsonObject
from kinetrum.core.text.printed_lines import STREAMS, without_overwritten

if TYPE_CHECKING:
    from kinetrum.client.sender.operations import RunCalls
    from kinetrum.core.points.codec import Group

VALUES_AT_ONCE = 200_000
SAME_MOMENT_US = 50_000
# A writer that is quicker than the service takes no more than this before the others have their turn.
ROUND_S = 1.0
# Since when a run of this writer is not known to the service.
UNKNOWN_NOTE = "unknown-since"
# Records that say what others mean, and are not sent.
_DECLARATIONS = frozenset({"shape", "prints"})


@dataclass
class Waiting:
    """Points and printed output of one run that wait to be sent together."""

    stretches: list[tuple[tuple[str, ...], Record]] = field(default_factory=list)
    values: int = 0
    pieces: list[JsonObject] = field(default_factory=list)


class Delivery:
    """Reads what one process wrote and has it sent."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.shapes: dict[int, JsonObject] = {}
        self.open_runs: dict[str, JsonObject] = {}
        # Called before a run's end is sent, while its address is known.
        self.before_end: Callable[[], None] = lambda: None
        self.segment, self.offset = self._load_position()
        self._reread = self.offset > 0

    @property
    def writer_lives(self) -> bool:
        """Tell whether the process that writes here still runs."""
        return locks.is_held(self.folder / "alive")

    def obstacle(self) -> str | None:
        """Say why this process may not deliver the segments here, None where it may."""
        for path in sorted(self.folder.glob("*.seg")):
            try:
                header = read_header(path)
            except FileNotFoundError:
                continue
            except ValueError as error:
                return str(error)
            if header is None:
                continue
            if header.version > VERSION:
                return f"written by a later version of Kinetrum (format {header.version}); install that version"
            if header.host not in {bytes(16), host_identity()} and not (self.folder / "adopted").exists():
                host = self._host()
                return f"recorded on {host}; send it there, or here with 'kinetrum spool send --from-host {host}'"
        return None

    def _host(self) -> str:
        try:
            return (self.folder / "host").read_text().strip() or "another host"
        except OSError:
            return "another host"

    def adopt(self, host: str) -> bool:
        """From now on deliver here what that host, which is gone, recorded; tells whether it did."""
        if self._host() != host:
            return False
        (self.folder / "adopted").touch()
        return True

    def _load_position(self) -> tuple[int, int]:
        try:
            segment, offset, self.open_runs = json.loads((self.folder / "position").read_text())
        except (OSError, ValueError):
            return 1, 0
        return int(segment), int(offset)

    def _save_position(self) -> None:
        part = self.folder / "position.part"
        part.write_text(json.dumps([self.segment, self.offset, self.open_runs]))
        os.replace(part, self.folder / "position")

    def _path(self) -> Path:
        return self.folder / f"{self.segment:06d}.seg"

    def pending(self) -> bool:
        """Tell whether something sealed waits behind the position."""
        if not self._path().exists():
            return False
        first = next(read_records(self._path(), self.offset, 1 << 16), None)
        if first is None and not self.writer_lives:
            return find_sealed(self._path(), max(self.offset, HEADER_SIZE)) is not None
        return first is not None and (first.kind != END or (self.folder / f"{self.segment + 1:06d}.seg").exists())

    def round(self, calls: RunCalls) -> int:
        """Send what is there, for about a second; returns the number of records sent.

        Raises Unavailable where the service is away.
        """
        sent = 0
        until = time.monotonic() + ROUND_S
        while self._path().exists():
            if self._reread:
                self._learn_again()
            ended, count = self._send_segment(calls, until)
            sent += count
            if not ended:
                break
            following = self.folder / f"{self.segment + 1:06d}.seg"
            if not following.exists():
                break
            # The position first: a segment that is gone before it is passed over would hide the ones behind it.
            done = self._path()
            self.segment, self.offset = self.segment + 1, 0
            self.shapes.clear()
            self._save_position()
            done.unlink()
        return sent

    def _learn_again(self) -> None:
        """After a restart: read the declarations and runs of this segment that were acknowledged before."""
        at: int | None = 0
        while at is not None and at < self.offset:
            for record in all_records(self._path(), at):
                if record.start >= self.offset:
                    break
                if record.kind == JSON:
                    self._note(record.data)
                at = record.end
            else:
                # A gap that was passed over before.
                at = find_sealed(self._path(), max(at, HEADER_SIZE))
                continue
            break
        self._reread = False

    def _note(self, data: JsonObject) -> None:
        if data["op"] == "shape":
            self.shapes[data["shape"]] = data
        if data["op"] == "end":
            self.open_runs.pop(data["run"], None)
        else:
            address = {key: data[key] for key in ("run", "to", "project", "experiment")}
            watched = data.get("watched", self.open_runs.get(data["run"], {}).get("watched", False))
            self.open_runs[data["run"]] = address | {"watched": watched}

    def _send_segment(self, calls: RunCalls, until: float) -> tuple[bool, int]:
        """Send a segment's records from the position on, until that moment; tells whether its end was reached."""
        sent = 0
        while True:
            waiting: dict[str, Waiting] = {}
            start = end = self.offset
            ended = False
            for record in read_records(self._path(), start):
                if record.kind == END:
                    ended = True
                    break
                if record.kind == POINTS:
                    sent += record.count
                    self._collect(waiting, record, calls)
                elif record.kind == OUTPUT:
                    sent += 1
                    self._collect_output(waiting, record)
                elif record.kind == JSON:
                    sent += 1
                    self._operate(waiting, record.data, record.start, calls)
                end = record.end
            self._flush(waiting, calls)
            if end != start:
                self.offset = end
                self._save_position()
            elif ended or not self._pass_gap():
                return ended, sent
            if ended or time.monotonic() > until:
                return ended, sent

    def _pass_gap(self) -> bool:
        """Go on behind a record that its writer, which is dead, never sealed; tells whether there was one."""
        if self.writer_lives:
            return False
        # Once more, now that nothing can be added: what is sealed at the position is no gap.
        if next(read_records(self._path(), self.offset, 1 << 16), None) is not None:
            return True
        following = find_sealed(self._path(), max(self.offset, HEADER_SIZE))
        if following is not None:
            self.offset = following
        return following is not None

    def _collect(self, waiting: dict[str, Waiting], record: Record, calls: RunCalls) -> None:
        shape = self.shapes[record.shape]
        mine = waiting.setdefault(shape["run"], Waiting())
        mine.stretches.append((tuple(shape["keys"]), record))
        mine.values += record.count * len(shape["keys"])
        if mine.values >= VALUES_AT_ONCE:
            self._flush({shape["run"]: waiting.pop(shape["run"])}, calls)

    def _collect_output(self, waiting: dict[str, Waiting], record: Record) -> None:
        """Keep printed output to be sent; neighbouring pieces of one stream and moment are sent as one."""
        printed: Printed = record.data
        pieces = waiting.setdefault(printed.run, Waiting()).pieces
        stream = STREAMS[printed.stream]
        position, text = self.segment << 32 | record.end, without_overwritten(printed.text)
        last = pieces[-1] if pieces else None
        if last and last["stream"] == stream and printed.at - last["at"] < SAME_MOMENT_US:
            last["position"], last["text"] = position, last["text"] + text
        else:
            pieces.append({"position": position, "at": printed.at, "stream": stream, "text": text})

    def _operate(self, waiting: dict[str, Waiting], data: dict[str, object], start: int, calls: RunCalls) -> None:
        if data["op"] not in _DECLARATIONS | {"begin"} and data["run"] in waiting:
            self._flush({data["run"]: waiting.pop(data["run"])}, calls)
        if data["op"] == "end":
            self.before_end()
        self._note(data)
        if data["op"] in FILE_RECORDS:
            put_later(self.folder, later_name(self.segment, start), data)
        elif data["op"] not in _DECLARATIONS:
            calls.operate(data, self.folder)

    def _flush(self, waiting: dict[str, Waiting], calls: RunCalls) -> None:
        for run, mine in waiting.items():
            if mine.pieces and run in self.open_runs:
                calls.output(self.open_runs[run], self.folder.name, mine.pieces)
            if not mine.stretches:
                continue
            first, last = mine.stretches[0][1], mine.stretches[-1][1]
            # The same stretch gives the same batch id whenever it is sent.
            name = f"{self.folder.name} {self.segment} {run} {first.start} {last.end}"
            batch = hashlib.sha256(name.encode()).hexdigest()[:32]
            batch_id = "-".join((batch[:8], batch[8:12], batch[12:16], batch[16:20], batch[20:]))
            calls.points(self.open_runs.get(run) or self._address_of(mine), batch_id, list(groups_of(mine)))

    def _address_of(self, mine: Waiting) -> dict[str, object]:
        _, record = mine.stretches[0]
        return self.shapes[record.shape]

    def is_patient(self, wait_s: float) -> bool:
        """Tell whether an unknown run is to be waited for, and note since when one is."""
        note = self.folder / UNKNOWN_NOTE
        try:
            return time.time() - note.stat().st_mtime < wait_s
        except FileNotFoundError:
            return True

    def note_unknown(self, unknown: bool) -> None:
        """Note that a run is unknown to the service, or that none is any more."""
        note = self.folder / UNKNOWN_NOTE
        if not unknown:
            note.unlink(missing_ok=True)
        elif not note.exists():
            note.touch()

    def note_obstruction(self, error: Unavailable, tried_at: float, pause_s: float) -> None:
        """Write down what stands in this writer's way alone, since a try that began at `tried_at`."""
        note_held(self.folder / HELD_NOTE, error, tried_at, pause_s)

    def note_arrival(self) -> None:
        """Note that nothing stands in this writer's way any more."""
        self.note_unknown(False)
        (self.folder / HELD_NOTE).unlink(missing_ok=True)

    def finish(self) -> bool:
        """Remove the folder once its writer has ended and nothing waits; tells whether that was so."""
        if self.writer_lives or self.pending() or waiting_files(self.folder):
            return False
        shutil.rmtree(self.folder, ignore_errors=True)
        return True


def groups_of(waiting: Waiting) -> Iterator[Group]:
    """Turn raw stretches into columns, one group for each set of metrics."""
    import numpy as np

    from kinetrum.core.points.codec import Group

    by_keys: dict[tuple[str, ...], list[bytes]] = {}
    for keys, record in waiting.stretches:
        by_keys.setdefault(keys, []).append(record.raw)
    for keys, parts in by_keys.items():
        width = len(keys)
        table = np.frombuffer(
            b"".join(parts),
            np.dtype(
                [
                    ("head", "<u8"),
                    ("step", "<i8"),
                    ("time", "<i8"),
                    ("values", "<f8", (width,)),
                    ("seal", "<u8"),
                ]
            ),
        )
        yield Group(
            keys,
            np.ascontiguousarray(table["step"]),
            np.ascontiguousarray(table["time"]),
            np.ascontiguousarray(table["values"].T),
        )
