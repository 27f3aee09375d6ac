"""The spool: what this process recorded and the service has not yet acknowledged.

One folder for each writing process: segments in order, and a lock held while the process lives.
A folder per destination keeps address and token, so that whoever delivers later knows where to.

Guarantees. What a completed call wrote to a segment on disk survives the kill of this process. Where the
disk is full or the folder forbidden, segments are held in memory, up to 64 MiB, and move to the disk as soon
as there is room; what comes after that is dropped, counted by run, warned of once, and told as a problem of
the run. Nothing of this ever raises in a training loop.
"""

from __future__ import annotations

import atexit
import contextlib
import json
import os
import threading
import time
import warnings
from dataclasses import dataclass
from pathlib import Path

from kinetrum import locks
from kinetrum.client.capture.host import host_identity, host_name
from kinetrum.client.sender.launch import start_sender
from kinetrum.client.spool.complete_segment import new_id
from kinetrum.client.spool.layout import HEADER_SIZE, json_size, output_size
from kinetrum.client.spool.segments import SEGMENT_SIZE, Segment
from kinetrum.core.base.errors import TooLarge
from kinetrum.core.base.values import JsonObject
from kinetrum.places import make_private_folder, spare_spool_folder, spool_folder, spool_limit_bytes

RECORD_LIMIT = 16 * 1024 * 1024
MEMORY_LIMIT = 64 * 1024 * 1024
# Beyond the limit, what is no point (beginnings, results, endings) still finds a little room.
_RESERVE = 8 * 1024 * 1024
_TRY_AGAIN_S = 1.0


_segment_size = SEGMENT_SIZE


def use_small_segments() -> None:
    """Take 64 KiB at a time from here on: for processes that record a line and leave."""
    global _segment_size
    _segment_size = 64 * 1024


class NoRoom(Exception):
    """Neither disk nor memory takes another record; the caller counts it and goes on."""


@dataclass
class Dropped:
    """What was lost of one run for want of room."""

    address: dict[str, str]
    points: int = 0
    records: int = 0


