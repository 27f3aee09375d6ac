"""Running another program: its output shown and handed on, signals passed on to it, its end told truly.

Where this process writes to a terminal, the program does too: each stream is a pseudo-terminal then, so that
colours and progress bars look as without us. Elsewhere the streams are pipes.
"""

from __future__ import annotations

import contextlib
import errno
import fcntl
import os
import pty
import signal
import subprocess
import termios
import threading
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from types import FrameType

from kinetrum.core.base.errors import InvalidInput

PASSED_ON = (signal.SIGINT, signal.SIGTERM, signal.SIGHUP, signal.SIGQUIT, signal.SIGUSR1, signal.SIGUSR2)
STOPPING = (signal.SIGINT, signal.SIGTERM, signal.SIGHUP, signal.SIGQUIT)
# How long output may still come from programs that outlive the one that was started.
LINGER_S = 1.0
_FROM_TERMINAL = 0x80
Sink = Callable[[int, bytes], None]


class NotStarted(InvalidInput):
    """The program could not be started; `status` is what a shell would return."""

    def __init__(self, text: str, status: int) -> None:
        super().__init__(text, field="COMMAND")
        self.status = status


@dataclass(frozen=True)
class Outcome:
    """How a program ended: its return code (negative: killed by that signal), and the signal that asked it to stop."""

    code: int
    asked: signal.Signals | None = None
    ignored: bool = False

    @property
    def exit_status(self) -> int:
        """What a shell would return."""
        return 128 - self.code if self.code < 0 else self.code

    def status(self) -> tuple[str, str | None]:
        """Return the run's status and the reason."""
        if self.code == 0:
            return "finished", None
        if self.asked is not None:
            ignored = f"; it took no notice of {self.asked.name} and was killed" if self.ignored else ""
            return "stopped", f"signal {self.asked.name}{ignored}"
        if self.code < 0:
            return "failed", f"killed by {_signal_name(-self.code)}{_hint(-self.code)}"
        text = f"exited with status {self.code}"
        if 128 < self.code < 128 + 65:
            text += f" (a program it ran was killed by {_signal_name(self.code - 128)}{_hint(self.code - 128)})"
        return "failed", text


def _signal_name(number: int) -> str:
    try:
        return signal.Signals(number).name
    except ValueError:
        return f"signal {number}"


def _hint(number: int) -> str:
    return ", as the system does when memory runs out" if number == signal.SIGKILL else ""


