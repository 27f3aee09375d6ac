"""Routes for signing in elsewhere: out to the provider, and back with a session."""

from __future__ import annotations

import base64
import json
from dataclasses import asdict
from typing import Annotated
from urllib.parse import urlencode

from fastapi import Query, Request
from fastapi.responses import RedirectResponse, Response

from kinetrum.actions.people import elsewhere
from kinetrum.core.base.errors import KinetrumError, NotAllowed, NotFound, Unavailable
from kinetrum.service.guard.turns import PROVIDER_TURN
from kinetrum.service.http.access import client_address
from kinetrum.service.http.provider import Attempt, Provider
from kinetrum.service.http.public_address import is_secure, public_address, public_path
from kinetrum.service.http.routers import make_router
from kinetrum.service.routes.people.account_routes import set_session
from kinetrum.wire.people import WaysIn

router = make_router(tags=["accounts"])
_COOKIE = "kinetrum_attempt"
_ATTEMPT_S = 600


def _provider(request: Request) -> Provider:
    provider: Provider | None = request.app.state.provider
    if provider is None:
        raise NotFound("Nobody signs in elsewhere here; the service has no provider.")
    return provider


def _comes_back_to(request: Request) -> str:
    return f"{public_address(request)}/api/v1/sign-in/elsewhere/return"


@router.get("/sign-in")
def read_ways_in(request: Request) -> WaysIn:
    """Tell how people sign in here; it needs no account."""
    provider: Provider | None = request.app.state.provider
    return WaysIn(
        passwords=request.app.state.passwords,
        elsewhere=provider.settings.label if provider else None,
    )


@router.get("/sign-in/elsewhere", response_class=RedirectResponse, dependencies=[PROVIDER_TURN])
def sign_in_elsewhere(request: Request, to: Annotated[str, Query(max_length=2_000)] = "/") -> Response:
    """Lead the browser to the provider; `to` is the page of the console that it comes back to."""
    attempt = Attempt.begin()
    answer = RedirectResponse(_provider(request).address_of(attempt, _comes_back_to(request)), 302)
    kept = base64.urlsafe_b64encode(json.dumps({**asdict(attempt), "to": _own_page(to)}).encode()).decode()
    # Lax: the provider leads back here from its own pages.
    answer.set_cookie(
        _COOKIE,
        kept,
        max_age=_ATTEMPT_S,
        httponly=True,
        samesite="lax",
        secure=is_secure(request),
        path=_cookie_path(request),
    )
    return answer


def _cookie_path(request: Request) -> str:
    return f"{public_path(request.app)}/api/v1/sign-in"


def _own_page(to: str) -> str:
    """Return an address within the console, whatever was asked: nobody is led elsewhere by a link to here."""
    is_own = to.startswith("/") and not to.startswith(("//", "/\\")) and to.isprintable() and "\\" not in to
    return to if is_own else "/"


@router.get("/sign-in/elsewhere/return", response_class=RedirectResponse, dependencies=[PROVIDER_TURN])
def come_back(
    request: Request,
    code: Annotated[str, Query(max_length=4_000)] = "",
    state: Annotated[str, Query(max_length=200)] = "",
) -> Response:
    """Take who comes back from the provider in; whatever does not hold leads to the sign-in page, which says so."""
    provider = _provider(request)
    try:
        kept = json.loads(base64.urlsafe_b64decode(request.cookies.get(_COOKIE, "")))
        attempt, to = Attempt(str(kept["state"]), str(kept["nonce"]), str(kept["verifier"])), _own_page(str(kept["to"]))
    except (ValueError, KeyError, TypeError):
        return _refused(request, "begun-elsewhere")
    if not state or state != attempt.state:
        return _refused(request, "begun-elsewhere")
    if not code:
        return _refused(request, "refused")
    try:
        claims = provider.claims_of(code, attempt, _comes_back_to(request))
        origin = f"{client_address(request)} {request.headers.get('user-agent', '')[:120]}".strip()
        opened = elsewhere.sign_in_by(claims, origin)
    except NotAllowed:
        return _refused(request, "deactivated")
    except Unavailable:
        return _refused(request, "unreached")
    except KinetrumError:
        return _refused(request, "not-believed")
    answer = RedirectResponse(to, 302)
    answer.delete_cookie(_COOKIE, path=_cookie_path(request))
    set_session(request, answer, opened)
    return answer


def _refused(request: Request, why: str) -> Response:
    answer = RedirectResponse(f"{public_path(request.app)}/?{urlencode({'refused': why})}", 302)
    answer.delete_cookie(_COOKIE, path=_cookie_path(request))
    return answer
