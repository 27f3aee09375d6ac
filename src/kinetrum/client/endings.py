"""How runs end when nobody ends them: at the interpreter's exit, by an exception, a signal, or a fork."""

from __future__ import annotations

import atexit
import os
import signal
import sys
import threading
import traceback
import weakref
from collections.abc import Callable
from types import FrameType, TracebackType
from typing import NoReturn, Protocol


class _Endable(Protocol):
    owner_pid: int

    def end(self, status: str = ..., reason: str | None = ...) -> None: ...
    def after_fork(self) -> None: ...


_open: weakref.WeakSet[_Endable] = weakref.WeakSet()
_failure: str | None = None
_exit_code: object = None
_interrupted = False
_installed = False
_TEXT_LIMIT = 4_000

Hook = Callable[[type[BaseException], BaseException, TracebackType | None], object]


def watch(run: _Endable) -> None:
    """See to it that this run ends with the process."""
    global _installed
    _open.add(run)
    if not _installed:
        _installed = True
        atexit.register(_at_exit)
        _note_uncaught()
        _note_exit()
        os.register_at_fork(after_in_child=_after_fork)
    if threading.current_thread() is threading.main_thread():
        _note_signal(signal.SIGTERM)


def forget(run: _Endable) -> None:
    """This run has ended."""
    _open.discard(run)


def told(error: BaseException) -> str:
    """Return an exception's traceback, its end where it is long; files below the working folder by their path in it."""
    text = "".join(traceback.format_exception(error)).strip()
    return text.replace(f'File "{os.getcwd()}{os.sep}', 'File "')[-_TEXT_LIMIT:]


def _end_all(status: str, reason: str | None) -> None:
    for run in list(_open):
        if run.owner_pid == os.getpid():
            run.end(status, reason)


def _at_exit() -> None:
    if _interrupted:
        _end_all("stopped", "interrupted from the keyboard")
    elif _failure is not None:
        _end_all("failed", _failure)
    elif _exit_code not in (None, 0, False):
        _end_all("failed", f"exited with status {_exit_code}"[:_TEXT_LIMIT])
    else:
        _end_all("finished", None)


def _note_uncaught() -> None:
    earlier: Hook = sys.excepthook

    def note(kind: type[BaseException], error: BaseException, trace: TracebackType | None) -> None:
        global _failure, _interrupted
        _interrupted = issubclass(kind, KeyboardInterrupt)
        _failure = told(error)
        earlier(kind, error, trace)

    sys.excepthook = note


class _Exit(SystemExit):
    """What `sys.exit` raises while runs are watched; its code counts only where nobody caught it.

    At the very end the interpreter drops the exception with no Python code beneath; whoever catches it before
    drops it from within a function or module.
    """

    def __del__(self) -> None:
        global _exit_code
        if sys._getframe(0).f_back is None:
            _exit_code = self.code


def _note_exit() -> None:
    earlier = sys.exit

    def leave(code: str | int | None = None, /) -> NoReturn:
        try:
            earlier(code)
        except SystemExit as error:
            raise _Exit(*error.args) from None

    sys.exit = leave


def _note_signal(number: signal.Signals) -> None:
    earlier = signal.getsignal(number)
    if earlier is signal.SIG_IGN or getattr(earlier, "ends_runs", False):
        return

    def stop(received: int, frame: FrameType | None) -> None:
        _end_all("stopped", f"signal {signal.Signals(received).name}")
        if callable(earlier):
            earlier(received, frame)
        else:
            signal.signal(received, signal.SIG_DFL)
            os.kill(os.getpid(), received)

    stop.ends_runs, stop.earlier = True, earlier  # type: ignore[attr-defined]
    signal.signal(number, stop)


def _after_fork() -> None:
    """In a forked child no run is ours to end, so that signals do there what they did before.

    A pool ends its workers with SIGTERM; one that comes just before a worker waits for a lock would only be noted by a
    handler in Python, and the worker would wait for ever. A run that is begun in the child watches again.
    """
    for run in list(_open):
        run.after_fork()
    here = signal.getsignal(signal.SIGTERM)
    earlier = getattr(here, "earlier", None)
    if getattr(here, "ends_runs", False) and earlier is not None:
        signal.signal(signal.SIGTERM, earlier)
