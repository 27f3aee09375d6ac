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
from typing import Any, NoReturn, Protocol

from kinetrum.client.capture.notebook_cells import is_referred_to


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
        os.register_at_fork(before=_before_fork, after_in_parent=_after_fork_in_parent, after_in_child=_after_fork)
    if threading.current_thread() is threading.main_thread():
        _note_signal(signal.SIGTERM)


def open_runs() -> list[_Endable]:
    """List the runs that end with this process."""
    return [run for run in list(_open) if run.owner_pid == os.getpid()]


_watched_shells: weakref.WeakSet[object] = weakref.WeakSet()


def watch_cells(shell: Any) -> None:
    """Look after each cell which runs nothing but the shell's memory of outputs refers to any more."""
    if shell not in _watched_shells:
        _watched_shells.add(shell)
        shell.events.register("post_run_cell", _stop_unreferenced)


def _stop_unreferenced(*_: object) -> None:
    """Stop a run whose last name let go of it, as it is stopped in a script, where it is gone by itself."""
    # Not even the list of them refers to a run while this looks.
    for reference in [weakref.ref(run) for run in open_runs()]:
        run = reference()
        if run is not None and not is_referred_to(run):
            run.end("stopped", "nothing refers to it any more")


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


class _Held(threading.local):
    """The signals that this thread had blocked before it forked; None while it does not fork."""

    mask: set[signal.Signals] | set[int] | None = None


_held = _Held()


def _before_fork() -> None:
    """Hold SIGTERM back until the child does with it what it did before.

    The child begins with the parent's handler, which is written in Python: it would only note a signal that comes in
    its first moments, and the interpreter forgets what is noted when it starts anew in the child. A pool ends workers
    that it does not need as soon as they are there, and waits for them: one that never heard of it would let the
    training wait for ever.
    """
    if getattr(signal.getsignal(signal.SIGTERM), "ends_runs", False):
        _held.mask = signal.pthread_sigmask(signal.SIG_BLOCK, {signal.SIGTERM})


def _after_fork_in_parent() -> None:
    mask, _held.mask = _held.mask, None
    if mask is not None:
        signal.pthread_sigmask(signal.SIG_SETMASK, mask)


def _after_fork() -> None:
    """In a forked child no run is ours to end, so that signals do there what they did before.

    A pool ends its workers with SIGTERM; one that comes just before a worker waits for a lock would only be noted by a
    handler in Python, and the worker would wait for ever. A run that is begun in the child watches again.
    """
    try:
        _give_runs_up()
    finally:
        _after_fork_in_parent()


def _give_runs_up() -> None:
    for run in list(_open):
        run.after_fork()
    here = signal.getsignal(signal.SIGTERM)
    earlier = getattr(here, "earlier", None)
    if getattr(here, "ends_runs", False) and earlier is not None:
        signal.signal(signal.SIGTERM, earlier)