class Command:
    """One program being run, within `blocked_signals`."""

    def __init__(self, words: Sequence[str], environment: Mapping[str, str], sink: Sink, grace_s: float) -> None:
        self.words, self.environment, self.sink, self.grace_s = list(words), dict(environment), sink, grace_s
        self._pending: list[signal.Signals] = []
        self._asked: list[signal.Signals] = []
        self._kill_at: float | None = None
        self._ignored = False

    def run(self) -> Outcome:
        """Start the program and wait for its end. Raises NotStarted where it cannot be started."""
        earlier = {number: signal.signal(number, self._note) for number in PASSED_ON}
        streams = [_Stream(number, self.sink) for number in (1, 2)]
        try:
            # The program begins with no signal blocked; what comes in this moment is noted and passed on below.
            signal.pthread_sigmask(signal.SIG_UNBLOCK, PASSED_ON)
            try:
                process = self._start(streams)
            finally:
                signal.pthread_sigmask(signal.SIG_BLOCK, PASSED_ON)
            for stream in streams:
                stream.begin()
            code = self._wait(process)
            give_up = time.monotonic() + LINGER_S
            for stream in streams:
                stream.join(max(0.0, give_up - time.monotonic()))
        finally:
            for number, handler in earlier.items():
                signal.signal(number, handler)
        return Outcome(code, self._asked[-1] if self._asked else None, self._ignored)

    def _note(self, number: int, frame: FrameType | None) -> None:
        self._pending.append(signal.Signals(number))

    def _start(self, streams: list[_Stream]) -> subprocess.Popen[bytes]:
        try:
            return subprocess.Popen(
                self.words, env=self.environment, stdout=streams[0].theirs, stderr=streams[1].theirs
            )
        except FileNotFoundError:
            raise NotStarted(f"There is no command {self.words[0]!r} here; see PATH, or write its path.", 127) from None
        except PermissionError:
            raise NotStarted(f"{self.words[0]!r} cannot be run; is it executable?", 126) from None
        except OSError as error:
            raise NotStarted(f"{self.words[0]!r} cannot be run ({error.strerror}).", 126) from None
        finally:
            for stream in streams:
                stream.close_theirs()

    def _wait(self, process: subprocess.Popen[bytes]) -> int:
        while process.poll() is None:
            for number in self._pending:
                self._pass_on(process, number, False)
            self._pending.clear()
            received = signal.sigtimedwait(PASSED_ON, 0.05)
            # On some kernels a wait that was cut short answers with no signal at all, or with what lay in memory.
            if received is not None and received.si_signo in PASSED_ON:
                self._pass_on(process, signal.Signals(received.si_signo), received.si_code == _FROM_TERMINAL)
            if self._kill_at is not None and time.monotonic() > self._kill_at:
                self._kill(process)
        return process.returncode

    def _pass_on(self, process: subprocess.Popen[bytes], number: signal.Signals, has_it: bool) -> None:
        """Pass a signal on; what was typed at the terminal has reached the program already."""
        if not has_it:
            with contextlib.suppress(ProcessLookupError):
                process.send_signal(number)
        if number in STOPPING:
            self._asked.append(number)
            insisted = self._asked.count(signal.SIGINT) >= 3
            if number != signal.SIGINT or insisted:
                self._kill_at = min(self._kill_at or float("inf"), time.monotonic() + (0 if insisted else self.grace_s))

    def _kill(self, process: subprocess.Popen[bytes]) -> None:
        import psutil

        self._ignored = True
        with contextlib.suppress(psutil.Error):
            below = psutil.Process(process.pid).children(recursive=True)
            process.kill()
            for child in below:
                with contextlib.suppress(psutil.Error):
                    child.kill()


class _Stream:
    """One of the program's streams: read in a thread, shown on ours, handed on."""

    def __init__(self, number: int, sink: Sink) -> None:
        self.number, self._sink = number, sink
        self._shown = True
        self.ours, self.theirs = _terminal(number) if os.isatty(number) else os.pipe()
        self._thread = threading.Thread(target=self._read, name=f"stream-{number}", daemon=True)

    def begin(self) -> None:
        self._thread.start()

    def close_theirs(self) -> None:
        os.close(self.theirs)

    def join(self, timeout_s: float) -> None:
        self._thread.join(timeout_s)

    def _read(self) -> None:
        while True:
            try:
                data = os.read(self.ours, 65_536)
            except OSError as error:
                # A pseudo-terminal whose other side is closed answers with an error instead of an end.
                if error.errno != errno.EIO:
                    raise
                return
            if not data:
                return
            self._show(data)
            self._sink(self.number - 1, data)

    def _show(self, data: bytes) -> None:
        at = 0
        while self._shown and at < len(data):
            try:
                at += os.write(self.number, data[at:])
            except BlockingIOError:
                time.sleep(0.01)
            except OSError:
                # Whoever read our output has left; it is still recorded.
                self._shown = False


def _terminal(like: int) -> tuple[int, int]:
    """Open a pseudo-terminal of the size of the one that we write to, which changes nothing of what passes."""
    ours, theirs = pty.openpty()
    with contextlib.suppress(OSError, termios.error):
        fcntl.ioctl(theirs, termios.TIOCSWINSZ, fcntl.ioctl(like, termios.TIOCGWINSZ, b"\0" * 8))
        modes = termios.tcgetattr(theirs)
        modes[1] &= ~termios.OPOST
        termios.tcsetattr(theirs, termios.TCSANOW, modes)
    return ours, theirs


@contextlib.contextmanager
def blocked_signals() -> Iterator[None]:
    """Block in this thread, and those it starts, what `Command` waits for; to be entered before any thread begins.

    What comes after the program has ended is taken without effect, as the end is being recorded.
    """
    before = signal.pthread_sigmask(signal.SIG_BLOCK, PASSED_ON)
    try:
        yield
    finally:
        while (received := signal.sigtimedwait(PASSED_ON, 0)) is not None and received.si_signo:
            continue
        signal.pthread_sigmask(signal.SIG_SETMASK, before)
