"""The sender: delivers what all runs of this person on this machine recorded, beats their hearts, then leaves.

`python -m kinetrum.client.sender SPOOL` is started when needed and is alone on its spool by a lock.
A process of its own, because a thread would take the interpreter from the training loop.
"""

from __future__ import annotations

import contextlib
import faulthandler
import logging
import os
import random
import shutil
import signal
import sys
import time
from pathlib import Path

from kinetrum import locks
from kinetrum.client.calls import NotYet, RunCalls
from kinetrum.client.delivery import Delivery
from kinetrum.client.later import LaterThread, waiting_files
from kinetrum.client.resources import ResourceWatch
from kinetrum.client.starting import sender_lock
from kinetrum.core.errors import Unavailable

PAUSE_S, IDLE_S, BEAT_S, SAMPLES_EVERY_S = 0.2, 20.0, 15.0, 2.5
UNKNOWN_RUN_S, UNKNOWN_PAUSE_S = 600.0, 1.0
_BACKOFF_S = (0.5, 15.0)
_OPENING_S = 86_400
log = logging.getLogger("kinetrum.sender")


class Sender:
    """One round after another over all writers' folders."""

    def __init__(self, root: Path) -> None:
        self.root = root
        self.calls = RunCalls(root)
        self.deliveries: dict[str, Delivery] = {}
        self.beaten: dict[str, float] = {}
        self.checked: set[str] = set()
        self.told: set[str] = set()
        self.paused: dict[str, float] = {}
        self.resources = ResourceWatch()
        self.sampled: dict[str, float] = {}
        self.files = LaterThread(root)

    def round(self) -> bool:
        """Deliver what is there; tells whether there was work or a living writer."""
        busy, away = False, None
        folder = self.root / "writers"
        names = sorted(path.name for path in folder.iterdir()) if folder.exists() else []
        for name in names:
            delivery = self._delivery(folder / name)
            if self._obstructed(delivery):
                continue
            alive = delivery.writer_lives
            if time.monotonic() < self.paused.get(name, 0.0):
                continue
            try:
                self.calls.patient = delivery.is_patient(UNKNOWN_RUN_S)
                sent = delivery.round(self.calls)
                delivery.note_unknown(False)
                if alive:
                    self._beat(delivery)
                    self._send_resources(delivery)
            except NotYet as error:
                log.warning("%s", error)
                delivery.note_unknown(True)
                self.paused[name] = time.monotonic() + UNKNOWN_PAUSE_S
                continue
            except Unavailable as error:
                # One service that is away holds up nobody who records to another.
                away = error
                continue
            self.files.allow(name)
            busy = busy or alive or sent > 0
            if not alive and delivery.finish():
                del self.deliveries[name]
                self.resources.forget(name)
        if away is not None:
            raise away
        return busy or self.files.busy()

    def _delivery(self, folder: Path) -> Delivery:
        if folder.name not in self.deliveries:
            made = self.deliveries[folder.name] = Delivery(folder)
            made.before_end = lambda: self._send_resources(made, at_once=True)
        return self.deliveries[folder.name]

    def _obstructed(self, delivery: Delivery) -> bool:
        """Tell whether a writer's segments are not ours to deliver; said in the log once."""
        name = delivery.folder.name
        if name not in self.checked:
            why = delivery.obstacle()
            if why is None:
                self.checked.add(name)
                return False
            if name not in self.told:
                self.told.add(name)
                log.warning("%s is left alone: %s", delivery.folder, why)
            return True
        return False

    def _beat(self, delivery: Delivery) -> None:
        for run, address in delivery.open_runs.items():
            if time.monotonic() - self.beaten.get(run, 0.0) >= BEAT_S:
                self.calls.alive(address)
                self.beaten[run] = time.monotonic()

    def _send_resources(self, delivery: Delivery, at_once: bool = False) -> None:
        """Send what the writer's runs used of the machine since the last time."""
        watched = [address for address in delivery.open_runs.values() if address.get("watched")]
        name = delivery.folder.name
        if not watched or (not at_once and time.monotonic() < self.sampled.get(name, 0.0)):
            return
        self.resources.watch(delivery.folder)
        self.sampled[name] = time.monotonic() + SAMPLES_EVERY_S
        found = self.resources.take(name)
        if found is None:
            return
        try:
            for address in watched:
                self.calls.resources(address, *found)
        except Unavailable:
            self.resources.give_back(name, found[1])
            raise

    def work(self, lock: int, until_idle_s: float = IDLE_S) -> None:
        """Go on until nothing was to do for a while; waits longer and longer while a service is away."""
        idle_since, backoff = time.monotonic(), _BACKOFF_S[0]
        while time.monotonic() - idle_since < until_idle_s and still_ours(self.root, lock):
            try:
                busy = self.round()
                backoff = _BACKOFF_S[0]
            except Unavailable as error:
                log.warning("%s Trying again in about %.1f s.", error, backoff)
                time.sleep(backoff * random.uniform(0.5, 1.0))
                backoff = min(backoff * 1.6, _BACKOFF_S[1])
                idle_since = time.monotonic()
                continue
            except Exception:
                log.exception("a round failed")
                time.sleep(_BACKOFF_S[1])
                continue
            if busy:
                idle_since = time.monotonic()
            time.sleep(PAUSE_S)


def still_ours(root: Path, lock: int) -> bool:
    """Tell whether the lock file is the one that was locked: a spool may be deleted and made anew under a sender."""
    try:
        return os.stat(sender_lock(root)).st_ino == os.fstat(lock).st_ino
    except FileNotFoundError:
        return False


def clear_unopened(root: Path) -> None:
    """Remove folders whose writers died before they were open, a day after."""
    for made in (root / "opening").glob("*"):
        with contextlib.suppress(FileNotFoundError):
            if time.time() - made.stat().st_mtime > _OPENING_S:
                shutil.rmtree(made, ignore_errors=True)


def _can_go_on(delivery: Delivery) -> bool:
    return delivery.obstacle() is None and (delivery.pending() or bool(waiting_files(delivery.folder)))


def main() -> None:
    """Run as a process."""
    logging.basicConfig(level=logging.WARNING, format="%(asctime)s %(message)s")
    logging.getLogger("httpx").setLevel(logging.WARNING)
    # Started by 'kinetrum track' it inherits what that holds back; it must end when asked to.
    signal.pthread_sigmask(signal.SIG_SETMASK, ())
    # Asked with SIGUSR1, it writes to its log where it is.
    faulthandler.register(signal.SIGUSR1)
    root = Path(sys.argv[1])
    root.mkdir(parents=True, exist_ok=True, mode=0o700)
    while True:
        lock = locks.take(sender_lock(root))
        if lock is None:
            return
        clear_unopened(root)
        sender = Sender(root)
        sender.files.start()
        sender.work(lock)
        sender.files.stop()
        sender.calls.close()
        os.close(lock)
        # Whoever wrote between the last round and the release saw the lock held and relied on this sender.
        if not any(_can_go_on(Delivery(path)) for path in (root / "writers").glob("*")):
            return


if __name__ == "__main__":
    main()
