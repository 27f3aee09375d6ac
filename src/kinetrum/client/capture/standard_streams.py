"""Catching what a process prints: on its way to where it goes anyway, it is copied into the spool.

`print` fills a buffer of the interpreter, which is written on when it is full or flushed. There, beneath the text
layer, the copy is taken: one call for some hundred lines, none for a line. A thread flushes once a second, so that
whoever follows sees what was printed. Prints of native libraries and of other programs do not pass here; for them
there is `kinetrum track`.

What is printed faster than anybody could read is bounded here, at its source: a run may print 16 MiB at once and
256 KiB a second on average, what comes beyond that is left out and counted, but for the last 2 MiB.
"""

from __future__ import annotations

import contextlib
import errno
import io
import os
import sys
import threading
import time
from collections import deque
from collections.abc import Callable, Iterable
from typing import TYPE_CHECKING, TextIO, TypeAlias

from kinetrum.client.capture import fork_safety
from kinetrum.client.capture.secret_filter import SecretFilter

if TYPE_CHECKING:
    from kinetrum.client.recording.recorder import Recorder

BURST_BYTES, BYTES_PER_S, TAIL_BYTES = 16 * 1024 * 1024, 256 * 1024, 2 * 1024 * 1024
FLUSH_EVERY_S, GATHERED_WRITES, GATHERED_BYTES = 1.0, 256, 4_096
STDOUT, STDERR, OURS = 0, 1, 2
Bytes: TypeAlias = bytes | bytearray | memoryview
Beneath: TypeAlias = io.RawIOBase | io.BufferedIOBase
"""What the text layer of an interpreter's stream writes to: a buffer, or with `python -u` the file itself."""


class Outlet:
    """The way of one run's printed output into the spool, and its bound. Safe in threads."""

    def __init__(self, recorder: Recorder) -> None:
        self._recorder = recorder
        self._lock = threading.RLock()
        self._room = float(BURST_BYTES)
        self._last = time.monotonic()
        self._held: deque[tuple[int, int, bytes]] = deque()
        self._held_bytes = self._left_out = 0
        self._filter = SecretFilter()

    def write(self, stream: int, data: bytes) -> None:
        """Take what was printed, as UTF-8; what looks like a secret does not leave the machine."""
        with self._lock:
            self._take(stream, self._filter.passed(stream, data))

    def _take(self, stream: int, data: bytes) -> None:
        if data:
            self._refill()
            at = self._recorder.writer.now()
            if not self._held:
                fits = data[: int(self._room)]
                self._room -= len(fits)
                self._recorder.output(stream, at, fits)
                data = data[len(fits) :]
            if data:
                self._hold(stream, at, data)

    def _refill(self) -> None:
        moment = time.monotonic()
        self._room = min(float(BURST_BYTES), self._room + (moment - self._last) * BYTES_PER_S)
        self._last = moment

    def _hold(self, stream: int, at: int, data: bytes) -> None:
        tail = data[-TAIL_BYTES:]
        self._left_out += len(data) - len(tail)
        self._held.append((stream, at, tail))
        self._held_bytes += len(tail)
        while self._held_bytes > TAIL_BYTES:
            first_stream, first_at, first = self._held.popleft()
            over = min(len(first), self._held_bytes - TAIL_BYTES)
            if over < len(first):
                self._held.appendleft((first_stream, first_at, first[over:]))
            self._held_bytes -= over
            self._left_out += over

    def release(self, everything: bool = False) -> None:
        """Let go what was held back, where there is room again, or at the end."""
        with self._lock:
            for stream, data in self._filter.rest():
                self._take(stream, data)
            self._refill()
            if not self._held or (not everything and self._room < self._held_bytes):
                return
            if self._left_out:
                text = f"\n… {self._left_out:,} bytes were printed faster than they are kept and are left out …\n"
                self._recorder.output(OURS, self._held[0][1], text.encode())
            for stream, at, data in self._held:
                self._recorder.output(stream, at, data)
            self._room = max(0.0, self._room - self._held_bytes)
            self._held.clear()
            self._held_bytes = self._left_out = 0


def _all_of(raw: io.RawIOBase) -> Callable[[Bytes], int]:
    """A `write` that passes everything on: a stream without a buffer (python -u) may take a part, as when the process
    was stopped and continued in the middle, and what is above does not ask how much."""
    write_some = raw.write

    def write(data: Bytes) -> int:
        written, length = write_some(data), memoryview(data).nbytes
        if written == length:
            return length
        rest = memoryview(data).cast("B")
        while True:
            if written is None:
                raise BlockingIOError(errno.EAGAIN, "the stream takes nothing more for now", length - len(rest))
            rest = rest[written:]
            if not rest:
                return length
            written = write_some(rest)

    return write


