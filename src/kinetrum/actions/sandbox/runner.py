"""Files of strangers are read by a process of its own, with limits: never in the service itself.

Each process does one task and ends. The next one for the same task is started ahead and waits with its libraries
loaded, so that nobody waits for that; it ends when this process does, since its input is closed then. How many run at
once is for their callers to bound: the service gives turns (`service.guard.turns`), in which nobody waits in a thread.
"""

from __future__ import annotations

import json
import logging
import os
import subprocess
import sys
import threading
import time
from collections.abc import Sequence
from pathlib import Path
from typing import Any, NoReturn

from kinetrum.core.base import errors
from kinetrum.core.base.errors import KinetrumError

WALL_S = 20
_AT_ONCE_S = 1.0
# Tasks whose libraries take long to load, or that come often.
_AHEAD = frozenset({"rows", "tar"})
_waiting: dict[str, subprocess.Popen[bytes]] = {}
_lock = threading.Lock()
log = logging.getLogger("kinetrum.limited")


def run_limited(task: str, paths: Sequence[Path], options: dict[str, Any]) -> bytes | None:
    """Run a task of `process` on files; None where it takes too much memory or time, or breaks.

    Raises the error that the task told of.
    """
    request = json.dumps({"paths": [str(path) for path in paths], "given": options}).encode()
    process = _take(task)
    answer, took_s = _ask(process, request)
    if answer is None and took_s < _AT_ONCE_S:
        # It may have ended while it waited, or lacked something at that moment, which says nothing about the files;
        # files that break their reader break it again.
        log.warning("reading files (%s) ended with status %s after %.1f s", task, process.returncode, took_s)
        answer, took_s = _ask(_start(task), request)
    if task in _AHEAD:
        threading.Thread(target=_start_ahead, args=(task,), daemon=True).start()
    if answer is None:
        log.warning("reading files (%s) was given up or broke after %.1f s", task, took_s)
    elif answer.startswith(b'{"error"'):
        raise_told(json.loads(answer))
    return answer


def _ask(process: subprocess.Popen[bytes], request: bytes) -> tuple[bytes | None, float]:
    """Return the answer, None where it was given up or broke, and how long that took."""
    began = time.monotonic()
    try:
        answer, _ = process.communicate(request, timeout=WALL_S)
    except (subprocess.TimeoutExpired, OSError):
        process.kill()
        process.communicate()
        return None, time.monotonic() - began
    return answer if process.returncode == 0 else None, time.monotonic() - began


def _take(task: str) -> subprocess.Popen[bytes]:
    """Return a process for a task, one that was started ahead where there is one."""
    with _lock:
        process = _waiting.pop(task, None)
    if process is not None:
        if process.poll() is None:
            return process
        process.communicate()
    return _start(task)


def _start_ahead(task: str) -> None:
    with _lock:
        if task not in _waiting:
            _waiting[task] = _start(task)


def _start(task: str) -> subprocess.Popen[bytes]:
    # Its errors go nowhere: they would hold texts of strangers, and who asked is told that it broke.
    return subprocess.Popen(
        [sys.executable, "-I", "-m", "kinetrum.actions.sandbox.process", task],
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        stderr=subprocess.DEVNULL,
        cwd=os.sep,
        env={"OPENBLAS_NUM_THREADS": "1", "ARROW_DEFAULT_MEMORY_POOL": "system", "OMP_NUM_THREADS": "1"},
    )


def raise_told(problem: dict[str, Any]) -> NoReturn:
    """Raise the error that a process told of."""
    kind = getattr(errors, problem["error"], None)
    if not (isinstance(kind, type) and issubclass(kind, KinetrumError)):
        kind = errors.InvalidInput
    raise kind(problem["message"], field=problem["field"])
