"""Routes for sessions, people, tokens, projects, members and the journal."""

from __future__ import annotations

from fastapi import Query, Request, Response

from kinetrum.actions.people import accounts
from kinetrum.actions.runs import readers
from kinetrum.core.base.values import check_name
from kinetrum.service.guard.turns import PASSWORD_TURN
from kinetrum.service.http.access import SignedIn, client_address, cookie_name, has_credentials, signed_in
from kinetrum.service.http.public_address import is_secure
from kinetrum.service.http.routers import make_router
from kinetrum.service.presenters import shapes
from kinetrum.storage.people.journal import JournalRow
from kinetrum.wire import people as wire

router = make_router(tags=["accounts"])


@router.post("/session", dependencies=[PASSWORD_TURN])
def sign_in(body: wire.SignIn, request: Request, response: Response) -> wire.Me:
    """Open a console session: sets the session cookie and returns the CSRF token."""
    opened = accounts.sign_in(body.name, body.password, client_address(request))
    response.set_cookie(
        cookie_name(request),
        opened.secret,
        max_age=14 * 86_400,
        httponly=True,
        samesite="strict",
        secure=is_secure(request),
    )
    me = opened.actor
    return wire.Me(name=me.name, full_name=me.full_name, is_admin=me.is_admin, csrf_token=opened.csrf_token)


@router.get("/session", response_model=wire.Me, responses={204: {"description": "Nobody is signed in."}})
def read_session(request: Request) -> wire.Me | Response:
    """Tell who is signed in. Without a session, and without a token, the answer is empty (204)."""
    if not has_credentials(request):
        return Response(status_code=204)
    actor = signed_in(request)
    csrf = getattr(request.state, "csrf_token", None)
    return wire.Me(name=actor.name, full_name=actor.full_name, is_admin=actor.is_admin, csrf_token=csrf)


@router.delete("/session", status_code=204)
def sign_out(actor: SignedIn, request: Request, response: Response) -> None:
    """Close the console session."""
    accounts.sign_out(request.cookies.get(cookie_name(request), ""))
    response.delete_cookie(cookie_name(request), secure=is_secure(request), httponly=True, samesite="strict")


@router.get("/people")
def list_people(actor: SignedIn) -> list[wire.Person]:
    """List everybody; for administrators."""
    return [wire.Person.model_validate(row) for row in accounts.list_people(actor)]


@router.post("/people", status_code=201, dependencies=[PASSWORD_TURN])
def make_person(actor: SignedIn, body: wire.NewPerson) -> wire.Person:
    """Make an account; for administrators."""
    accounts.make_person(actor, body.name, body.full_name, body.password, body.is_admin)
    return wire.Person(name=body.name, full_name=body.full_name.strip(), is_admin=body.is_admin)


@router.put("/people/{person}/password", status_code=204, dependencies=[PASSWORD_TURN])
def set_password(actor: SignedIn, person: str, body: wire.NewPassword) -> None:
    """Set one's own password, or as an administrator anybody's."""
    accounts.set_password(actor, person, body.password)


@router.post("/tokens", status_code=201)
def make_token(actor: SignedIn, body: wire.NewToken) -> wire.Token:
    """Make a client token; the secret is in this answer and nowhere else."""
    return wire.Token(name=body.name, secret=accounts.make_token(actor, body.name, body.person))


@router.delete("/tokens/{token}", status_code=204)
def revoke_token(actor: SignedIn, token: str, person: str | None = None) -> None:
    """Revoke a token by name."""
    accounts.revoke_token(actor, token, person)


@router.get("/projects")
def list_projects(actor: SignedIn) -> list[wire.Project]:
    """List the projects that one may see."""
    return [shapes.project(view) for view in readers.list_projects(actor)]


@router.post("/projects", status_code=201)
def make_project(actor: SignedIn, body: wire.NewProject) -> wire.Project:
    """Make a project; for administrators."""
    accounts.make_project(actor, body.name, body.description)
    return shapes.project(readers.read_project(actor, body.name))


@router.get("/projects/{project}")
def read_project(actor: SignedIn, project: str) -> wire.Project:
    """Read one project."""
    return shapes.project(readers.read_project(actor, project))


@router.get("/projects/{project}/members")
def list_members(actor: SignedIn, project: str) -> list[wire.Member]:
    """List a project's members and their roles."""
    members = readers.list_members(actor, project)
    return [wire.Member(name=name, full_name=full_name, role=role) for name, full_name, role in members]


@router.put("/projects/{project}/members/{person}", status_code=204)
def set_role(actor: SignedIn, project: str, person: str, body: wire.NewRole) -> None:
    """Give a person a role in a project; for its maintainers."""
    accounts.set_role(actor, project, person, body.role)


@router.delete("/projects/{project}/members/{person}", status_code=204)
def remove_member(actor: SignedIn, project: str, person: str) -> None:
    """Take a person's role away; for the project's maintainers."""
    accounts.set_role(actor, project, person, None)


@router.get("/projects/{project}/journal")
def read_journal(
    actor: SignedIn,
    project: str,
    subject: str | None = Query(None, max_length=400, description="A thing's reference; of the project without."),
    before: int | None = Query(None, description="Only entries before this one."),
    limit: int = Query(100, ge=1, le=500),
) -> list[JournalRow]:
    """Read who changed what, latest first."""
    if subject is not None:
        check_name(subject.split("@")[0].split("/")[0].split(":")[-1], "subject")
    return readers.read_journal(actor, project, subject, before, limit)
