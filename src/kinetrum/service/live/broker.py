"""Live changes: one poller per process reads the ordered events and hands them to every open console.

Any number of processes may do so on one database. An event's place in the order is its cursor; whoever comes
back with one reads from the database what was missed, and goes on with what the poller hands out. Each event is
checked against what its receiver may see at that moment.
"""

from __future__ import annotations

import asyncio
import contextlib
import json
import logging
import time
from collections import Counter
from collections.abc import AsyncIterator, Callable, Iterator
from dataclasses import dataclass

from fastapi.sse import ServerSentEvent
from starlette.concurrency import run_in_threadpool

from kinetrum.actions.live import change_feed
from kinetrum.actions.people import signing_in
from kinetrum.core.base.errors import KinetrumError, Unavailable
from kinetrum.storage.db.clock import iso
from kinetrum.storage.live.events import Event

POLL_S, SIGN_OF_LIFE_S = 0.25, 15.0
# A stream ends within this time after its session or token.
CHECK_S = 1.0
_QUEUE_LIMIT = 2_000
# As many consoles and programs as one person has open, on all machines; and as many as a process can tell of changes.
STREAMS_EACH, STREAMS_IN_ALL = 64, 1_500
_GATHER_MS, _GATHER_MS_EACH, _GATHER_MS_MOST = 350, 20, 5_000
log = logging.getLogger("kinetrum.live")


@dataclass(frozen=True)
class Told:
    """An event as it is sent, made once for everybody."""

    event: Event
    sent: ServerSentEvent


def told(event: Event) -> Told:
    """Shape an event; what it does not have is left out."""
    data = {"kind": event.kind, "project": event.project, "subject": event.subject, "at": iso(event.at)}
    if event.kind == "journal":
        data["act"] = event.word
    else:
        data |= {"experiment": event.experiment, "status": event.word}
    return Told(event, ServerSentEvent(id=str(event.stamp), event="change", raw_data=json.dumps(data)))


class Broker:
    """Hands events to subscribers; polls only while there are any."""

    def __init__(self) -> None:
        # Each with the digest of the token or session that it was opened with.
        self._queues: dict[asyncio.Queue[Told | None], bytes] = {}
        self._streams: Counter[int] = Counter()
        self._checked_at = 0.0
        self._at: int | None = None
        self._finding_at = asyncio.Lock()
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

    def pace(self, cursor: int | None = None) -> ServerSentEvent:
        """Say how long a console is to gather changes before it reads anew: longer the more consoles are open."""
        gather = min(_GATHER_MS_MOST, _GATHER_MS + _GATHER_MS_EACH * (len(self._queues) - 1))
        return ServerSentEvent(event="pace", data={"gather_ms": gather}, id=None if cursor is None else str(cursor))

    def has_room_for(self, person_id: int) -> bool:
        """Tell whether a person may open one more stream in this process."""
        return self._streams[person_id] < STREAMS_EACH and self._streams.total() < STREAMS_IN_ALL

    @contextlib.contextmanager
    def counted(self, person_id: int) -> Iterator[None]:
        """Count a person's stream as long as this lasts."""
        self._streams[person_id] += 1
        try:
            yield
        finally:
            self._streams[person_id] -= 1

    async def subscribe(
        self, visible: Callable[[], frozenset[int]], after: int | None, credential: bytes
    ) -> AsyncIterator[ServerSentEvent]:
        """Yield events of visible projects behind `after`, or from now on, and now and then a sign of life.

        `visible` says which projects those are, and raises where the receiver may not listen any more. `credential` is
        the digest of the token or session that the stream was opened with, and ends with.
        """
        queue: asyncio.Queue[Told | None] = asyncio.Queue(_QUEUE_LIMIT)
        self._queues[queue] = credential
        try:
            projects = await run_in_threadpool(visible)
            last = await self._position()
            # With a cursor from the start, also who is cut off before the first event misses nothing.
            yield self.pace(last if after is None else after)
            if after is not None and await run_in_threadpool(change_feed.is_gone, after):
                yield ServerSentEvent(id=str(last), event="reset", data={"reason": "too long away"})
                after = None
            async for item in self._in_order(queue, last if after is None else after):
                if item is None or item.event.word in change_feed.ACCESS_ACTS:
                    projects = await run_in_threadpool(visible)
                if item is None:
                    yield self.pace()
                elif item.event.project_id in projects:
                    yield item.sent
        except KinetrumError:
            return
        finally:
            self._queues.pop(queue, None)

    async def _in_order(self, queue: asyncio.Queue[Told | None], after: int) -> AsyncIterator[Told | None]:
        """Yield first what the database has behind `after`, then what the poller hands out; None while it is quiet."""
        while missed := await run_in_threadpool(change_feed.events_after, after):
            for event in missed:
                after = event.stamp
                yield told(event)
        while True:
            try:
                item = await asyncio.wait_for(queue.get(), SIGN_OF_LIFE_S)
            except TimeoutError:
                yield None
                continue
            if item is None:
                return
            if item.event.stamp > after:
                yield item

    async def _position(self) -> int:
        """Return the place up to which the poller has handed out events, or from which it is to begin."""
        async with self._finding_at:
            if self._at is None:
                self._at = await run_in_threadpool(change_feed.present)
            return self._at

    async def _poll(self) -> None:
        while True:
            await asyncio.sleep(POLL_S)
            if not self._queues:
                self._at = None
                continue
            try:
                await self._check_credentials()
                await self._hand_out()
            except Unavailable:
                continue
            except Exception:
                log.exception("looking for changes failed")

    async def _check_credentials(self) -> None:
        """End the streams whose token was revoked or whose session has ended, by one query for all of this process."""
        if time.monotonic() - self._checked_at < CHECK_S:
            return
        self._checked_at = time.monotonic()
        lasting = await run_in_threadpool(signing_in.lasting_credentials, set(self._queues.values()))
        for queue in [queue for queue, credential in self._queues.items() if credential not in lasting]:
            self._cut_off(queue)

    async def _hand_out(self) -> None:
        at = await self._position()
        await run_in_threadpool(change_feed.put_in_order)
        for event in await run_in_threadpool(change_feed.events_after, at):
            item = told(event)
            self._at = event.stamp
            for queue in list(self._queues):
                self._put(queue, item)

    def _put(self, queue: asyncio.Queue[Told | None], item: Told) -> None:
        if not queue.full():
            queue.put_nowait(item)
            return
        # Too slow a reader: it is cut off and comes back with its last cursor.
        self._cut_off(queue)

    def _cut_off(self, queue: asyncio.Queue[Told | None]) -> None:
        self._queues.pop(queue, None)
        while not queue.empty():
            queue.get_nowait()
        queue.put_nowait(None)
