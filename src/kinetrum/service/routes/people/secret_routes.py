"""Routes for secrets of projects; what they are is in no answer."""

from __future__ import annotations

from fastapi import Request

from kinetrum.actions.people import project_secrets
from kinetrum.service.http.access import SignedIn
from kinetrum.service.http.routers import make_router
from kinetrum.storage.people.project_secrets import SecretRow
from kinetrum.wire import people as wire

router = make_router(tags=["projects"])


@router.get("/projects/{project}/secrets")
def list_secrets(actor: SignedIn, project: str) -> list[SecretRow]:
    """List a project's secrets: names, when they were set and by whom; for its maintainers."""
    return project_secrets.list_secrets(actor, project)


@router.put("/projects/{project}/secrets/{name}", status_code=204)
def set_secret(actor: SignedIn, request: Request, project: str, name: str, body: wire.NewSecret) -> None:
    """Set a secret, or another value for it; for maintainers of the project."""
    project_secrets.set_secret(actor, request.app.state.seal, project, name, body.value)


@router.delete("/projects/{project}/secrets/{name}", status_code=204)
def remove_secret(actor: SignedIn, project: str, name: str) -> None:
    """Forget a secret; for maintainers of the project."""
    project_secrets.remove_secret(actor, project, name)
