"""Connections: how long one may take, and how many there may be, without anybody having to sign in first.

Whoever opens connections and sends nothing, or half a request, holds nothing up: a request's headers arrive within ten
seconds; where connections run out, the ones that wait for a request longest make room, those of the address that has
most of them first; an answer that nobody reads is given up. Deadlines of bodies are in `bodies`.
"""

from __future__ import annotations

import asyncio
import resource
from collections import defaultdict
from collections.abc import Callable
from typing import Any

import h11
from uvicorn.protocols.http.h11_impl import H11Protocol

from kinetrum.core.access.networks import network_of

# How long a request's line and headers may take from the connection's beginning, or from their own first byte.
HEADERS_S = 10.0
# How long an answer may wait for its reader to take anything of it.
READER_S = 120.0
# How many connections of one address may be open; a proxy that is named as one may have all there are.
PER_ADDRESS = 256
# How many there may be in all, where the system allows as many open files.
IN_ALL = 4_096
# What the process itself has open: files, the database, the processes that it starts.
_OWN_FILES = 512


def room_for_connections() -> int:
    """Let this process open as many files as the system allows it, and return how many connections that makes."""
    _, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    wanted = IN_ALL + _OWN_FILES
    limit = wanted if hard == resource.RLIM_INFINITY else min(wanted, hard)
    soft, _ = resource.getrlimit(resource.RLIMIT_NOFILE)
    if soft != resource.RLIM_INFINITY and soft < limit:
        resource.setrlimit(resource.RLIMIT_NOFILE, (limit, hard))
    return max(64, limit - _OWN_FILES)


class Connections:
    """All connections of this process, and which of them wait for a request, the longest first."""

    def __init__(
        self, in_all: int = IN_ALL, per_address: int = PER_ADDRESS, is_proxy: Callable[[str], bool] = lambda _: False
    ) -> None:
        self.in_all, self.per_address, self.is_proxy = in_all, per_address, is_proxy
        self._open: dict[str, set[BoundedProtocol]] = defaultdict(set)
        self._waiting: dict[str, dict[BoundedProtocol, None]] = defaultdict(dict)
        self._count = 0

    def add(self, connection: BoundedProtocol) -> bool:
        """Count a new connection; False where there is no room for it and none that waits can make some."""
        address = network_of(connection.address)
        is_full = len(self._open.get(address, ())) >= self.per_address
        if is_full and not self.is_proxy(connection.address) and not self._make_room(address):
            return False
        if self._count >= self.in_all and not self._make_room(self._most_waiting()):
            return False
        # Looked up only now: making room forgets an address that has no connection left.
        self._open[address].add(connection)
        self._count += 1
        self.wait(connection)
        return True

    def wait(self, connection: BoundedProtocol) -> None:
        """Note that a connection waits for a request from now on."""
        self._waiting[network_of(connection.address)][connection] = None

    def work(self, connection: BoundedProtocol) -> None:
        """Note that a connection's request has arrived."""
        self._drop_waiting(connection)

    def remove(self, connection: BoundedProtocol) -> None:
        """Forget a connection that has ended."""
        mine = self._open.get(network_of(connection.address), set())
        if connection in mine:
            mine.discard(connection)
            self._count -= 1
            if not mine:
                del self._open[network_of(connection.address)]
        self._drop_waiting(connection)

    def _drop_waiting(self, connection: BoundedProtocol) -> None:
        waiting = self._waiting.get(network_of(connection.address))
        if waiting is not None:
            waiting.pop(connection, None)
            if not waiting:
                del self._waiting[network_of(connection.address)]

    def _most_waiting(self) -> str:
        return max(self._waiting, key=lambda address: len(self._waiting[address]), default="")

    def _make_room(self, address: str) -> bool:
        longest = next(iter(self._waiting.get(address, ())), None)
        if longest is None:
            return False
        self.remove(longest)
        longest.transport.abort()
        return True


class BoundedProtocol(H11Protocol):
    """One connection that has deadlines and is counted."""

    connections_of_all = Connections()

    def __init__(self, *arguments: Any, **options: Any) -> None:
        super().__init__(*arguments, **options)
        self.address = ""
        self._headers_due: asyncio.TimerHandle | None = None
        self._reader_due: asyncio.TimerHandle | None = None

    def connection_made(self, transport: asyncio.Transport) -> None:  # type: ignore[override]
        """Count the connection, or close it where there is no room."""
        super().connection_made(transport)
        self.address = self.client[0] if self.client else ""
        if self.connections_of_all.add(self):
            self._expect_headers()
        else:
            transport.abort()

    def connection_lost(self, exc: Exception | None) -> None:
        """Forget the connection."""
        self.connections_of_all.remove(self)
        self._cancel(self._headers_due)
        self._cancel(self._reader_due)
        super().connection_lost(exc)

    def data_received(self, data: bytes) -> None:
        """Read on; a request has to be whole, up to its body, before its deadline."""
        super().data_received(data)
        self._look_at_state()

    def on_response_complete(self) -> None:
        """Wait for the next request."""
        super().on_response_complete()
        if not self.transport.is_closing():
            self.connections_of_all.wait(self)
            self._look_at_state()

    def _look_at_state(self) -> None:
        if self.transport.is_closing():
            return
        if self.conn.their_state is not h11.IDLE:
            self.connections_of_all.work(self)
            self._cancel(self._headers_due)
            self._headers_due = None
        elif self._headers_due is None and self.conn.trailing_data[0]:
            self._expect_headers()

    def _expect_headers(self) -> None:
        self._headers_due = self.loop.call_later(HEADERS_S, self._give_up)

    def _give_up(self) -> None:
        if self.transport.is_closing():
            return
        if self.conn.our_state is h11.IDLE and self.conn.trailing_data[0]:
            response = h11.Response(status_code=408, headers=[(b"connection", b"close"), (b"content-length", b"0")])
            self.transport.write((self.conn.send(response) or b"") + (self.conn.send(h11.EndOfMessage()) or b""))
        self.transport.close()

    def pause_writing(self) -> None:
        """Give whoever reads the answer a time to go on."""
        super().pause_writing()
        self._reader_due = self.loop.call_later(READER_S, self.transport.abort)

    def resume_writing(self) -> None:
        """Go on writing."""
        self._cancel(self._reader_due)
        self._reader_due = None
        super().resume_writing()

    @staticmethod
    def _cancel(timer: asyncio.TimerHandle | None) -> None:
        if timer is not None:
            timer.cancel()