class Writer:
    """The segments of this process. All methods are safe in threads; a forked child starts a writer of its own."""

    def __init__(self, root: Path, *, must_open: bool = False) -> None:
        self.id = new_id()
        self.root = root
        self.folder = root / "writers" / self.id
        self.lock = threading.RLock()
        self.last_time = 0
        self.opened_at = time.time()
        self.dropped: dict[str, Dropped] = {}
        self._number = 0
        self._pid = os.getpid()
        self._held: list[tuple[int, Segment]] = []
        self._alive: int | None = None
        self._next_try = 0.0
        self._warned = self._turning = False
        if must_open:
            self._open_folder()
        self.segment = self._next_segment(_segment_size, _RESERVE)

    def _open_folder(self) -> None:
        """Make the folder, which nobody sees before it is locked: a sender removes empty ones whose writer is dead."""
        if self._alive is not None:
            return
        made = self.root / "opening" / self.id
        make_private_folder(str(made))
        make_private_folder(str(self.folder.parent))
        (made / "host").write_text(host_name())
        alive = locks.take(made / "alive")
        try:
            os.rename(made, self.folder)
        except OSError:
            if alive is not None:
                os.close(alive)
            raise
        self._alive = alive

    def _next_segment(self, size: int, reserve: int = 0, in_memory: bool = False) -> Segment:
        """Return a new segment, on the disk where there is room. Numbers have no gaps: readers wait for each."""
        raw = bytes.fromhex(self.id.replace("-", ""))
        made_at = time.time_ns() // 1000
        # Together without a call, between which no signal handler comes.
        self._number += 1
        number = self._number
        try:
            if not in_memory and self._persist_held():
                try:
                    self._check_limit(size)
                    self._open_folder()
                    return Segment(self._path(number), raw, made_at, size, host_identity())
                except OSError as error:
                    self._warn(error)
            held_bytes = sum(segment.size for _, segment in self._held)
            if held_bytes + size > MEMORY_LIMIT + reserve:
                raise NoRoom
        except BaseException:
            self._give_back(number, raw, made_at)
            raise
        segment = Segment(None, raw, made_at, size, host_identity())
        self._held.append((number, segment))
        return segment

    def _give_back(self, number: int, raw: bytes, made_at: int) -> None:
        if self._number == number:
            self._number -= 1
            return
        # A signal handler took the next one meanwhile: an empty one stands in this one's place.
        empty = Segment(None, raw, made_at, 2 * HEADER_SIZE, host_identity())
        empty.end()
        self._held.append((number, empty))

    def _path(self, number: int) -> Path:
        return self.folder / f"{number:06d}.seg"

    def _check_limit(self, size: int) -> None:
        """Refuse to grow the spool over its limit, as a full disk would."""
        limit = spool_limit_bytes()
        taken = 0
        for path in self.folder.glob("*.seg") if self._alive is not None else ():
            # The sender removes what was delivered, also just now.
            with contextlib.suppress(FileNotFoundError):
                taken += path.stat().st_size
        if taken + size > limit:
            raise OSError(f"the spool of this process has reached its limit of {limit // 2**20} MiB")

    def _persist_held(self) -> bool:
        """Move segments from memory to the disk, in their order; tells whether none is left in memory."""
        if not self._held:
            return True
        if time.monotonic() < self._next_try:
            return False
        self._next_try = time.monotonic() + _TRY_AGAIN_S
        try:
            self._open_folder()
            while self._held:
                number, segment = self._held[0]
                self._check_limit(segment.size)
                # The one that is still being written moves too, and everyone goes on in the file.
                segment.move(self._path(number))
                if self._held and self._held[0][1] is segment:
                    del self._held[0]
        except OSError as error:
            self._warn(error)
            return False
        self._next_try = 0.0
        return True

    def _warn(self, error: OSError) -> None:
        self._next_try = time.monotonic() + _TRY_AGAIN_S
        if not self._warned:
            self._warned = True
            warnings.warn(
                f"Kinetrum's spool {self.folder} takes no more records ({error.strerror or error}); up to "
                f"{MEMORY_LIMIT // 2**20} MiB are held in memory until there is room, what comes after that is "
                "dropped and counted. Make room, or set KINETRUM_SPOOL to a folder that has it.",
                stacklevel=5,
            )

    def now(self) -> int:
        """Return microseconds since 1970; within this writer every moment is later than the one before."""
        self.last_time = max(time.time_ns() // 1000, self.last_time + 1)
        return self.last_time

    def make_room(self, size: int, reserve: int = 0) -> None:
        """Begin a new segment where a record of that size does not fit; raises NoRoom where there is none."""
        while not self.segment.fits(size):
            self._turn_over(max(_segment_size, size + 1024), reserve)

    def _turn_over(self, size: int, reserve: int) -> None:
        """Go on in a new segment.

        A signal handler that records in the middle of this goes on in memory, without the disk, which takes longer than
        the next signal may take to come; what it recorded is on the disk as soon as this has ended.
        """
        nested = self._turning
        self._turning = True
        try:
            before = self.segment
            if not before.ended:
                before.end()
            fresh = self._next_segment(size, reserve, nested)
            # The map of the one before is given back when nobody writes into it any more.
            if self.segment is before:
                self.segment = fresh
            else:
                # A handler went on in one of its own meanwhile; this one stays empty.
                fresh.end()
            if not nested and self._held:
                self._persist_held()
        finally:
            if not nested:
                self._turning = False
        if not nested:
            start_sender(self.root)

    def write(self, record: dict[str, object]) -> Segment | None:
        """Append one JSON record and return the segment it is in; it is kept then, also if the process is killed.

        Returns None where there is no room; what was to be recorded is counted.
        """
        text = json.dumps(record, separators=(",", ":")).encode()
        if len(text) > RECORD_LIMIT:
            raise TooLarge(
                f"One call recorded {len(text)} bytes; at most {RECORD_LIMIT} are kept. Record it as a file."
            )
        with self.lock:
            if self._held:
                self._persist_held()
            try:
                self.make_room(json_size(text), _RESERVE)
                while not self.segment.write_json(text):
                    # Another thread took the room in between.
                    self.make_room(json_size(text), _RESERVE)
            except NoRoom:
                if record["op"] != "shape":
                    self.drop(record, records=1)
                return None
            segment = self.segment
            if self.dropped and not self._held:
                self._tell_dropped()
        return segment

    def write_output(self, run: bytes, stream: int, moment: int, text: bytes) -> bool:
        """Append printed output; false where there is no room for it."""
        with self.lock:
            try:
                self.make_room(output_size(len(text)))
                while not self.segment.write_output(run, stream, moment, text):
                    self.make_room(output_size(len(text)))
            except NoRoom:
                return False
        return True

    def drop(self, address: JsonObject, points: int = 0, records: int = 0) -> None:
        """Count what could not be kept."""
        mine = {key: address[key] for key in ("run", "to", "project", "experiment")}
        lost = self.dropped.setdefault(mine["run"], Dropped(mine))
        lost.points += points
        lost.records += records

    def _tell_dropped(self) -> None:
        """Now that there is room again: what was dropped becomes a problem of each run."""
        lost, self.dropped = self.dropped, {}
        for item in lost.values():
            text = (
                f"{item.points} points and {item.records} other records were dropped on {host_name()}: neither "
                "the spool's disk nor its memory had room."
            )
            self.write({"op": "problem", **item.address, "id": new_id(), "text": text, "at": self.now()})

    def settle(self) -> int:
        """Try once more to move everything to the disk; returns how many bytes remain in memory alone."""
        with self.lock:
            self._next_try = 0.0
            self._persist_held()
            return sum(segment.at for _, segment in self._held)

    def close(self) -> None:
        """Mark the last segment as ended when the interpreter leaves."""
        with self.lock:
            if not self.segment.ended:
                self.segment.end()
            lost = self.settle()
            points = sum(item.points for item in self.dropped.values())
            if lost or points:
                warnings.warn(
                    f"Kinetrum lost {lost} bytes of records and {points} points: the spool {self.folder} had no room "
                    "until the end.",
                    stacklevel=2,
                )


_writer: Writer | None = None
_guard = threading.Lock()


def current_writer() -> Writer:
    """Return this process's writer, made when first needed.

    Where the spool's folder is forbidden or full, a folder among the temporary files takes its place, with a
    warning; where that cannot be written either, records are held in memory.
    """
    global _writer
    with _guard:
        if _writer is None:
            _writer = _make_writer()
        return _writer


def _make_writer() -> Writer:
    first = spool_folder()
    try:
        return Writer(first, must_open=True)
    except OSError as error:
        reason = error.strerror or str(error)
    try:
        spare = spare_spool_folder()
        writer = Writer(spare, must_open=True)
    except OSError:
        return Writer(first)
    warnings.warn(
        f"Kinetrum's spool {first} cannot be written ({reason}); {spare} is used instead. Set KINETRUM_SPOOL to a "
        "folder of yours.",
        stacklevel=5,
    )
    return writer


def _forget_after_fork() -> None:
    global _writer, _guard
    _writer, _guard = None, threading.Lock()


os.register_at_fork(after_in_child=_forget_after_fork)


def _close_at_exit() -> None:
    if _writer is not None and _writer._pid == os.getpid():
        _writer.close()
        if _writer._alive is not None:
            from kinetrum.client.recording.exit_report import report_undelivered

            report_undelivered(_writer.root, _writer.id, _writer.opened_at)


atexit.register(_close_at_exit)
