"""The spool: what this process recorded and the service has not yet acknowledged.

One folder for each writing process: segments in order, and a lock held while the process lives.
A folder per destination keeps address and token, so that whoever delivers later knows where to.
"""

from __future__ import annotations

import atexit
import fcntl
import hashlib
import json
import os
import threading
import time
import warnings
from pathlib import Path
from typing import Any

from kinetrum.client.segments import SEGMENT_SIZE, Segment, json_size
from kinetrum.core.errors import InvalidInput, TooLarge
from kinetrum.core.ids import uuid7
from kinetrum.places import spool_folder

_MEMORY_LIMIT = 16 * 1024 * 1024


def new_id() -> str:
    """Make a client's identity: a UUIDv7 of now."""
    return uuid7(time.time_ns() // 1_000_000, os.urandom(10))


class Writer:
    """The segments of this process. All methods are safe in threads; a forked child starts a writer of its own."""

    def __init__(self, folder: Path) -> None:
        self.id = new_id()
        self.root = folder
        self.folder = folder / "writers" / self.id
        self.lock = threading.RLock()
        self.generation = 0
        self.last_time = 0
        self.dropped = 0
        self._number = 0
        self._pid = os.getpid()
        self.folder.mkdir(parents=True, mode=0o700)
        self._alive = os.open(self.folder / "alive", os.O_RDWR | os.O_CREAT, 0o600)
        fcntl.flock(self._alive, fcntl.LOCK_EX)
        self.segment = self._next_segment(SEGMENT_SIZE)

    def _next_segment(self, size: int) -> Segment:
        self._number += 1
        raw = bytes.fromhex(self.id.replace("-", ""))
        return Segment(self.folder / f"{self._number:06d}.seg", raw, time.time_ns() // 1000, size)

    def now(self) -> int:
        """Return microseconds since 1970 that never go back within this writer."""
        moment = time.time_ns() // 1000
        if moment < self.last_time:
            return self.last_time
        self.last_time = moment
        return moment

    def make_room(self, size: int) -> None:
        """Begin a new segment where a record of that size does not fit."""
        if self.segment.fits(size):
            return
        fresh = self._next_segment(max(SEGMENT_SIZE, size + 1024))
        self.segment.close()
        self.segment = fresh
        self.generation += 1
        start_sender(self.root)

    def write(self, record: dict[str, Any]) -> None:
        """Append one JSON record; it is kept when this returns, also if the process is killed."""
        text = json.dumps(record, separators=(",", ":")).encode()
        if len(text) > _MEMORY_LIMIT:
            raise TooLarge(
                f"One call recorded {len(text)} bytes; at most {_MEMORY_LIMIT} are kept. Record it as a file."
            )
        with self.lock:
            self.make_room(json_size(text))
            self.segment.write_json(text)


_writer: Writer | None = None
_guard = threading.Lock()


def current_writer() -> Writer:
    """Return this process's writer, made when first needed."""
    global _writer
    with _guard:
        if _writer is None:
            folder = spool_folder()
            try:
                _writer = Writer(folder)
            except OSError as error:
                raise InvalidInput(
                    f"The spool {folder} cannot be written ({error.strerror}); set KINETRUM_SPOOL to a folder of yours."
                ) from error
        return _writer


def _forget_after_fork() -> None:
    global _writer, _guard
    _writer, _guard = None, threading.Lock()


os.register_at_fork(after_in_child=_forget_after_fork)


def destination(root: Path, url: str, token: str | None) -> str:
    """Keep address and token for the sender, readable by the owner only; returns the destination's name."""
    name = hashlib.sha256(f"{url} {token}".encode()).hexdigest()[:16]
    path = root / "destinations" / f"{name}.json"
    if not path.exists():
        path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        part = path.with_name(f"{name}.{os.getpid()}.part")
        handle = os.open(part, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
        with os.fdopen(handle, "w") as file:
            json.dump({"url": url, "token": token}, file)
        os.replace(part, path)
    return name


def is_held(path: Path) -> bool:
    """Tell whether some process holds the lock on a file."""
    try:
        handle = os.open(path, os.O_RDWR)
    except FileNotFoundError:
        return False
    try:
        fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError:
        return True
    finally:
        os.close(handle)
    return False


def start_sender(root: Path) -> None:
    """Start the process that delivers, unless one is at work; failures are warned of, never raised."""
    if is_held(root / "sender.lock") or os.environ.get("KINETRUM_SENDER") == "off":
        return
    import subprocess
    import sys

    try:
        handle = os.open(root / "sender.log", os.O_WRONLY | os.O_CREAT | os.O_APPEND, 0o600)
        with os.fdopen(handle, "ab") as log:
            process = subprocess.Popen(
                [sys.executable, "-m", "kinetrum.client.sender", str(root)],
                stdin=subprocess.DEVNULL, stdout=log, stderr=log, start_new_session=True, close_fds=True,
            )  # fmt: skip
        process.returncode = 0  # It outlives this process on purpose; nobody waits for it.
    except OSError as error:
        warnings.warn(
            f"Kinetrum's sender was not started ({error}); 'kinetrum spool send' delivers later.",
            stacklevel=3,
        )


def _close_at_exit() -> None:
    if _writer is not None and _writer._pid == os.getpid():
        with _writer.lock:
            _writer.segment.close()


def close_writer_at_exit() -> None:
    """Mark the last segment as ended when the interpreter leaves; registered once, before runs end themselves."""
    atexit.register(_close_at_exit)


close_writer_at_exit()