class _Copied(io.BufferedIOBase):
    """The bytes of one of the interpreter's streams, passed on and copied.

    Small writes are gathered, since an interpreter without buffers (python -u) makes several for each line; they are
    copied when there are some, at a flush, and once a second. There is no `__getattr__` on purpose: the text layer asks
    for what is not there at every write, which alone would cost ten times as much as all the rest.
    """

    def __init__(self, under: Beneath, number: int, encoding: str) -> None:
        self.under, self.number = under, number
        self.encoding = "" if encoding.replace("-", "").lower() in {"utf8", "ascii"} else encoding
        self._gathered: deque[bytes] = deque()
        # A closure, found on the object: half the time of a method.
        self.write = self._writing()  # type: ignore[assignment, method-assign]

    def _writing(self) -> Callable[[Bytes], int]:
        gathered, gather, copy = self._gathered, self._gathered.append, self.copy
        pass_on = _all_of(self.under) if isinstance(self.under, io.RawIOBase) else self.under.write

        def write(data: Bytes, /) -> int:
            gather(data if type(data) is bytes else bytes(data))
            if len(gathered) > GATHERED_WRITES or len(data) > GATHERED_BYTES:
                copy()
            return pass_on(data)

        return write

    def go_on(self, under: Beneath) -> None:
        """Pass on to another stream from now on."""
        self.under = under
        self.write = self._writing()  # type: ignore[assignment, method-assign]

    def copy(self) -> None:
        """Copy what was gathered."""
        taken = []
        # One by one, since another thread may add at any moment.
        while self._gathered:
            taken.append(self._gathered.popleft())
        if taken:
            data = b"".join(taken)
            _copy(self.number, data.decode(self.encoding, "replace").encode() if self.encoding else data)

    def flush(self) -> None:
        self.under.flush()
        self.copy()

    def close(self) -> None:
        """Stay open: the stream beneath belongs to the interpreter."""

    @property
    def raw(self) -> object:
        """As the stream beneath has it."""
        return getattr(self.under, "raw", self.under)

    @property
    def name(self) -> object:
        """As the stream beneath has it."""
        return getattr(self.under, "name", None)

    @property
    def mode(self) -> object:
        """As the stream beneath has it."""
        return getattr(self.under, "mode", None)

    def writable(self) -> bool:
        return True

    def seekable(self) -> bool:
        return bool(self.under.seekable())

    def tell(self) -> int:
        return int(self.under.tell())

    def fileno(self) -> int:
        return int(self.under.fileno())

    def isatty(self) -> bool:
        return bool(self.under.isatty())


class _Proxy:
    """Stands before a stream that is not the interpreter's own, as in notebooks."""

    def __init__(self, under: TextIO, number: int) -> None:
        self._under, self._number = under, number

    def write(self, text: str) -> object:
        try:
            return self._under.write(text)
        finally:
            _copy(self._number, text.encode("utf-8", "replace"))

    def writelines(self, lines: Iterable[str]) -> None:
        for line in lines:
            self.write(line)

    def __getattr__(self, name: str) -> object:
        return getattr(self._under, name)


class _Catch:
    """One of the two streams while it is caught."""

    def __init__(self, name: str, number: int) -> None:
        self.name, self.stream = name, getattr(sys, name)
        self.beneath: Beneath | None = None
        self.copied: _Copied | None = None
        if type(self.stream) is io.TextIOWrapper:
            # The object itself stays, since others may hold it (loggers do): it gets another stream beneath.
            self.stream.flush()
            self.beneath = self.stream.buffer
            self.copied = _Copied(self.beneath, number, self.stream.encoding)
            self._rest_on(self.copied)
        else:
            self.proxy = _Proxy(self.stream, number)
            setattr(sys, name, self.proxy)

    def _rest_on(self, beneath: object) -> None:
        stream = self.stream
        stream.__init__(
            beneath,
            encoding=stream.encoding,
            errors=stream.errors,
            newline=None if sys.platform == "win32" else "\n",
            line_buffering=stream.line_buffering,
            write_through=stream.write_through,
        )

    def start_anew(self) -> None:
        """In a forked child: write past the buffer, whose lock a thread of the parent may have held.

        What the parent had in there is the parent's to write.
        """
        if self.copied is not None and isinstance(self.beneath, io.BufferedWriter):
            _left.append(self.beneath)
            self.beneath = io.BufferedWriter(io.FileIO(self.beneath.raw.fileno(), "w", closefd=False))
            self.copied.go_on(self.beneath)

    def flush(self) -> None:
        # A signal handler may come here in the middle of a write; what is in the buffer then goes with the next one.
        with contextlib.suppress(RuntimeError, ValueError, OSError):
            self.stream.flush()
        if self.copied is not None:
            self.copied.copy()

    def release(self) -> None:
        self.flush()
        with contextlib.suppress(RuntimeError, ValueError, OSError):
            if self.beneath is not None:
                self._rest_on(self.beneath)
            elif getattr(sys, self.name) is self.proxy:
                setattr(sys, self.name, self.stream)


