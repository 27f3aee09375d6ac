"""Secrets of projects: set and removed by maintainers, shown to nobody, used by the service in their name."""

from __future__ import annotations

from kinetrum.actions.context import Actor, Place, enter
from kinetrum.core.access.sealing import NotOpened, Seal
from kinetrum.core.base.errors import Conflict, InvalidInput, NotFound, Unavailable
from kinetrum.core.base.permissions import Act
from kinetrum.core.base.values import check_name
from kinetrum.storage.db.database import transaction
from kinetrum.storage.people import journal, project_secrets, projects
from kinetrum.storage.people.project_secrets import SecretRow

MOST_BYTES, SECRETS_EACH = 4_000, 100


@transaction
def list_secrets(actor: Actor, project: str) -> list[SecretRow]:
    """List a project's secrets without what they are; for its maintainers."""
    return project_secrets.secrets_of(enter(actor, project, Act.ADMINISTER).project_id)


@transaction
def set_secret(actor: Actor, seal: Seal | None, project: str, name: str, value: str) -> None:
    """Set a secret, or another value for it; for maintainers of the project."""
    place = enter(actor, project, Act.ADMINISTER)
    if seal is None:
        raise Conflict(
            "This service keeps no secrets: it has no key to seal them with. Whoever runs it sets KINETRUM_SECRETS_KEY."
        )
    if not 1 <= len(value.encode()) <= MOST_BYTES:
        raise InvalidInput(f"A secret has 1 to {MOST_BYTES:,} bytes, not {len(value.encode()):,}.", field="value")
    projects.lock_project(place.project_id)
    known = {row.name for row in project_secrets.secrets_of(place.project_id)}
    if check_name(name, "secret") not in known and len(known) >= SECRETS_EACH:
        raise Conflict(
            f"{place.project.name} has {SECRETS_EACH} secrets; remove those that nothing uses.", field="name"
        )
    sealed = seal.seal(value, _place_of(place.project_id, name))
    project_secrets.set_secret(place.project_id, name, sealed, actor.person_id)
    _note(actor, place, "changed a secret" if name in known else "set a secret", name)


@transaction
def remove_secret(actor: Actor, project: str, name: str) -> None:
    """Forget a secret; for maintainers of the project."""
    place = enter(actor, project, Act.ADMINISTER)
    if not project_secrets.remove_secret(place.project_id, name):
        raise NotFound(f"{place.project.name} has no secret {name!r}.", field="name")
    _note(actor, place, "removed a secret", name)


@transaction
def open_secret(seal: Seal | None, project_id: int, name: str) -> str:
    """Return what a secret is, for the service itself.

    Raises NotFound where there is none, Unavailable where the service has not the key that sealed it.
    """
    sealed = project_secrets.sealed_secret(project_id, name)
    if sealed is None:
        raise NotFound(f"There is no secret {name!r}.", field="name")
    try:
        if seal is None:
            raise NotOpened
        return seal.open(sealed, _place_of(project_id, name))
    except NotOpened:
        raise Unavailable(
            f"The secret {name!r} was sealed with a key that this service does not have; set it anew, or give the "
            "earlier key as a second one in KINETRUM_SECRETS_KEY."
        ) from None


@transaction
def seal_anew(seal: Seal) -> int:
    """Seal with the first key what an earlier one sealed, so that that one can go; returns how many there were."""
    renewed = 0
    for project_id, name, sealed in project_secrets.every_sealed():
        if not seal.is_latest(sealed):
            place = _place_of(project_id, name)
            try:
                fresh = seal.seal(seal.open(sealed, place), place)
            except NotOpened:
                # Whoever uses it is told.
                continue
            project_secrets.seal_anew(project_id, name, fresh)
            renewed += 1
    return renewed


def _place_of(project_id: int, name: str) -> str:
    return f"{project_id}/{name}"


def _note(actor: Actor, place: Place, act: str, name: str) -> None:
    journal.append(place.project_id, actor.person_id, act, name, source=actor.source)
