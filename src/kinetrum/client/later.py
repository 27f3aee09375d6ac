"""Files are delivered beside everything else: they may take long, and nobody who measures waits for them.

The delivery of a writer's records puts inputs and outputs into the folder `later` beside the segments, in order, and
goes on; a thread of the sender delivers them, each writer's in order. What was delivered is removed from there.
"""

from __future__ import annotations

import json
import logging
import os
import random
import threading
import time
from pathlib import Path
from typing import Any

from kinetrum.client.calls import NotYet, RunCalls
from kinetrum.client.file_calls import NotReadYet
from kinetrum.core.errors import Unavailable

FILE_RECORDS = frozenset({"use", "used", "generated"})
UNKNOWN_RUN_S = 600.0
_PAUSE_S, _BACKOFF_S = 0.1, (0.5, 15.0)
log = logging.getLogger("kinetrum.sender")


def put_later(folder: Path, name: str, data: dict[str, Any]) -> None:
    """Keep a record of files for later; the same name again changes nothing."""
    later = folder / "later"
    later.mkdir(mode=0o700, exist_ok=True)
    part = later / f"{name}.part"
    part.write_text(json.dumps(data, allow_nan=True))
    os.replace(part, later / f"{name}.json")


def waiting_files(folder: Path) -> list[Path]:
    """Return a writer's records of files that wait, in order."""
    return sorted((folder / "later").glob("*.json"))


def run_of(path: Path) -> str | None:
    """Return the run that a waiting record belongs to; None where it was delivered meanwhile."""
    try:
        return str(json.loads(path.read_text())["run"])
    except FileNotFoundError:
        return None


class LaterThread:
    """Delivers what waits in the folders of all writers that may be delivered here."""

    def __init__(self, root: Path) -> None:
        self.root = root
        self.calls = RunCalls(root)
        self.writers: set[str] = set()
        self._stop = threading.Event()
        self._thread = threading.Thread(target=self._work, name="files", daemon=True)
        self._backoff: dict[str, tuple[float, float]] = {}

    def start(self) -> None:
        """Begin."""
        self._thread.start()

    def stop(self) -> None:
        """End after the record at hand; one that takes long is left, and begins anew with the next sender."""
        self._stop.set()
        self._thread.join(2.0)
        if not self._thread.is_alive():
            self.calls.close()

    def allow(self, name: str) -> None:
        """Say that a writer's records may be delivered here."""
        self.writers.add(name)

    def busy(self) -> bool:
        """Tell whether anything waits."""
        return any(waiting_files(self.root / "writers" / name) for name in list(self.writers))

    def _work(self) -> None:
        while not self._stop.wait(_PAUSE_S):
            for name in sorted(self.writers):
                folder = self.root / "writers" / name
                if not folder.exists():
                    self.writers.discard(name)
                    continue
                if self._backoff.get(name, (0.0, 0.0))[0] <= time.monotonic():
                    self._deliver(folder)

    def _deliver(self, folder: Path) -> None:
        try:
            for path in waiting_files(folder):
                if self._stop.is_set():
                    return
                # A run that another machine began may still have to arrive.
                self.calls.patient = time.time() - path.stat().st_mtime < UNKNOWN_RUN_S
                try:
                    self.calls.operate(json.loads(path.read_text()), folder)
                except NotReadYet:
                    continue
                path.unlink()
            self._backoff.pop(folder.name, None)
        except (Unavailable, NotYet) as error:
            pause = min(self._backoff.get(folder.name, (0.0, _BACKOFF_S[0]))[1] * 1.6, _BACKOFF_S[1])
            log.warning("%s Files are tried again in about %.1f s.", error, pause)
            self._backoff[folder.name] = (time.monotonic() + pause * random.uniform(0.5, 1.0), pause)
        except Exception:
            log.exception("a file's delivery failed")
            self._backoff[folder.name] = (time.monotonic() + _BACKOFF_S[1], _BACKOFF_S[1])
