"""Moments in which nobody forks: a child would begin with what a thread of ours had half done, and with its locks.

A thread that writes on what was printed holds the lock of the interpreter's stream; one that imports holds the
module's; one that starts a program has open pipes that the program's end is told by. In a forked child that thread is
gone, and whoever needs what it held waits for ever. So threads of ours hold `still` for as long as that lasts, which is
moments, and a fork waits for it.
"""

from __future__ import annotations

import os
import threading

# A stream that nobody reads may hold its writer up for ever; a fork waits no longer than this.
PATIENCE_S = 2.0
still = threading.RLock()
was_still = True


class _Forking(threading.local):
    holds = False


_forking = _Forking()


def _before_fork() -> None:
    _forking.holds = still.acquire(timeout=PATIENCE_S)


def _after_fork_in_parent() -> None:
    if _forking.holds:
        _forking.holds = False
        still.release()


def _after_fork_in_child() -> None:
    global still, was_still
    still, was_still = threading.RLock(), _forking.holds
    _forking.holds = False


os.register_at_fork(before=_before_fork, after_in_parent=_after_fork_in_parent, after_in_child=_after_fork_in_child)
