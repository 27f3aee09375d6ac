"""Routes for signing in, links that open once, people, and one's own account."""

from __future__ import annotations

from typing import Annotated

from fastapi import Path, Request, Response

from kinetrum.actions.context import Actor
from kinetrum.actions.people import accounts, own_account, signing_in
from kinetrum.actions.people.accounts import Invitation, NewPerson, PersonChange, PersonView, Welcome
from kinetrum.core.base.errors import NotAllowed, Unavailable
from kinetrum.service.guard.turns import ACCOUNTS, PASSWORD_TURN, in_turn
from kinetrum.service.http.access import SignedIn, client_address, cookie_name, has_credentials, signed_in
from kinetrum.service.http.mail import MailServer, send_mail
from kinetrum.service.http.public_address import is_secure, public_address
from kinetrum.service.http.routers import make_router
from kinetrum.wire import people as wire

router = make_router(tags=["accounts"])
Secret = Annotated[str, Path(max_length=100)]
_SESSION_S = 14 * 86_400


def set_session(request: Request, response: Response, opened: signing_in.SignedIn) -> None:
    """Give the browser the cookie of a new session."""
    response.set_cookie(
        cookie_name(request),
        opened.secret,
        max_age=_SESSION_S,
        httponly=True,
        samesite="strict",
        secure=is_secure(request),
    )


def _program(request: Request) -> str:
    return request.headers.get("user-agent", "")[:120]


@router.post("/session", dependencies=[PASSWORD_TURN])
def sign_in(body: wire.SignIn, request: Request, response: Response) -> wire.Me:
    """Open a console session: sets the session cookie and returns the CSRF token."""
    if not request.app.state.passwords:
        raise NotAllowed("Nobody signs in with a password here; sign in at the provider.")
    opened = signing_in.sign_in(body.name, body.password, client_address(request), _program(request))
    set_session(request, response, opened)
    return _me(opened.actor, opened.csrf_token)


def _me(actor: Actor, csrf_token: str | None) -> wire.Me:
    time_zone, theme = own_account.preferences(actor)
    return wire.Me(
        name=actor.name,
        full_name=actor.full_name,
        is_admin=actor.is_admin,
        csrf_token=csrf_token,
        time_zone=time_zone,
        theme=theme,
    )


@router.get("/session", response_model=wire.Me, responses={204: {"description": "Nobody is signed in."}})
def read_session(request: Request) -> wire.Me | Response:
    """Tell who is signed in. Without a session, and without a token, the answer is empty (204)."""
    if not has_credentials(request):
        return Response(status_code=204)
    actor = signed_in(request)
    return _me(actor, getattr(request.state, "csrf_token", None))


@router.delete("/session", status_code=204)
def sign_out(actor: SignedIn, request: Request, response: Response) -> None:
    """Close the console session."""
    signing_in.sign_out(request.cookies.get(cookie_name(request), ""))
    response.delete_cookie(cookie_name(request), secure=is_secure(request), httponly=True, samesite="strict")


@router.get("/account-links/{secret}")
def read_account_link(secret: Secret) -> Welcome:
    """Tell whose account a link opens; reading it does not use it up. It needs no account."""
    return accounts.read_link(secret)


@router.post("/account-links/{secret}", status_code=204, dependencies=[PASSWORD_TURN])
def open_account_link(secret: Secret, body: wire.ChosenPassword, request: Request) -> None:
    """Choose a password by a link, which opens no more after that. It needs no account."""
    accounts.open_link(secret, body.password, body.revoke_tokens, client_address(request))


def _person(view: PersonView) -> wire.Person:
    return wire.Person.model_validate(_person_fields(view))


def _person_fields(view: PersonView) -> dict[str, object]:
    row = view.row
    return {
        "name": row.name,
        "full_name": row.full_name,
        "is_admin": row.is_admin,
        "mail": row.mail,
        "groups": view.groups,
        "roles": view.roles,
        "created_at": row.created_at,
        "deactivated_at": row.deactivated_at,
        "invited_until": view.invited_until,
        "seen_at": view.seen_at,
        "sessions": view.sessions,
        "tokens": view.tokens,
        "signs_in_elsewhere": row.subject is not None,
    }


def _address(request: Request, invitation: Invitation) -> str:
    return f"{public_address(request)}/welcome/{invitation.secret}"


