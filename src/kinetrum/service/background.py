"""Work in the background: compaction of points, lost runs, old events, temporary files, what was cut off."""

from __future__ import annotations

import logging
import threading
import time

from kinetrum.actions.data import new_versions, uploads
from kinetrum.actions.live import change_feed
from kinetrum.actions.people import instance_state, journal_records, project_secrets
from kinetrum.actions.recording import intake
from kinetrum.actions.runs import descriptions
from kinetrum.core.access.sealing import Seal
from kinetrum.core.base.errors import Unavailable
from kinetrum.storage.data.blobs import BlobStore

COMPACT_EVERY_S = 0.5
LOST_EVERY_S = 5.0
REST_FACTOR, REST_LONGEST_S = 2.0, 10.0
SWEEP_EVERY_S = 600.0
log = logging.getLogger("kinetrum.chores")


class Chores:
    """One thread; any number of service processes may have one on the same database."""

    def __init__(self, blobs: BlobStore, seal: Seal | None = None) -> None:
        self._blobs, self._seal = blobs, seal
        self._stop = threading.Event()
        self._rest_until: dict[int, float] = {}
        self._thread = threading.Thread(target=self._work, name="chores", daemon=True)

    def start(self) -> None:
        """Begin."""
        self._thread.start()

    def stop(self) -> None:
        """Finish the piece at hand and end."""
        self._stop.set()
        self._thread.join(10)

    def _work(self) -> None:
        next_lost, next_sweep = time.monotonic(), time.monotonic()
        while not self._stop.wait(COMPACT_EVERY_S):
            try:
                self._compact()
                if time.monotonic() >= next_lost:
                    intake.mark_lost_runs()
                    # Also while nobody follows, or the first who does would wait behind a night's events.
                    change_feed.put_in_order()
                    change_feed.forget_old()
                    instance_state.note_process()
                    while journal_records.chain_entries():
                        pass
                    next_lost = time.monotonic() + LOST_EVERY_S
                if time.monotonic() >= next_sweep:
                    uploads.sweep(self._blobs, time.time())
                    new_versions.index_manifests()
                    descriptions.mark_what_waits()
                    self._seal_anew()
                    next_sweep = time.monotonic() + SWEEP_EVERY_S
            except Unavailable as error:
                log.warning("%s", error)
                self._stop.wait(2)
            except Exception:
                log.exception("a chore failed; the next round tries again")
                self._stop.wait(2)

    def _seal_anew(self) -> None:
        if self._seal is not None and (renewed := project_secrets.seal_anew(self._seal)):
            log.info("%d secrets were sealed anew with the first key", renewed)

    def _compact(self) -> None:
        # A run with thousands of metrics takes longer to compact; it is left alone for a while in proportion.
        now = time.monotonic()
        self._rest_until = {run: until for run, until in self._rest_until.items() if until > now}
        for run_id in intake.waiting_runs(list(self._rest_until)):
            began = time.monotonic()
            while not self._stop.is_set() and intake.compact_run(run_id):
                pass
            ended = time.monotonic()
            self._rest_until[run_id] = ended + min(REST_LONGEST_S, REST_FACTOR * (ended - began))
