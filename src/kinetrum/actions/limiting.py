"""Files of strangers are read by a process of its own, with limits: never in the service itself.

Each process does one task and ends. The next one for the same task is started ahead and waits with its libraries
loaded, so that nobody waits for that; it ends when this process does, since its input is closed then.
"""

from __future__ import annotations

import json
import os
import subprocess
import sys
import threading
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from kinetrum.core import errors
from kinetrum.core.errors import KinetrumError

WALL_S = 20
# One at a time for each core: what reads files must not take the service's room to breathe.
_turns = threading.Semaphore(2)
# Tasks whose libraries take long to load.
_AHEAD = frozenset({"rows"})
_waiting: dict[str, subprocess.Popen[bytes]] = {}
_lock = threading.Lock()


def run_limited(task: str, paths: Sequence[Path], given: dict[str, Any]) -> bytes | None:
    """Run a task of `limited_process` on files; None where it takes too much memory or time, or breaks.

    Raises the error that the task told of.
    """
    said = json.dumps({"paths": [str(path) for path in paths], "given": given}).encode()
    with _turns:
        process = _take(task)
        try:
            answer, _ = process.communicate(said, timeout=WALL_S)
        except (subprocess.TimeoutExpired, OSError):
            process.kill()
            process.communicate()
            return None
        finally:
            if task in _AHEAD:
                threading.Thread(target=_start_ahead, args=(task,), daemon=True).start()
    if process.returncode != 0:
        return None
    if answer.startswith(b'{"error"'):
        _raise(json.loads(answer))
    return answer


def _take(task: str) -> subprocess.Popen[bytes]:
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
        [sys.executable, "-I", "-m", "kinetrum.actions.limited_process", task], stdin=subprocess.PIPE,
        stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, cwd=os.sep,
        env={"OPENBLAS_NUM_THREADS": "1", "ARROW_DEFAULT_MEMORY_POOL": "system", "OMP_NUM_THREADS": "1"},
    )  # fmt: skip


def _raise(said: dict[str, Any]) -> None:
    kind = getattr(errors, said["error"], None)
    if not (isinstance(kind, type) and issubclass(kind, KinetrumError)):
        kind = errors.InvalidInput
    raise kind(said["message"], field=said["field"])
