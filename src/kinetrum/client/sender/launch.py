"""Starting the process that delivers.

Loaded by commands that record a line and leave, so it takes nothing that is heavy.
"""

from __future__ import annotations

import os
import time

from kinetrum import locks
from kinetrum.client.capture.host import host_identity

_SETTLE_S = 1.0
_started: dict[str, float] = {}


def sender_lock(root: str | os.PathLike[str]) -> str:
    """Return the lock file of this machine's sender; machines that share a folder have one each."""
    return os.path.join(root, f"sender-{host_identity().hex()[:8]}.lock")


def start_sender(root: str | os.PathLike[str]) -> None:
    """Start the process that delivers, unless one is at work; failures are warned of, never raised."""
    if os.environ.get("KINETRUM_SENDER") == "off":
        return
    # One that was started just now may not have taken its lock yet.
    if time.monotonic() - _started.get(os.fspath(root), -_SETTLE_S) < _SETTLE_S:
        return
    try:
        if locks.is_held(sender_lock(root)):
            return
        _start(os.fspath(root))
    except OSError as error:
        import warnings

        warnings.warn(
            f"Kinetrum's sender was not started ({error}); 'kinetrum spool send' delivers later.",
            stacklevel=3,
        )


def _start(root: str) -> None:
    import subprocess
    import sys

    from kinetrum.client.capture import fork_safety

    handle = os.open(os.path.join(root, "sender.log"), os.O_WRONLY | os.O_CREAT | os.O_APPEND, 0o600)
    with os.fdopen(handle, "ab") as log, fork_safety.still:
        process = subprocess.Popen(
            [sys.executable, "-m", "kinetrum.client.sender.main", root],
            stdin=subprocess.DEVNULL,
            stdout=log,
            stderr=log,
            start_new_session=True,
            close_fds=True,
        )
    _started[root] = time.monotonic()
    process.returncode = 0  # It outlives this process on purpose; nobody waits for it.
