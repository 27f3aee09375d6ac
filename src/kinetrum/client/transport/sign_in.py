"""From name and password to a client token, or to a session for what a token is not enough for."""

from __future__ import annotations

import contextlib
import socket
from collections.abc import Callable, Iterator, Mapping
from typing import Any

import httpx

from kinetrum.client.transport.connection import saved
from kinetrum.client.transport.http import API, error_of
from kinetrum.client.transport.trust import open_client, why_unreached
from kinetrum.core.base.errors import Unavailable

Call = Callable[[str, str, Any], Any]


@contextlib.contextmanager
def _open_session(url: str, name: str, password: str, ca: str | None) -> Iterator[tuple[httpx.Client, dict[str, str]]]:
    """Sign in as long as this lasts; yields a client and the headers that every act takes."""
    with open_client(url + API, httpx.Timeout(30.0), {}, ca) as client:
        try:
            opened = client.post("/session", json={"name": name, "password": password})
            if opened.status_code >= 400:
                raise error_of(opened)
            headers = {"Kinetrum-Csrf": opened.json()["csrf_token"]}
            try:
                yield client, headers
            finally:
                client.delete("/session", headers=headers)
        except httpx.HTTPError as error:
            raise Unavailable(why_unreached(url, error)) from error


def _make_token(
    client: httpx.Client, name: str, wanted: Mapping[str, object], headers: dict[str, str]
) -> httpx.Response:
    """Make a token; one of that name may be in use already, from an earlier connection of this machine."""
    for at in range(1, 100):
        made = client.post("/tokens", json={"name": name if at == 1 else f"{name}-{at}", **wanted}, headers=headers)
        if made.status_code != 409:
            break
    return made


def token_by_sign_in(
    url: str, name: str, password: str, wanted: Mapping[str, object] | None = None, ca: str | None = None
) -> str:
    """Sign in once, make a token named after this machine, and sign out; returns the token.

    `wanted` says what it is for and how long it lasts; `ca` names a file of certificates to trust besides the system's.
    """
    host = "".join(c if c.isascii() and (c.isalnum() or c in "._-") else "-" for c in socket.gethostname().lower())
    with _open_session(url, name, password, ca) as (client, headers):
        made = _make_token(client, f"from-{host}"[:90], wanted or {}, headers)
    if made.status_code >= 400:
        raise error_of(made)
    return str(made.json()["secret"])


@contextlib.contextmanager
def open_own_session(url: str, name: str, password: str) -> Iterator[Call]:
    """Sign in as long as this lasts; yields what calls with that session: method, path, body."""
    ca = saved()["connections"].get(url, {}).get("ca")
    with _open_session(url, name, password, ca) as (client, headers):

        def call(method: str, path: str, body: Any) -> Any:
            answer = client.request(method, path, json=body, headers=headers)
            if answer.status_code >= 400:
                raise error_of(answer)
            return answer.json() if answer.content else None

        yield call
