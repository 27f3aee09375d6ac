"""People, their tokens and sessions, and their roles in projects."""

from __future__ import annotations

import hashlib
import secrets
from collections.abc import Collection
from dataclasses import dataclass
from datetime import timedelta

from kinetrum.core.base.permissions import Role
from kinetrum.storage.db.clock import now
from kinetrum.storage.db.database import named_rows
from kinetrum.storage.tables.people import Member, Person, Session, Token

TOKEN_PREFIX = "ktm_"
SESSION_LIFE = timedelta(days=14)


@dataclass(frozen=True)
class PersonRow:
    """One person as stored; `password_hash` is an argon2id hash."""

    person_id: int
    name: str
    full_name: str
    password_hash: str
    is_admin: bool


def _row(person: Person) -> PersonRow:
    return PersonRow(person.person_id, person.name, person.full_name, person.password_hash, bool(person.is_admin))


def person_named(name: str) -> PersonRow | None:
    """Return the person with that sign-in name."""
    person = Person.get_or_none(Person.name == name)
    return _row(person) if person else None


def people() -> list[PersonRow]:
    """Return everybody, by name."""
    return [_row(person) for person in Person.select().order_by(Person.name)]


def full_names() -> dict[int, str]:
    """Return the full name by person id."""
    return {row.person_id: row.full_name for row in Person.select(Person.person_id, Person.full_name)}


def add_person(name: str, full_name: str, password_hash: str, is_admin: bool) -> int:
    """Insert a person and return the new id."""
    return int(
        Person.insert(
            name=name, full_name=full_name, password_hash=password_hash, is_admin=is_admin, created_at=now()
        ).execute()
    )


def set_password(person_id: int, password_hash: str) -> None:
    """Replace a password hash and end the person's sessions."""
    Person.update(password_hash=password_hash).where(Person.person_id == person_id).execute()
    Session.delete().where(Session.person_id == person_id).execute()


def _digest(secret: str) -> bytes:
    return hashlib.sha256(secret.encode()).digest()


def add_token(person_id: int, name: str) -> str:
    """Make a client token and return its secret, which is stored nowhere: only its SHA-256 is."""
    secret = TOKEN_PREFIX + secrets.token_urlsafe(32)
    Token.insert(person_id=person_id, name=name, secret_sha256=_digest(secret), created_at=now()).execute()
    return secret


def has_token(person_id: int, name: str) -> bool:
    """Tell whether a person has a token of that name in use."""
    in_use = (Token.person_id == person_id) & (Token.name == name) & Token.revoked_at.is_null()
    return Token.select().where(in_use).exists()


def revoke_tokens(person_id: int, name: str) -> int:
    """Revoke the person's tokens of that name; returns how many there were."""
    in_use = (Token.person_id == person_id) & (Token.name == name) & Token.revoked_at.is_null()
    return int(Token.update(revoked_at=now()).where(in_use).execute())


def person_of_token(secret: str) -> PersonRow | None:
    """Return whom a token speaks for."""
    person = (
        Person.select()
        .join(Token, on=(Token.person_id == Person.person_id))
        .where((Token.secret_sha256 == _digest(secret)) & Token.revoked_at.is_null())
        .first()
    )
    return _row(person) if person else None


def add_session(person_id: int) -> tuple[str, str]:
    """Open a session and return its cookie secret and its CSRF token."""
    secret, csrf = secrets.token_urlsafe(32), secrets.token_urlsafe(24)
    Session.delete().where(Session.expires_at < now()).execute()
    Session.insert(
        secret_sha256=_digest(secret), person_id=person_id, csrf_token=csrf, expires_at=now() + SESSION_LIFE
    ).execute()
    return secret, csrf


def person_of_session(secret: str) -> tuple[PersonRow, str] | None:
    """Return whom a session cookie speaks for, with its CSRF token."""
    session = Session.get_or_none((Session.secret_sha256 == _digest(secret)) & (Session.expires_at > now()))
    if session is None:
        return None
    return _row(Person.get_by_id(session.person_id)), session.csrf_token


def credential_digest(secret: str) -> bytes:
    """Return the digest by which a token's or a session's secret is stored."""
    return _digest(secret)


def lasting_credentials(digests: Collection[bytes]) -> set[bytes]:
    """Return those of the digests that are of a token in use, or of a session that has not ended."""
    tokens = Token.select(Token.secret_sha256).where(Token.secret_sha256.in_(digests), Token.revoked_at.is_null())
    sessions = Session.select(Session.secret_sha256).where(
        Session.secret_sha256.in_(digests), Session.expires_at > now()
    )
    return {bytes(row.secret_sha256) for rows in (tokens, sessions) for row in named_rows(rows)}


def end_session(secret: str) -> None:
    """Close a session."""
    Session.delete().where(Session.secret_sha256 == _digest(secret)).execute()


def role_in(project_id: int, person_id: int) -> Role | None:
    """Return the person's role in a project."""
    member = Member.get_or_none((Member.project_id == project_id) & (Member.person_id == person_id))
    return Role(member.role) if member else None


def project_ids_of(person_id: int) -> frozenset[int]:
    """Return the projects in which a person has a role."""
    rows = Member.select(Member.project_id).where(Member.person_id == person_id)
    return frozenset(int(row.project_id) for row in named_rows(rows))


def set_role(project_id: int, person_id: int, role: Role | None) -> None:
    """Give, change or (None) take away a role."""
    if role is None:
        Member.delete().where((Member.project_id == project_id) & (Member.person_id == person_id)).execute()
    else:
        Member.replace(project_id=project_id, person_id=person_id, role=role.value).execute()


def members(project_id: int) -> list[tuple[str, str, Role]]:
    """Return (name, full name, role) of a project's members."""
    rows = (
        Member.select(Person.name, Person.full_name, Member.role)
        .join(Person, on=(Person.person_id == Member.person_id))
        .where(Member.project_id == project_id)
        .order_by(Person.name)
    )
    return [(row.name, row.full_name, Role(row.role)) for row in named_rows(rows)]
