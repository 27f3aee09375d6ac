"""The service that reading and the registry talk to, and what every such call does first: deliver the spool."""

from __future__ import annotations

import functools
from dataclasses import dataclass

from kinetrum.client.connection import Connection, find_connection
from kinetrum.client.draining import drain, undelivered
from kinetrum.client.http import Service
from kinetrum.places import spool_folder

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


@functools.lru_cache(maxsize=8)
def _service(url: str, token: str | None) -> Service:
    return Service(url, token)


def open_session(project: str | None = None, url: str | None = None, *, wait: bool = True) -> Session:
    """Find the service; first wait, up to 30 s, until what this machine recorded is delivered."""
    connection = find_connection(url, project)
    if wait and undelivered(spool_folder()):
        drain(spool_folder(), DRAIN_S)
    return Session(_service(connection.url, connection.token), connection)
