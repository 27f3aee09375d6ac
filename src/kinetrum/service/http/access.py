"""Who is asking: a client token, or the console's session cookie with its CSRF token."""

from __future__ import annotations

import hmac
from typing import Annotated

from fastapi import Depends, Request

from kinetrum.actions.context import Actor
from kinetrum.actions.people import signing_in
from kinetrum.core.base.errors import NotAllowed, NotSignedIn
from kinetrum.service.http.public_address import is_secure

CSRF_HEADER = "Kinetrum-Csrf"
TOKEN_HEADER = "Kinetrum-Token"
SAFE_METHODS = frozenset({"GET", "HEAD", "OPTIONS"})


def cookie_name(request: Request) -> str:
    """Name the session cookie after the port: cookies know hosts, not ports, and one host may have two instances.

    By TLS it is one that only this host can have set (RFC 6265bis, the prefix `__Host-`).
    """
    return f"{'__Host-' if is_secure(request) else ''}kinetrum_session_{request.url.port or 0}"


def client_address(request: Request) -> str:
    """Return the address that a request came from; from a proxy that is believed, the one that it tells."""
    return request.client.host if request.client else "unknown"


def _origin(request: Request) -> str:
    host = client_address(request)
    return f"{host} {request.headers.get('user-agent', '')[:120]}".strip()


def _token(request: Request) -> str | None:
    own = request.headers.get(TOKEN_HEADER)
    if own:
        return own
    scheme, _, secret = request.headers.get("authorization", "").partition(" ")
    return secret.strip() if scheme.lower() == "bearer" and secret.strip() else None


def has_credentials(request: Request) -> bool:
    """Tell whether a token came along, or a session that still lasts."""
    if _token(request):
        return True
    secret = request.cookies.get(cookie_name(request))
    return bool(secret) and signing_in.session_lasts(secret or "")


def credential_of(request: Request) -> bytes:
    """Return the digest of the token or session that a request came with."""
    return signing_in.credential_digest(_token(request) or request.cookies.get(cookie_name(request)) or "")


def signed_in(request: Request) -> Actor:
    """Return the person behind the request; raises NotSignedIn, or NotAllowed where the CSRF token is missing."""
    known: Actor | None = getattr(request.state, "actor", None)
    if known is not None:
        # Before its body was read.
        return known
    token = _token(request)
    if token:
        return signing_in.actor_of_token(token, _origin(request))
    secret = request.cookies.get(cookie_name(request))
    if not secret:
        raise NotSignedIn("Sign in, or send a token as 'Authorization: Bearer …'.")
    actor, csrf = signing_in.actor_of_session(secret, _origin(request))
    request.state.csrf_token = csrf
    if request.method not in SAFE_METHODS and not hmac.compare_digest(
        request.headers.get(CSRF_HEADER, "").encode(), csrf.encode()
    ):
        raise NotAllowed(f"The request lacks the session's {CSRF_HEADER} header.")
    return actor


SignedIn = Annotated[Actor, Depends(signed_in)]
