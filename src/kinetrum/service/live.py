"""Live changes: one poller per process watches the records and tells every open console.

A change is told by the time it was written. Transactions do not commit in that order, so every look
goes back a few seconds further than the last one, and what was told already is left out.
"""

from __future__ import annotations

import asyncio
import contextlib
import logging
from collections import OrderedDict
from collections.abc import AsyncIterator
from dataclasses import dataclass
from datetime import datetime, timedelta

from starlette.concurrency import run_in_threadpool

from kinetrum.actions import watching
from kinetrum.actions.watching import Change
from kinetrum.core.errors import Unavailable

POLL_S = 0.4
OVERLAP = timedelta(seconds=10)
_QUEUE_LIMIT = 2_000
log = logging.getLogger("kinetrum.live")


@dataclass(frozen=True)
class Told:
    """A change with the cursor to resume after it."""

    cursor: str
    change: Change


class Broker:
    """Hands changes to subscribers; polls only while there are any."""

    def __init__(self) -> None:
        self._queues: set[asyncio.Queue[Told | None]] = set()
        self._told: OrderedDict[tuple[str, str], None] = OrderedDict()
        self._task: asyncio.Task[None] | None = None

    def start(self) -> None:
        """Begin polling in the running event loop."""
        self._task = asyncio.create_task(self._poll())

    async def stop(self) -> None:
        """End polling and every subscription."""
        if self._task is not None:
            self._task.cancel()
            with contextlib.suppress(asyncio.CancelledError):
                await self._task
        for queue in self._queues:
            queue.put_nowait(None)

    async def subscribe(self, project: str, after: datetime | None) -> AsyncIterator[Told | None]:
        """Yield changes of a project, from `after` on where given; None now and then as a sign of life."""
        queue: asyncio.Queue[Told | None] = asyncio.Queue(_QUEUE_LIMIT)
        self._queues.add(queue)
        try:
            if after is not None:
                for change in await run_in_threadpool(watching.changes_since, after - OVERLAP):
                    if change.project == project:
                        yield Told(change.at, change)
            while True:
                try:
                    told = await asyncio.wait_for(queue.get(), 15)
                except TimeoutError:
                    yield None
                    continue
                if told is None:
                    return
                if told.change.project == project:
                    yield told
        finally:
            self._queues.discard(queue)

    async def _poll(self) -> None:
        since = await self._now()
        while True:
            await asyncio.sleep(POLL_S)
            if not self._queues:
                since = None
                continue
            try:
                if since is None:
                    since = await self._now()
                changes = await run_in_threadpool(watching.changes_since, since - OVERLAP if since else datetime.min)
                since = await self._now()
            except Unavailable:
                continue
            except Exception:
                log.exception("looking for changes failed")
                continue
            for change in changes:
                self._tell(change)

    async def _now(self) -> datetime | None:
        try:
            return await run_in_threadpool(watching.present)
        except Unavailable:
            return None

    def _tell(self, change: Change) -> None:
        key = (change.subject, change.at)
        if key in self._told:
            return
        self._told[key] = None
        while len(self._told) > 20_000:
            self._told.popitem(last=False)
        for queue in list(self._queues):
            if queue.full():
                # Too slow a reader: it is cut off and comes back with its last cursor.
                self._queues.discard(queue)
                while not queue.empty():
                    queue.get_nowait()
                queue.put_nowait(None)
            else:
                queue.put_nowait(Told(change.at, change))
