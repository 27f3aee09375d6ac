"""The thread of the sender that delivers inputs and outputs, beside everything else."""

from __future__ import annotations

import json
import logging
import random
import threading
import time
from pathlib import Path

from kinetrum.client.sender.file_operations import NotReadYet
from kinetrum.client.sender.file_queue import waiting_files
from kinetrum.client.sender.operations import RunCalls
from kinetrum.client.sender.routes import Obstructed
from kinetrum.client.spool.obstructions import HELD_FILES_NOTE, asked_at, note_held
from kinetrum.core.base.errors import Unavailable

UNKNOWN_RUN_S = 600.0
_PAUSE_S, _BACKOFF_S = 0.1, (0.5, 15.0)
log = logging.getLogger("kinetrum.sender")


class LaterThread:
    """Delivers what waits in the folders of all writers that may be delivered here."""

    def __init__(self, root: Path) -> None:
        self.root = root
        self.calls = RunCalls(root, "files")
        self.writers: set[str] = set()
        self._asked = 0.0
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
            asked_moment = asked_at(self.root)
            if asked_moment > self._asked:
                self._asked = asked_moment
                self._backoff.clear()
            for name in sorted(self.writers):
                folder = self.root / "writers" / name
                if not folder.exists():
                    self.writers.discard(name)
                    continue
                if self._backoff.get(name, (0.0, 0.0))[0] <= time.monotonic():
                    self._deliver(folder)

    def _deliver(self, folder: Path) -> None:
        began = time.time()
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
            (folder / HELD_FILES_NOTE).unlink(missing_ok=True)
        except Obstructed as error:
            self._backoff[folder.name] = (error.until, _BACKOFF_S[0])
        except Unavailable as error:
            pause = min(self._backoff.get(folder.name, (0.0, _BACKOFF_S[0]))[1] * 1.6, _BACKOFF_S[1])
            log.warning("%s Files are tried again in about %.1f s.", error, pause)
            note_held(folder / HELD_FILES_NOTE, error, began, pause)
            self._backoff[folder.name] = (time.monotonic() + pause * random.uniform(0.5, 1.0), pause)
        except Exception:
            log.exception("a file's delivery failed")
            self._backoff[folder.name] = (time.monotonic() + _BACKOFF_S[1], _BACKOFF_S[1])
