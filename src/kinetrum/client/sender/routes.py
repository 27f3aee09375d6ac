"""Ways to the services that what waits goes to, and what stands in the way of each, written down for whoever asks."""

from __future__ import annotations

import random
import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import TypeVar

import httpx

from kinetrum.client.spool.destinations import Destination, read_destination
from kinetrum.client.spool.obstructions import Obstruction, asked_at, note_file, read_note, take_settings, write_note
from kinetrum.client.transport.http import BodyRefused, Service
from kinetrum.core.base import errors

_PAUSE_S = (0.5, 15.0)
# A place that does not even refuse takes this long at each try, in which nobody else is served: it is tried seldom.
_SLOW_PAUSE_S, _SLOW_CONNECT_S = 30.0, 2.0
_SAID_AGAIN_S = 5.0


T = TypeVar("T")


class Obstructed(errors.Unavailable):
    """A destination takes nothing just now; it is tried again at a moment of the monotonic clock, `until`."""

    def __init__(self, reason: str, until: float) -> None:
        super().__init__(reason)
        self.until = until


@dataclass
class _Route:
    """One destination as the deliverer sees it."""

    destination: Destination | None = None
    stamp: tuple[int, int] | None = None
    service: Service | None = None
    token_at: int = 0
    tokens: int = 1
    obstruction: Obstruction | None = None
    pause_s: float = _PAUSE_S[0]
    closed_until: float = 0.0
    slow: bool = False
    said_at: float = 0.0


class Routes:
    """The services of one deliverer; `lane` tells its notes from those of another that works on the same spool.

    Without a lane nothing is written down.
    """

    def __init__(self, root: Path, lane: str | None) -> None:
        self.root = root
        self.lane = lane
        self._routes: dict[str, _Route] = {}
        # Whoever asked before this process was started did so in its own environment, which this one has.
        self._settings_of = asked_at(root)

    def close(self) -> None:
        """Close all connections."""
        for route in self._routes.values():
            if route.service is not None:
                route.service.close()
        self._routes.clear()

    def run(self, name: str, act: Callable[[Service], T]) -> T:
        """Do something with a destination's service.

        Raises Obstructed where it cannot be reached, where no token is valid there, or while it is not to be tried;
        BodyRefused where a proxy takes no body of that size; and whatever else the service answers.
        """
        route = self._routes.setdefault(name, _Route())
        if route.obstruction is not None and time.monotonic() < route.closed_until and not self._asked(route):
            raise Obstructed(route.obstruction.reason, route.closed_until)
        tried = 0
        while True:
            began = time.time()
            try:
                service, left = self._service(route, name)
                answer = act(service)
            except errors.NotSignedIn as error:
                tried += 1
                self._forget_service(route)
                route.token_at += 1
                if tried < left:
                    continue
                text = f"{error} Give one with 'kinetrum connect {service.url}', or as KINETRUM_TOKEN."
                raise self._close_route(route, name, errors.NotSignedIn(text), began) from error
            except BodyRefused:
                self._arrived(route, name)
                raise
            except errors.Unavailable as error:
                self._forget_service(route)
                raise self._close_route(route, name, error, began) from error
            except errors.KinetrumError:
                self._arrived(route, name)
                raise
            self._arrived(route, name)
            return answer

    def _service(self, route: _Route, name: str) -> tuple[Service, int]:
        """Return the service, and how many tokens there are to try."""
        stamp = _stamp(self.root, name)
        if route.destination is None or route.stamp != stamp or route.service is None:
            route.destination, route.stamp = read_destination(self.root, name), stamp
        elif route.destination.url is not None:
            return route.service, route.tokens
        # An instance is looked for at each call: a stranger may listen on its port as soon as it has ended.
        targets = route.destination.targets(self.root)
        route.tokens = len(targets)
        url, token = targets[route.token_at % len(targets)]
        if route.service is None or (route.service.url, route.service.token) != (url, token):
            self._forget_service(route)
            self._take_settings()
            route.service = Service(url, token, connect_s=_SLOW_CONNECT_S) if route.slow else Service(url, token)
        return route.service, route.tokens

    def _take_settings(self) -> None:
        asked_moment = asked_at(self.root)
        if asked_moment > self._settings_of:
            self._settings_of = asked_moment
            take_settings(self.root)

    @staticmethod
    def _forget_service(route: _Route) -> None:
        if route.service is not None:
            route.service.close()
            route.service = None

    def _asked(self, route: _Route) -> bool:
        """Tell whether somebody asked for another try since the last began."""
        return route.obstruction is not None and asked_at(self.root) > route.obstruction.tried_at

    def _close_route(self, route: _Route, name: str, error: errors.KinetrumError, began: float) -> Obstructed:
        now = time.time()
        route.slow = isinstance(error.__cause__, httpx.ConnectTimeout)
        pause = _SLOW_PAUSE_S if route.slow else route.pause_s * random.uniform(0.5, 1.0)
        route.pause_s = min(route.pause_s * 1.6, _PAUSE_S[1])
        route.closed_until = time.monotonic() + pause
        before = route.obstruction or (read_note(note_file(self.root, name, self.lane)) if self.lane else None)
        since = before.since if before is not None else began
        kind = "not-signed-in" if isinstance(error, errors.NotSignedIn) else "unavailable"
        route.obstruction = Obstruction(kind, str(error), since, began, now + pause)
        self._note(name, route.obstruction)
        return Obstructed(str(error), route.closed_until)

    def _arrived(self, route: _Route, name: str) -> None:
        """Something was answered: nothing stands in the way any more, and whoever looks may know it."""
        if route.obstruction is None and time.monotonic() - route.said_at < _SAID_AGAIN_S:
            return
        route.obstruction, route.pause_s, route.slow, route.closed_until = None, _PAUSE_S[0], False, 0.0
        route.said_at = time.monotonic()
        self._note(name, None)

    def _note(self, name: str, obstruction: Obstruction | None) -> None:
        if self.lane:
            write_note(note_file(self.root, name, self.lane), obstruction)


def _stamp(root: Path, name: str) -> tuple[int, int] | None:
    try:
        status = (root / "destinations" / f"{name}.json").stat()
    except OSError:
        return None
    return status.st_mtime_ns, status.st_ino
