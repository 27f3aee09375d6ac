"""Routes for tokens: one's own, and those of a project's machines."""

from __future__ import annotations

from kinetrum.actions.people import tokens
from kinetrum.actions.people.tokens import MadeToken, NewToken, TokenView
from kinetrum.service.http.access import SignedIn
from kinetrum.service.http.routers import make_router
from kinetrum.wire import people as wire

router = make_router(tags=["tokens"])


@router.get("/tokens")
def list_tokens(actor: SignedIn, person: str | None = None) -> list[TokenView]:
    """List one's own tokens, or as an administrator another's; without their secrets."""
    return tokens.list_tokens(actor, person)


@router.post("/tokens", status_code=201)
def make_token(actor: SignedIn, body: wire.NewToken) -> MadeToken:
    """Make a token; the secret is in this answer and nowhere else."""
    new = NewToken(body.name, body.scopes, body.projects, body.days)
    return tokens.make_token(actor, new, body.person)


@router.delete("/tokens/{token}", status_code=204)
def revoke_token(actor: SignedIn, token: str, person: str | None = None) -> None:
    """Revoke a token by name; a token may revoke itself."""
    tokens.revoke_token(actor, token, person)


@router.get("/projects/{project}/tokens")
def list_machine_tokens(actor: SignedIn, project: str) -> list[TokenView]:
    """List the tokens of a project's machines; for its maintainers."""
    return tokens.list_machine_tokens(actor, project)


@router.post("/projects/{project}/tokens", status_code=201)
def make_machine_token(actor: SignedIn, project: str, body: wire.NewMachineToken) -> MadeToken:
    """Make a token for a machine of a project, which no person has; for its maintainers."""
    new = NewToken(body.name, body.scopes, None, body.days)
    return tokens.make_machine_token(actor, project, new)


@router.delete("/projects/{project}/tokens/{token}", status_code=204)
def revoke_machine_token(actor: SignedIn, project: str, token: str) -> None:
    """Revoke the token of a project's machine; for its maintainers."""
    tokens.revoke_machine_token(actor, project, token)
