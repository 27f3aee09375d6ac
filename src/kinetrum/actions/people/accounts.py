"""Signing in, people, tokens, projects and roles."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass

from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerifyMismatchError

from kinetrum.actions.context import Actor, enter
from kinetrum.core.base.errors import Conflict, InvalidInput, NotAllowed, NotFound, NotSignedIn
from kinetrum.core.base.permissions import Act, Role
from kinetrum.core.base.values import check_name
from kinetrum.storage.db.database import snapshot, transaction
from kinetrum.storage.people import journal, people, projects
from kinetrum.storage.people.people import PersonRow

_PASSWORD_MIN = 12
_hasher = PasswordHasher(time_cost=2, memory_cost=19_456, parallelism=1)
# Verified where the name is unknown, so that the time of the answer tells nothing.
_NOBODY = _hasher.hash("nobody signs in with this")


@dataclass(frozen=True)
class SignedIn:
    """A new session: the cookie's secret, the CSRF token, and whose it is."""

    secret: str
    csrf_token: str
    actor: Actor


def _actor(row: PersonRow, origin: str) -> Actor:
    return Actor(row.person_id, row.name, row.full_name, row.is_admin, origin)


def _verified(password_hash: str, password: str) -> bool:
    try:
        return _hasher.verify(password_hash, password)
    except (VerifyMismatchError, InvalidHashError):
        return False


@transaction
def _credentials(name: str) -> PersonRow | None:
    return people.person_named(name)


def sign_in(name: str, password: str, origin: str) -> SignedIn:
    """Open a console session; raises NotSignedIn without telling which of the two was wrong."""
    row = _credentials(name)
    if not _verified(row.password_hash if row else _NOBODY, password) or row is None:
        raise NotSignedIn("Name and password do not fit together.")
    secret, csrf = _open_session(row.person_id)
    return SignedIn(secret, csrf, _actor(row, origin))


@transaction
def _open_session(person_id: int) -> tuple[str, str]:
    return people.add_session(person_id)


@transaction
def sign_out(secret: str) -> None:
    """Close a session."""
    people.end_session(secret)


@transaction
def actor_of_token(secret: str, origin: str) -> Actor:
    """Return whom a client token speaks for; raises NotSignedIn for unknown or revoked ones."""
    row = people.person_of_token(secret)
    if row is None:
        raise NotSignedIn("This token is not known here or was revoked; connect again with a new one.")
    return _actor(row, origin)


@transaction
def actor_of_session(secret: str, origin: str) -> tuple[Actor, str]:
    """Return whom a session speaks for and its CSRF token; raises NotSignedIn where it has ended."""
    person = people.person_of_session(secret)
    if person is None:
        raise NotSignedIn("The session has ended; sign in again.")
    return _actor(person[0], origin), person[1]


def credential_digest(secret: str) -> bytes:
    """Return the digest of a token or a session's secret, by which it is known."""
    return people.credential_digest(secret)


@snapshot
def lasting_credentials(digests: Collection[bytes]) -> set[bytes]:
    """Return those of the digests of tokens and sessions that still speak for somebody."""
    return people.lasting_credentials(digests)


@transaction
def session_lasts(secret: str) -> bool:
    """Tell whether a session cookie still speaks for somebody."""
    return people.person_of_session(secret) is not None


def _administrator(actor: Actor) -> None:
    if not actor.is_admin:
        raise NotAllowed(f"{actor.full_name} is not an administrator of this instance; this takes one.")


def hash_password(password: str) -> str:
    """Check a new password's length and return its argon2id hash."""
    if not _PASSWORD_MIN <= len(password) <= 1_000:
        raise InvalidInput(f"A password has {_PASSWORD_MIN} to 1000 characters.", field="password")
    return _hasher.hash(password)


def make_first_person(name: str, full_name: str, password: str) -> bool:
    """Make the first account, administrator of everything, and the project `main`; False where people exist."""
    password_hash = hash_password(password)
    return _make_first(check_name(name, "person"), full_name, password_hash)


@transaction
def _make_first(name: str, full_name: str, password_hash: str) -> bool:
    if people.people():
        return False
    person_id = people.add_person(name, full_name, password_hash, True)
    project_id = projects.add_project("main", "", person_id)
    people.set_role(project_id, person_id, Role.MAINTAINER)
    journal.append(None, person_id, "made the first person", name)
    return True


