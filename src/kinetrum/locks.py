"""Lock files: held while a process lives, whatever ends it."""

from __future__ import annotations

import fcntl
import os
import time

# Whoever asks whether a lock is held has it for a moment.
_TRIES, _PAUSE_S = 4, 0.005


def take(path: str | os.PathLike[str]) -> int | None:
    """Take the lock on a file, made if need be, and return its handle; None where another process has it."""
    handle = os.open(path, os.O_RDWR | os.O_CREAT, 0o600)
    for left in reversed(range(_TRIES)):
        try:
            fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
            return handle
        except OSError:
            if left:
                time.sleep(_PAUSE_S)
    os.close(handle)
    return None


def is_held(path: str | os.PathLike[str]) -> bool:
    """Tell whether some process holds the lock on a file."""
    try:
        handle = os.open(path, os.O_RDWR)
    except FileNotFoundError:
        return False
    try:
        fcntl.flock(handle, fcntl.LOCK_SH | fcntl.LOCK_NB)
    except OSError:
        return True
    finally:
        os.close(handle)
    return False
