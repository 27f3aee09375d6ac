"""The service that reading and the registry talk to, and what every such call does first: deliver the spool."""

from __future__ import annotations

import atexit
from dataclasses import dataclass

from kinetrum.client.connection import Connection, find_connection
from kinetrum.client.draining import drain
from kinetrum.client.http import Service
from kinetrum.places import spool_folders

DRAIN_S = 30.0


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


def open_session(project: str | None = None, url: str | None = None, *, wait: bool = True) -> Session:
    """Find the service; first wait, up to 30 s, until what this machine recorded is delivered."""
    connection = find_connection(url, project)
    if wait:
        for folder in spool_folders():
            drain(folder, DRAIN_S)
    return Session(_service(connection.url, connection.token), connection)