def _send(request: Request, invitation: Invitation | None) -> tuple[str | None, str]:
    """Mail a link to whom it is for, where a mail server is named; returns the address, and why it did not go there."""
    server: MailServer | None = request.app.state.mail
    if server is None or invitation is None or not invitation.mail:
        return None, ""
    here = public_address(request)
    text = (
        f"Hello {invitation.full_name},\n\nchoose a password for your account at {here} by this link. It opens once, "
        f"until {invitation.expires_at:%Y-%m-%d %H:%M} UTC:\n\n{_address(request, invitation)}\n\n"
        "If you did not expect this, do nothing: the link ends by itself.\n"
    )
    try:
        send_mail(server, invitation.mail, "Choose a password for Kinetrum", text)
    except Unavailable as error:
        return None, str(error)
    return invitation.mail, ""


@router.get("/people")
def list_people(actor: SignedIn) -> list[wire.Person]:
    """List everybody; for administrators."""
    return [_person(view) for view in accounts.list_people(actor)]


@router.post("/people", status_code=201, dependencies=[in_turn(ACCOUNTS)])
def make_person(actor: SignedIn, body: wire.NewPerson, request: Request) -> wire.MadePerson:
    """Make an account, and without a password the link by which they choose one; for administrators."""
    new = NewPerson(body.name, body.full_name, body.is_admin, body.mail, body.password)
    invitation = accounts.make_person(actor, new)
    sent_to, not_sent = _send(request, invitation)
    return wire.MadePerson(
        name=body.name,
        full_name=body.full_name.strip(),
        is_admin=body.is_admin,
        mail=body.mail.strip(),
        invited_until=invitation.expires_at if invitation else None,
        link=_address(request, invitation) if invitation else None,
        sent_to=sent_to,
        not_sent=not_sent,
    )


@router.patch("/people/{person}")
def change_person(actor: SignedIn, person: str, body: wire.PersonChange) -> wire.Person:
    """Change an account; who is deactivated is out within seconds. For administrators."""
    change = PersonChange(body.full_name, body.mail, body.is_admin, body.is_active, body.groups)
    return _person(accounts.change_person(actor, person, change))


@router.post("/people/{person}/links", status_code=201, dependencies=[in_turn(ACCOUNTS)])
def make_account_link(actor: SignedIn, person: str, request: Request) -> wire.AccountLink:
    """Make the link by which a person chooses a password: the invitation anew, or a new one. For administrators."""
    invitation = accounts.make_link(actor, person)
    sent_to, not_sent = _send(request, invitation)
    link = _address(request, invitation)
    return wire.AccountLink(link=link, expires_at=invitation.expires_at, sent_to=sent_to, not_sent=not_sent)


@router.put("/people/{person}/password", status_code=204, dependencies=[PASSWORD_TURN])
def set_password(actor: SignedIn, person: str, body: wire.NewPassword) -> None:
    """Set another's password, which ends their sessions and tokens; for administrators."""
    accounts.set_password(actor, person, body.password)


@router.get("/account")
def read_own_account(actor: SignedIn) -> wire.Own:
    """Read one's own account."""
    return _own(own_account.read_own(actor))


def _own(view: PersonView) -> wire.Own:
    row = view.row
    return wire.Own(
        name=row.name,
        full_name=row.full_name,
        is_admin=row.is_admin,
        mail=row.mail,
        time_zone=row.time_zone,
        theme=row.theme,
        groups=view.groups,
        roles={name: role.value for name, role in view.roles.items()},
        has_password=bool(row.password_hash),
    )


@router.patch("/account")
def change_own_account(actor: SignedIn, body: wire.OwnChange) -> wire.Own:
    """Change one's own full name, time zone and theme; with a session."""
    return _own(own_account.change_own(actor, body.full_name, body.time_zone, body.theme))


@router.put("/account/password", status_code=204, dependencies=[PASSWORD_TURN])
def change_password(actor: SignedIn, body: wire.ChangedPassword, request: Request) -> None:
    """Change one's own password, with the present one and a session; other sessions end."""
    own_account.change_password(actor, body.current, body.password, body.revoke_tokens, client_address(request))


@router.get("/account/sessions")
def list_sessions(actor: SignedIn) -> list[wire.Session]:
    """List one's own sessions, the latest seen first."""
    return [
        wire.Session(
            id=one.session_id,
            opened_at=one.opened_at,
            seen_at=one.seen_at,
            expires_at=one.expires_at,
            origin=one.origin,
            is_this=one.session_id == actor.session_id,
        )
        for one in signing_in.list_sessions(actor)
    ]


@router.delete("/account/sessions/{session}", status_code=204)
def end_session(actor: SignedIn, session: int) -> None:
    """End one of one's own sessions; with a session."""
    signing_in.end_session(actor, session)


@router.delete("/account/sessions", status_code=204)
def end_other_sessions(actor: SignedIn) -> None:
    """End all of one's own sessions but the one that asks."""
    signing_in.end_other_sessions(actor)
