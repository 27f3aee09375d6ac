"""Turns for what costs much: a queue of bounded length for each kind of work, fair between people.

Who waits, waits in the event loop and in no thread, so that everything else is answered meanwhile; who comes when the
queue is full is told to come back (503, Retry-After). Of those who wait the one whose work is least under way is next.
"""

from __future__ import annotations

import asyncio
from collections import Counter, deque
from collections.abc import AsyncIterator, Hashable
from contextlib import asynccontextmanager
from typing import Any

from fastapi import Depends, Request

from kinetrum.core.access.networks import network_of
from kinetrum.core.base.errors import Unavailable
from kinetrum.service.http.access import SignedIn, client_address

# Nobody waits longer for a turn.
PATIENCE_S = 30.0


class Turns:
    """The turns of one kind of work.

    `at_once` are under way together, `each` of one person; `waiting` wait together, `each_waiting` of one person.
    """

    def __init__(self, what: str, at_once: int, waiting: int, *, each: int = 1, each_waiting: int = 8) -> None:
        self.what, self.at_once, self.waiting = what, at_once, waiting
        self.each, self.each_waiting = each, each_waiting
        self._working: Counter[Hashable] = Counter()
        # The people who wait, in the order in which they are looked at, with their requests in order.
        self._queues: dict[Hashable, deque[asyncio.Future[None]]] = {}

    @asynccontextmanager
    async def turn(self, person: Hashable) -> AsyncIterator[None]:
        """Wait for a turn and have it as long as this lasts; raises Unavailable where too many wait already."""
        await self._take(person)
        try:
            yield
        finally:
            self._working[person] -= 1
            if not self._working[person]:
                del self._working[person]
            self._call_next()

    async def _take(self, person: Hashable) -> None:
        if self._is_free_for(person) and person not in self._queues:
            self._working[person] += 1
            return
        mine = len(self._queues.get(person, ()))
        if mine >= self.each_waiting or sum(map(len, self._queues.values())) >= self.waiting:
            raise self._refusal(mine >= self.each_waiting)
        called: asyncio.Future[None] = asyncio.get_running_loop().create_future()
        self._queues.setdefault(person, deque()).append(called)
        try:
            async with asyncio.timeout(PATIENCE_S):
                await called
        except (TimeoutError, asyncio.CancelledError) as error:
            if called.done() and not called.cancelled():
                # It was called in the same moment; the turn goes on to the next.
                self._working[person] -= 1
            self._leave(person, called)
            self._call_next()
            if isinstance(error, TimeoutError):
                raise self._refusal(own=False) from None
            raise

    def _refusal(self, own: bool) -> Unavailable:
        whose = "of yours " if own else ""
        return Unavailable(f"Too many requests {whose}wait for {self.what} just now; try again in a moment.")

    def _is_free_for(self, person: Hashable) -> bool:
        return self._working.total() < self.at_once and self._working[person] < self.each

    def _leave(self, person: Hashable, called: asyncio.Future[None]) -> None:
        mine = self._queues.get(person)
        if mine is not None and called in mine:
            mine.remove(called)
            if not mine:
                del self._queues[person]

    def _call_next(self) -> None:
        """Give free turns to those who wait: first whose work is least under way, and among them who came first."""
        while self._working.total() < self.at_once:
            free = [person for person in self._queues if self._working[person] < self.each]
            if not free:
                return
            person = min(free, key=lambda one: self._working[one])
            mine = self._queues.pop(person)
            called = mine.popleft()
            if mine:
                # Behind the others: everybody has one turn before anybody has two.
                self._queues[person] = mine
            if not called.done():
                self._working[person] += 1
                called.set_result(None)


# Reading files of strangers for people: previews, rows, differences within files, pictures made small.
FILES = Turns("files to be read", at_once=2, waiting=24)
PICTURES = Turns("pictures to be read", at_once=1, waiting=128, each_waiting=64)
# Judging rows for reviews and gates, and reading the signature of what is registered.
JUDGING = Turns("versions to be judged", at_once=2, waiting=96, each_waiting=32)
# Many small files that arrive together; senders have several under way.
BUNDLES = Turns("files that arrive together", at_once=2, waiting=64, each=2, each_waiting=32)
# What is streamed away: tables, points, archives, folders.
EXPORTS = Turns("tables and archives", at_once=8, waiting=32, each=3)
# Machines that fetch what they run do not wait behind people who take tables along.
FETCHES = Turns("bundles of versions", at_once=8, waiting=64, each=4, each_waiting=16)
IMPORTS = Turns("archives to be taken in", at_once=1, waiting=8, each_waiting=3)
# Hashing a password takes memory and time by design, and nobody has to be known for it.
PASSWORDS = Turns("passwords to be checked", at_once=1, waiting=24, each_waiting=6)

# Making accounts and links, which may be sent by mail; for administrators.
ACCOUNTS = Turns("accounts to be made", at_once=2, waiting=24)
# Asking the provider at whom people sign in: one that hangs holds up nobody who signs in here.
PROVIDER = Turns("sign-ins at the provider", at_once=2, waiting=24, each_waiting=6)


def in_turn(turns: Turns, *, while_streaming: bool = False) -> Any:
    """Return the dependency of a route that needs a turn; `while_streaming` keeps it until the answer was sent."""

    async def wait(actor: SignedIn) -> AsyncIterator[None]:
        async with turns.turn(actor.person_id):
            yield

    return Depends(wait, scope="request" if while_streaming else "function")


def _in_turn_by_address(turns: Turns) -> Any:
    async def wait(request: Request) -> AsyncIterator[None]:
        async with turns.turn(network_of(client_address(request))):
            yield

    return Depends(wait, scope="function")


PASSWORD_TURN = _in_turn_by_address(PASSWORDS)
PROVIDER_TURN = _in_turn_by_address(PROVIDER)
