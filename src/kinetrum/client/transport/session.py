"""The service that reading and the registry talk to, and what every such call does first: let the spool arrive.

A call waits for what this machine recorded to the same service, as long as that is under way. What is held up is not
waited for: the call answers with what is there and warns.
"""

from __future__ import annotations

import atexit
import contextlib
import warnings
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from kinetrum.client.sender.launch import start_sender
from kinetrum.client.spool.destinations import destination_of, keep_destination
from kinetrum.client.spool.draining import goes_to, marks_of, not_arrived, told_left, wait_for
from kinetrum.client.spool.obstructions import ask_again
from kinetrum.client.transport.connection import Connection, find_connection
from kinetrum.client.transport.http import Service
from kinetrum.core.base.errors import Unavailable
from kinetrum.places import spool_folders

UNDER_WAY_S, WAIT_S = 30.0, 120.0
_wait_to_the_end = False


@dataclass(frozen=True)
class Session:
    """A service and the project that references without one mean."""

    service: Service
    connection: Connection

    @property
    def project(self) -> str:
        """The project that references without one mean."""
        return self.connection.project


_services: dict[tuple[str, str | None], Service] = {}


def _service(url: str, token: str | None) -> Service:
    if (url, token) not in _services:
        _services[url, token] = Service(url, token)
    return _services[url, token]


def close_all() -> None:
    """Close the connections that reading left open; later calls open new ones."""
    for service in _services.values():
        service.close()
    _services.clear()


atexit.register(close_all)


@contextlib.contextmanager
def waiting_to_the_end() -> Iterator[None]:
    """Let calls of this process wait for what is held up as well, for two minutes."""
    global _wait_to_the_end
    _wait_to_the_end = True
    try:
        yield
    finally:
        _wait_to_the_end = False


def open_session(project: str | None = None, url: str | None = None, *, wait: bool = True) -> Session:
    """Find the service; first wait, up to 30 s, while what this machine recorded there is being delivered.

    Warns of what is not delivered then. Raises Unavailable where no service is known.
    """
    connection = find_connection(url, project)
    address = str(connection.url)
    if wait:
        _let_arrive(address, connection)
    return Session(_service(address, connection.token), connection)


def offer_token(root: Path) -> None:
    """Let the token that is valid now be tried for what waits for the same service with one that no longer is."""
    with contextlib.suppress(Unavailable):
        keep_destination(root, destination_of(find_connection()))


def told_waiting(address: str) -> str | None:
    """Have what waits for a service delivered to it now, in the background; says how much that is, None for nothing."""
    text = None
    for root in spool_folders():
        marks = marks_of(root, goes_to(root, address))
        if marks:
            ask_again(root)
            start_sender(root)
            runs = len(set().union(*(mark.runs for mark in marks)))
            text = f"{sum(mark.records for mark in marks)} records of {runs} {'run' if runs == 1 else 'runs'}"
    return text


def _let_arrive(address: str, connection: Connection) -> None:
    for root in spool_folders():
        marks = marks_of(root, goes_to(root, address))
        if not marks:
            continue
        keep_destination(root, destination_of(connection))
        if _wait_to_the_end:
            left = wait_for(root, marks, WAIT_S)
            if left:
                raise not_arrived(root, left, WAIT_S)
            continue
        left = wait_for(root, marks, UNDER_WAY_S, until_obstructed=True)
        if left:
            warnings.warn(told_left(root, left), stacklevel=5)
