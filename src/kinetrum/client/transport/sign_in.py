"""From name and password to a client token."""

from __future__ import annotations

import socket

import httpx

from kinetrum.client.transport.http import API, error_of
from kinetrum.client.transport.trust import open_client, why_unreached
from kinetrum.core.base.errors import Unavailable


def _make_token(client: httpx.Client, name: str, headers: dict[str, str]) -> httpx.Response:
    """Make a token; one of that name may be in use already, from an earlier connection of this machine."""
    for at in range(1, 100):
        made = client.post("/tokens", json={"name": name if at == 1 else f"{name}-{at}"}, headers=headers)
        if made.status_code != 409:
            break
    return made


def token_by_sign_in(url: str, name: str, password: str, ca: str | None = None) -> str:
    """Sign in once, make a token named after this machine, and sign out; returns the token.

    `ca` names a file of certificates to trust besides the system's.
    """
    host = "".join(c if c.isascii() and (c.isalnum() or c in "._-") else "-" for c in socket.gethostname().lower())
    with open_client(url + API, httpx.Timeout(30.0), {}, ca) as client:
        try:
            opened = client.post("/session", json={"name": name, "password": password})
            if opened.status_code >= 400:
                raise error_of(opened)
            headers = {"Kinetrum-Csrf": opened.json()["csrf_token"]}
            made = _make_token(client, f"from-{host}"[:90], headers)
            client.delete("/session", headers=headers)
        except httpx.HTTPError as error:
            raise Unavailable(why_unreached(url, error)) from error
    if made.status_code >= 400:
        raise error_of(made)
    return str(made.json()["secret"])