class _Candidate:
    """An open run that would take the output."""

    def __init__(self, run: str, outlet: Outlet, is_asked_for: bool, parent: str | None) -> None:
        self.run, self.outlet, self.asked, self.parent = run, outlet, is_asked_for, parent


# Buffers that are never closed: their locks are held by threads that are gone.
_left: list[object] = []
_candidates: list[_Candidate] = []
_catches: list[_Catch] = []
_receiver: Outlet | None = None
_copying = threading.local()
_guard = threading.RLock()
_ended = threading.Event()


def _copy(number: int, data: bytes) -> None:
    receiver = _receiver
    if receiver is None or getattr(_copying, "now", False):
        return
    # Recording may itself warn, which prints; that is not recorded.
    _copying.now = True
    try:
        receiver.write(number, data)
    finally:
        _copying.now = False


def write_beside(text: str) -> None:
    """Write to standard error what belongs to no run: what the recorder itself has to say."""
    for caught in _catches:
        if caught.name == "stderr":
            caught.flush()
            if caught.copied is None or caught.beneath is None:
                caught.stream.write(text)
            else:
                caught.beneath.write(text.encode(caught.stream.encoding, "replace"))
                caught.beneath.flush()
            return
    sys.stderr.write(text)
    sys.stderr.flush()


def catch(run: str, recorder: Recorder, asked: bool, parent: str | None) -> None:
    """Let a run take what this process prints, if it is open alone or asked for it.

    Of runs that are nested the outermost takes it; of runs side by side, of which none asked, none does.
    """
    global _receiver, _ended
    with _guard:
        _flush()
        _candidates.append(_Candidate(run, Outlet(recorder), asked, parent))
        _receiver = _chosen()
        if not _catches:
            # In the middle of this a stream is none at all.
            with fork_safety.still:
                _catches.extend(
                    _Catch(name, number)
                    for name, number in (("stdout", STDOUT), ("stderr", STDERR))
                    if getattr(sys, name) is not None
                )
            _ended = threading.Event()
            threading.Thread(target=_flush_now_and_then, args=(_ended,), name="kinetrum-output", daemon=True).start()


def release(run: str) -> None:
    """Let a run have what was printed so far; it takes no more."""
    global _receiver
    with _guard:
        mine = [one for one in _candidates if one.run == run]
        if not mine:
            return
        _flush()
        for one in mine:
            one.outlet.release(everything=True)
            _candidates.remove(one)
        _receiver = _chosen()
        if not _candidates:
            _ended.set()
            with fork_safety.still:
                for caught in _catches:
                    caught.release()
                _catches.clear()


def _chosen() -> Outlet | None:
    asking = [one for one in _candidates if one.asked]
    if asking:
        return asking[-1].outlet
    if not _candidates:
        return None
    first, within = _candidates[0], {_candidates[0].run}
    for one in _candidates[1:]:
        if one.parent not in within:
            return None
        within.add(one.run)
    return first.outlet


def _flush() -> None:
    for caught in list(_catches):
        caught.flush()


def _flush_now_and_then(ended: threading.Event) -> None:
    while not ended.wait(FLUSH_EVERY_S):
        with fork_safety.still:
            _flush()
        receiver = _receiver
        if receiver is not None:
            receiver.release()


def _after_fork() -> None:
    """In a forked child the thread is gone; prints go on being copied, flushed when the interpreter flushes."""
    global _guard, _copying
    _guard, _copying = threading.RLock(), threading.local()
    for one in _candidates:
        one.outlet._lock = threading.RLock()
    for caught in _catches:
        if caught.copied is not None:
            # What the parent gathered is the parent's to copy.
            caught.copied._gathered.clear()
            if not fork_safety.was_still:
                caught.start_anew()


os.register_at_fork(after_in_child=_after_fork)
