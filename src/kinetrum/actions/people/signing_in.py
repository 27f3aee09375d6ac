"""Signing in: passwords and the pace of guesses, sessions, and whom a token speaks for."""

from __future__ import annotations

import logging
from collections.abc import Collection
from dataclasses import dataclass

from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerifyMismatchError

from kinetrum.actions.context import Actor
from kinetrum.core.access import pace, token_form
from kinetrum.core.access.networks import network_of
from kinetrum.core.base.errors import NotAllowed, NotFound, NotSignedIn, TooManyTries
from kinetrum.storage.db.database import snapshot, transaction
from kinetrum.storage.people import credentials, journal, people, sign_in_failures
from kinetrum.storage.people.credentials import SessionRow
from kinetrum.storage.people.people import PersonRow

_hasher = PasswordHasher(time_cost=2, memory_cost=19_456, parallelism=1)
# Verified where the name is unknown, so that the time of the answer tells nothing.
_NOBODY = _hasher.hash("nobody signs in with this")
log = logging.getLogger("kinetrum.access")


@dataclass(frozen=True)
class SignedIn:
    """A new session: the cookie's secret, the CSRF token, and whose it is."""

    secret: str
    csrf_token: str
    actor: Actor


def hash_password(password: str) -> str:
    """Return a password's argon2id hash."""
    return _hasher.hash(password)


def _verified(password_hash: str, password: str) -> bool:
    try:
        return _hasher.verify(password_hash, password)
    except (VerifyMismatchError, InvalidHashError):
        return False


@transaction
def _person_who_tries(name: str, address: str) -> PersonRow | None:
    """Return the person of a name; raises TooManyTries where the name or the address has to wait."""
    by_name = pace.seconds_to_wait(*sign_in_failures.failures_of(_of_name(name)), pace.FREE_BY_NAME)
    by_address = pace.seconds_to_wait(*sign_in_failures.failures_of(_of_address(address)), pace.FREE_BY_ADDRESS)
    wait = max(by_name, by_address)
    if wait > 0:
        whose = "with this name" if by_name >= by_address else "from this address"
        raise TooManyTries(
            f"Too many passwords were wrong {whose}; try again in {wait:.0f} s. Whoever is signed in, or has a token, "
            "goes on.",
            retry_after_s=wait,
        )
    person = people.person_named(name)
    return person if person and person.deactivated_at is None else None


def _of_name(name: str) -> str:
    return f"name {name.casefold()}"


def _of_address(address: str) -> str:
    return f"address {network_of(address)}"


@transaction
def _count_failure(name: str, address: str, person: PersonRow | None) -> None:
    for what in (_of_name(name), _of_address(address)):
        sign_in_failures.count_failure(what)
    failures, _ = sign_in_failures.failures_of(_of_name(name))
    log.warning("a wrong password for %r from %s, the %d. in a row", name[:100], address, failures)
    if person is not None and failures == pace.FREE_BY_NAME:
        source = journal.Source(address)
        journal.append(None, None, "was slowed at sign-in", person.name, comment=f"{failures} wrong", source=source)


def check_password_of(name: str, password: str, address: str) -> PersonRow:
    """Return the person whose password this is.

    Raises NotSignedIn without telling which of the two was wrong, TooManyTries where guesses are slowed.
    """
    person = _person_who_tries(name, address)
    right = _verified(person.password_hash if person and person.password_hash else _NOBODY, password)
    if person is None or not person.password_hash or not right:
        _count_failure(name, address, person)
        raise NotSignedIn("Name and password do not fit together.")
    return person


def sign_in(name: str, password: str, address: str, program: str = "") -> SignedIn:
    """Open a console session; raises as `check_password_of` does."""
    return open_session(check_password_of(name, password, address), f"{address} {program}".strip())


@transaction
def open_session(person: PersonRow, origin: str) -> SignedIn:
    """Open a session for somebody who proved who they are."""
    sign_in_failures.forget_failures(_of_name(person.name))
    secret, csrf = credentials.add_session(person.person_id, origin)
    return SignedIn(secret, csrf, _actor(person, origin))


def _actor(row: PersonRow, origin: str) -> Actor:
    return Actor(row.person_id, row.name, row.full_name, row.is_admin, origin)


@transaction
def sign_out(secret: str) -> None:
    """Close a session."""
    credentials.end_session(secret)


@transaction
def actor_of_token(secret: str, origin: str) -> Actor:
    """Return whom a token speaks for, and what it is limited to; raises NotSignedIn that says why it is not known."""
    known = credentials.token_of_secret(secret)
    if known is None:
        raise NotSignedIn(_why_unknown(secret))
    token, person = known
    credentials.note_use(token, origin)
    return Actor(
        person.person_id,
        person.name,
        person.full_name,
        person.is_admin,
        origin,
        token.name,
        token.scopes,
        token.projects,
        token_ends_at=token.expires_at,
    )


def _why_unknown(secret: str) -> str:
    if not token_form.is_whole(secret):
        return "This is no whole token: it is mistyped or cut short, as its check sum tells. Copy it again."
    why = credentials.why_not_in_use(secret)
    if why is None:
        return "This token is not known here; connect again, or make a new one."
    return f"This token {why}; connect again, or make a new one."


@transaction
def actor_of_session(secret: str, origin: str) -> tuple[Actor, str]:
    """Return whom a session speaks for and its CSRF token; raises NotSignedIn where it has ended."""
    known = credentials.session_of_secret(secret)
    if known is None:
        raise NotSignedIn("The session has ended; sign in again.")
    session, row = known
    actor = Actor(row.person_id, row.name, row.full_name, row.is_admin, origin, session_id=session.session_id)
    return actor, session.csrf_token


def credential_digest(secret: str) -> bytes:
    """Return the digest of a token or a session's secret, by which it is known."""
    return credentials.credential_digest(secret)


@snapshot
def lasting_credentials(digests: Collection[bytes]) -> set[bytes]:
    """Return those of the digests of tokens and sessions that still speak for somebody."""
    return credentials.lasting_credentials(digests)


@transaction
def session_lasts(secret: str) -> bool:
    """Tell whether a session cookie still speaks for somebody."""
    return credentials.session_of_secret(secret) is not None


@transaction
def list_sessions(actor: Actor) -> list[SessionRow]:
    """Return the actor's own sessions, the latest seen first."""
    return credentials.sessions_of(actor.person_id)


@transaction
def end_session(actor: Actor, session_id: int) -> None:
    """End one of the actor's own sessions."""
    actor.require_session("Ending a session")
    if not credentials.end_sessions(actor.person_id, only=session_id):
        raise NotFound("You have no such session; it may have ended.", field="session")


@transaction
def end_other_sessions(actor: Actor) -> int:
    """End all of the actor's own sessions but the one that asks; returns how many."""
    if actor.session_id is None:
        raise NotAllowed("Ending other sessions takes a session of one's own.")
    return credentials.end_sessions(actor.person_id, but=actor.session_id)
