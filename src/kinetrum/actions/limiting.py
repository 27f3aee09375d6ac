"""Files of strangers are read by a process of its own, with limits: never in the service itself."""

from __future__ import annotations

import json
import subprocess
import sys
import threading
from collections.abc import Sequence
from contextlib import ExitStack
from pathlib import Path
from typing import Any

from kinetrum.core import errors
from kinetrum.core.errors import KinetrumError

WALL_S = 20
# One at a time for each core: what reads files must not take the service's room to breathe.
_turns = threading.Semaphore(2)


def run_limited(task: str, paths: Sequence[Path], given: dict[str, Any]) -> bytes | None:
    """Run a task of `limited_process` on files; None where it takes too much memory or time, or breaks.

    Raises the error that the task told of.
    """
    with _turns, ExitStack() as opened:
        numbers = [opened.enter_context(path.open("rb")).fileno() for path in paths]
        command = [sys.executable, "-I", "-m", "kinetrum.actions.limited_process", task]
        try:
            done = subprocess.run(
                [*command, ",".join(map(str, numbers)), json.dumps(given)], stdin=subprocess.DEVNULL, pass_fds=numbers,
                capture_output=True, timeout=WALL_S, check=True,
                env={"OPENBLAS_NUM_THREADS": "1", "ARROW_DEFAULT_MEMORY_POOL": "system", "OMP_NUM_THREADS": "1"},
            )  # fmt: skip
        except subprocess.SubprocessError:
            return None
    if done.stdout.startswith(b'{"error"'):
        _raise(json.loads(done.stdout))
    return done.stdout


def _raise(said: dict[str, Any]) -> None:
    kind = getattr(errors, said["error"], None)
    if not (isinstance(kind, type) and issubclass(kind, KinetrumError)):
        kind = errors.InvalidInput
    raise kind(said["message"], field=said["field"])