def make_person(actor: Actor, name: str, full_name: str, password: str, is_admin: bool = False) -> None:
    """Make an account; raises Conflict where the name is taken."""
    _administrator(actor)
    if not full_name.strip() or len(full_name) > 200 or not full_name.isprintable():
        raise InvalidInput("A full name has 1 to 200 printable characters.", field="full_name")
    _make_person(actor, check_name(name, "person"), full_name.strip(), hash_password(password), is_admin)


@transaction
def _make_person(actor: Actor, name: str, full_name: str, password_hash: str, is_admin: bool) -> None:
    if people.person_named(name):
        raise Conflict(f"There is a person {name!r} already.", field="name")
    people.add_person(name, full_name, password_hash, is_admin)
    journal.append(None, actor.person_id, "made a person", name, origin=actor.origin)


def set_password(actor: Actor, name: str, password: str) -> None:
    """Set one's own password, or as an administrator anybody's; ends the person's sessions."""
    if actor.name != name:
        _administrator(actor)
    _set_password(actor, name, hash_password(password))


@transaction
def _set_password(actor: Actor, name: str, password_hash: str) -> None:
    people.set_password(_person(actor, name).person_id, password_hash)
    journal.append(None, actor.person_id, "set a password", name, origin=actor.origin)


def _person(actor: Actor, name: str) -> PersonRow:
    row = people.person_named(name)
    if row is None:
        # Who has an account here is for administrators to know.
        known = f" Choose one of: {', '.join(p.name for p in people.people())}." if actor.is_admin else ""
        raise NotFound(f"Unknown person {name!r}.{known}", field="person")
    return row


@transaction
def make_token(actor: Actor, name: str, person: str | None = None) -> str:
    """Make a client token for oneself, or as an administrator for another; the secret is shown this once."""
    if person is not None and person != actor.name:
        _administrator(actor)
    owner = _person(actor, person or actor.name)
    if people.has_token(owner.person_id, check_name(name, "token")):
        raise Conflict(
            f"{owner.full_name} has a token {name!r} in use; revoke it first, or choose another name.", field="name"
        )
    secret = people.add_token(owner.person_id, name)
    journal.append(None, actor.person_id, "made a token", f"{owner.name}/{name}", origin=actor.origin)
    return secret


@transaction
def revoke_token(actor: Actor, name: str, person: str | None = None) -> int:
    """Revoke tokens by name, one's own or as an administrator another's; returns how many."""
    if person is not None and person != actor.name:
        _administrator(actor)
    owner = _person(actor, person or actor.name)
    count = people.revoke_tokens(owner.person_id, name)
    if not count:
        raise NotFound(f"{owner.full_name} has no token {name!r} in use.", field="token")
    journal.append(None, actor.person_id, "revoked a token", f"{owner.name}/{name}", origin=actor.origin)
    return count


@transaction
def list_people(actor: Actor) -> list[PersonRow]:
    """Return everybody; for administrators."""
    _administrator(actor)
    return people.people()


@transaction
def make_project(actor: Actor, name: str, description: str = "") -> None:
    """Make a project and become its maintainer; for administrators."""
    _administrator(actor)
    if projects.project_named(check_name(name, "project")):
        raise Conflict(f"There is a project {name!r} already.", field="name")
    project_id = projects.add_project(name, description, actor.person_id)
    people.set_role(project_id, actor.person_id, Role.MAINTAINER)
    journal.append(project_id, actor.person_id, "made the project", name, origin=actor.origin)


@transaction
def set_role(actor: Actor, project: str, person: str, role: str | None) -> None:
    """Give, change or take away (None) a person's role in a project; for its maintainers."""
    place = enter(actor, project, Act.ADMINISTER)
    row = _person(actor, person)
    try:
        wanted = None if role is None else Role(role)
    except ValueError:
        known = ", ".join(Role)
        raise InvalidInput(f"Unknown role {role!r}. Choose one of: {known}.", field="role") from None
    before = people.role_in(place.project_id, row.person_id)
    if before == wanted:
        return
    if before is Role.MAINTAINER:
        maintainers = [
            name for name, _, member_role in people.members(place.project_id) if member_role is Role.MAINTAINER
        ]
        if maintainers == [row.name]:
            raise Conflict(
                f"{row.full_name} is the last maintainer of {project}; make somebody else a maintainer first.",
                field="role",
            )
    people.set_role(place.project_id, row.person_id, wanted)
    journal.append(
        place.project_id,
        actor.person_id,
        "changed a role",
        person,
        journal.Change(before, wanted),
        origin=actor.origin,
    )
