"""The sender: delivers what all runs of this person on this machine recorded, beats their hearts, then leaves.

`python -m kinetrum.client.sender.main SPOOL` is started when needed and is alone on its spool by a lock.
A process of its own, because a thread would take the interpreter from the training loop.
"""

from __future__ import annotations

import contextlib
import faulthandler
import logging
import os
import shutil
import signal
import sys
import time
from pathlib import Path

from kinetrum import locks
from kinetrum.client.capture.machine_usage import ResourceWatch
from kinetrum.client.sender.delivery import UNKNOWN_NOTE, Delivery
from kinetrum.client.sender.file_queue import waiting_files
from kinetrum.client.sender.file_thread import LaterThread
from kinetrum.client.sender.launch import sender_lock
from kinetrum.client.sender.operations import RunCalls
from kinetrum.client.sender.routes import Obstructed
from kinetrum.client.spool.obstructions import NotYet, asked_at
from kinetrum.client.transport.http import BodyRefused
from kinetrum.core.base.errors import Unavailable
from kinetrum.places import make_private_folder

PAUSE_S, IDLE_S, BEAT_S, SAMPLES_EVERY_S = 0.2, 20.0, 15.0, 2.5
UNKNOWN_RUN_S, UNKNOWN_PAUSE_S = 600.0, 1.0
# What a proxy refuses is tried again this seldom, and at once when somebody asks.
_REFUSED_PAUSE_S, _FAILED_PAUSE_S = 15.0, 15.0
_OPENING_S = 86_400
log = logging.getLogger("kinetrum.sender")


class Sender:
    """One round after another over all writers' folders."""

    def __init__(self, root: Path) -> None:
        self.root = root
        self.calls = RunCalls(root, "records")
        self.deliveries: dict[str, Delivery] = {}
        self.beaten: dict[str, float] = {}
        self.checked: set[str] = set()
        self.told: set[str] = set()
        self.paused: dict[str, float] = {}
        self.asked = asked_at(root)
        self.waited_until = 0.0
        self.resources = ResourceWatch()
        self.sampled: dict[str, float] = {}
        self.files = LaterThread(root)

    def round(self) -> bool:
        """Deliver what is there; tells whether there was work, a living writer, or something that waits for a service.

        One service that is away, and one writer that is held up, hold up nobody else.
        """
        folder = self.root / "writers"
        names = sorted(path.name for path in folder.iterdir()) if folder.exists() else []
        asked_moment = asked_at(self.root)
        if asked_moment > self.asked:
            self.asked = asked_moment
            self.paused.clear()
        busy = [self._serve(folder / name) for name in names]
        return any(busy) or self.files.busy()

    def _serve(self, folder: Path) -> bool:
        """Deliver what one writer left; tells whether there was work, or will be."""
        name = folder.name
        delivery = self._delivery(folder)
        if self._obstructed(delivery):
            return False
        if time.monotonic() < self.paused.get(name, 0.0):
            # Of a run that nobody knows, this process does not stay to hear.
            return delivery.writer_lives or not (folder / UNKNOWN_NOTE).exists()
        alive, began = delivery.writer_lives, time.time()
        try:
            sent = self._deliver(delivery, alive)
        except FileNotFoundError:
            if folder.exists():
                raise
            # Somebody discarded what waited there.
            self._forget(name)
            return False
        except NotYet as error:
            self._hold(delivery, error, began, UNKNOWN_PAUSE_S)
            delivery.note_unknown(True)
            return False
        except BodyRefused as error:
            self._hold(delivery, error, began, _REFUSED_PAUSE_S)
            return True
        except Obstructed as error:
            self._wait_for_service(delivery, error)
            return True
        self.files.allow(name)
        if not alive and delivery.finish():
            self._forget(name)
        return alive or sent > 0

    def _forget(self, name: str) -> None:
        del self.deliveries[name]
        self.resources.forget(name)

    def _deliver(self, delivery: Delivery, alive: bool) -> int:
        self.calls.patient = delivery.is_patient(UNKNOWN_RUN_S)
        sent = delivery.round(self.calls)
        delivery.note_arrival()
        if alive:
            self._beat(delivery)
            self._send_resources(delivery)
        return sent

    def _hold(self, delivery: Delivery, error: Unavailable, began: float, pause_s: float) -> None:
        """One writer is held up by what the service, or a proxy before it, said of its records."""
        log.warning("%s", error)
        delivery.note_obstruction(error, began, pause_s)
        self.paused[delivery.folder.name] = time.monotonic() + pause_s

    def _wait_for_service(self, delivery: Delivery, error: Obstructed) -> None:
        """Everything that goes to a service waits until that is tried again; said in the log once a try."""
        if error.until != self.waited_until:
            self.waited_until = error.until
            log.warning("%s Trying again in about %.1f s.", error, max(0.0, error.until - time.monotonic()))
        self.paused[delivery.folder.name] = error.until

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
        samples = self.resources.take(name)
        if samples is None:
            return
        try:
            for address in watched:
                self.calls.resources(address, *samples)
        except Unavailable:
            self.resources.give_back(name, samples[1])
            raise

    def work(self, lock: int, until_idle_s: float = IDLE_S) -> None:
        """Go on until nothing was to do for a while."""
        idle_since = time.monotonic()
        while time.monotonic() - idle_since < until_idle_s and still_ours(self.root, lock):
            try:
                busy = self.round()
            except Exception:
                log.exception("a round failed")
                time.sleep(_FAILED_PAUSE_S)
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
    make_private_folder(str(root))
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
