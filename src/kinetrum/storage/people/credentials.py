"""Tokens, sessions and links that open once: by their digests, never by their secrets."""

from __future__ import annotations

import hashlib
import json
import secrets
from collections.abc import Collection
from dataclasses import dataclass
from datetime import datetime, timedelta
from types import SimpleNamespace
from typing import Any

from peewee import Expression, fn

from kinetrum.core.access.scopes import Scope
from kinetrum.core.access.token_form import new_secret
from kinetrum.storage.db.clock import now
from kinetrum.storage.db.database import named_rows, one_row
from kinetrum.storage.people.people import PersonRow, person_row
from kinetrum.storage.tables.people import AccountLink, Person, Session, Token

SESSION_LIFE, SESSION_IDLE = timedelta(days=14), timedelta(days=7)
# When it was used is noted again only after so long: not every request writes.
_NOTED_EVERY = timedelta(minutes=1)


@dataclass(frozen=True)
class TokenRow:
    """A token as stored, without its secret; `scopes` and `projects` are None where it is not limited."""

    token_id: int
    person_id: int
    name: str
    created_at: datetime
    revoked_at: datetime | None
    scopes: frozenset[Scope] | None
    projects: frozenset[int] | None
    expires_at: datetime | None
    last_used_at: datetime | None
    last_used_from: str
    made_by: int | None


@dataclass(frozen=True)
class SessionRow:
    """A session as stored, without its secret."""

    session_id: int
    person_id: int
    csrf_token: str
    expires_at: datetime
    opened_at: datetime | None
    seen_at: datetime | None
    origin: str


def credential_digest(secret: str) -> bytes:
    """Return the digest by which a token's, a session's or a link's secret is stored."""
    return hashlib.sha256(secret.encode()).digest()


def _token(row: Any) -> TokenRow:
    return TokenRow(
        row.token_id,
        row.person_id,
        row.name,
        row.created_at,
        row.revoked_at,
        None if row.scopes is None else frozenset(Scope(word) for word in json.loads(row.scopes)),
        None if row.projects is None else frozenset(json.loads(row.projects)),
        row.expires_at,
        row.last_used_at,
        row.last_used_from,
        row.made_by,
    )


def _in_use() -> Expression:
    return Token.revoked_at.is_null() & (Token.expires_at.is_null() | (Token.expires_at > now()))


def add_token(
    person_id: int,
    name: str,
    scopes: Collection[Scope] | None = None,
    projects: Collection[int] | None = None,
    expires_at: datetime | None = None,
    made_by: int | None = None,
) -> str:
    """Make a token and return its secret, which is stored nowhere: only its SHA-256 is."""
    secret = new_secret()
    Token.insert(
        person_id=person_id,
        name=name,
        secret_sha256=credential_digest(secret),
        created_at=now(),
        scopes=None if scopes is None else json.dumps(sorted(scopes)),
        projects=None if projects is None else json.dumps(sorted(projects)),
        expires_at=expires_at,
        last_used_from="",
        made_by=made_by,
    ).execute()
    return secret


def tokens_of(person_id: int) -> list[TokenRow]:
    """Return the tokens of a person or machine that were not revoked, the latest first; also those that ended."""
    rows = Token.select().where(Token.person_id == person_id, Token.revoked_at.is_null())
    return [_token(row) for row in rows.order_by(Token.token_id.desc())]


def has_token(person_id: int, name: str) -> bool:
    """Tell whether a person has a token of that name in use."""
    return Token.select().where(Token.person_id == person_id, Token.name == name, _in_use()).exists()


def revoke_tokens(person_id: int, name: str | None = None) -> int:
    """Revoke a person's tokens of that name, without one all of them; returns how many there were."""
    theirs = (Token.person_id == person_id) & Token.revoked_at.is_null()
    if name is not None:
        theirs &= Token.name == name
    return int(Token.update(revoked_at=now()).where(theirs).execute())


_OF_PERSON = {field.name: f"person_{field.name}" for field in Person._meta.sorted_fields if field.name != "person_id"}


def token_of_secret(secret: str) -> tuple[TokenRow, PersonRow] | None:
    """Return a token in use, and whom it speaks for; None of an unknown, revoked or ended one, or where they left."""
    columns = [getattr(Person, name).alias(alias) for name, alias in _OF_PERSON.items()]
    row = one_row(
        Token.select(Token, *columns)
        .join(Person, on=(Token.person_id == Person.person_id))
        .where(Token.secret_sha256 == credential_digest(secret), _in_use(), Person.deactivated_at.is_null())
    )
    if row is None:
        return None
    person = SimpleNamespace(
        person_id=row.person_id, **{name: getattr(row, alias) for name, alias in _OF_PERSON.items()}
    )
    return _token(row), person_row(person)


def why_not_in_use(secret: str) -> str | None:
    """Say what became of a token that is known: revoked, ended, or its owner left; None of an unknown one."""
    token = Token.get_or_none(Token.secret_sha256 == credential_digest(secret))
    if token is None:
        return None
    if token.revoked_at is not None:
        return f"was revoked on {token.revoked_at:%Y-%m-%d}"
    if token.expires_at is not None and token.expires_at <= now():
        return f"ended on {token.expires_at:%Y-%m-%d}"
    return "is of somebody whose account was deactivated"


def note_use(token: TokenRow, origin: str) -> bool:
    """Note when and from where a token was used, at most once a minute; tells whether it was noted."""
    at = now()
    if token.last_used_at is not None and at - token.last_used_at < _NOTED_EVERY:
        return False
    Token.update(last_used_at=at, last_used_from=origin[:200]).where(Token.token_id == token.token_id).execute()
    return True


def _session(row: Any) -> SessionRow:
    return SessionRow(
        row.session_id, row.person_id, row.csrf_token, row.expires_at, row.opened_at, row.seen_at, row.origin
    )


def _lasts() -> Expression:
    at = now()
    return (Session.expires_at > at) & (Session.seen_at.is_null() | (Session.seen_at > at - SESSION_IDLE))


def add_session(person_id: int, origin: str) -> tuple[str, str]:
    """Open a session and return its cookie secret and its CSRF token."""
    secret, csrf, at = secrets.token_urlsafe(32), secrets.token_urlsafe(24), now()
    Session.delete().where(Session.expires_at < at).execute()
    Session.insert(
        secret_sha256=credential_digest(secret),
        person_id=person_id,
        csrf_token=csrf,
        expires_at=at + SESSION_LIFE,
        opened_at=at,
        seen_at=at,
        origin=origin[:200],
    ).execute()
    return secret, csrf


def session_of_secret(secret: str) -> tuple[SessionRow, PersonRow] | None:
    """Return a session that lasts and whose it is; notes now and then that it is in use."""
    session = Session.get_or_none(Session.secret_sha256 == credential_digest(secret), _lasts())
    if session is None:
        return None
    person = person_row(Person.get_by_id(session.person_id))
    if person.deactivated_at is not None:
        return None
    at = now()
    if session.seen_at is None or at - session.seen_at > _NOTED_EVERY:
        Session.update(seen_at=at).where(Session.session_id == session.session_id).execute()
    return _session(session), person


def sessions_of(person_id: int) -> list[SessionRow]:
    """Return a person's sessions that last, the latest seen first."""
    rows = Session.select().where(Session.person_id == person_id, _lasts())
    return [_session(row) for row in rows.order_by(fn.COALESCE(Session.seen_at, Session.opened_at).desc())]


def end_session(secret: str) -> None:
    """Close a session."""
    Session.delete().where(Session.secret_sha256 == credential_digest(secret)).execute()


def end_sessions(person_id: int, only: int | None = None, but: int | None = None) -> int:
    """Close a person's sessions: all of them, `only` one, or all `but` one; returns how many."""
    theirs = Session.person_id == person_id
    if only is not None:
        theirs &= Session.session_id == only
    if but is not None:
        theirs &= Session.session_id != but
    return int(Session.delete().where(theirs).execute())


def lasting_credentials(digests: Collection[bytes]) -> set[bytes]:
    """Return those of the digests that are of a token in use, or of a session that lasts, of somebody who is here."""
    lasting: set[bytes] = set()
    for table, in_use in ((Token, _in_use()), (Session, _lasts())):
        rows = (
            table.select(table.secret_sha256)
            .join(Person, on=(Person.person_id == table.person_id))
            .where(table.secret_sha256.in_(digests), in_use, Person.deactivated_at.is_null())
        )
        lasting |= {bytes(row.secret_sha256) for row in named_rows(rows)}
    return lasting


@dataclass(frozen=True)
class LinkRow:
    """A link that opens once: whose account, and for what."""

    link_id: int
    person_id: int
    purpose: str
    expires_at: datetime


def add_link(person_id: int, purpose: str, made_by: int, lasts: timedelta) -> str:
    """Make a link that opens once and return its secret; earlier ones of the person open no more."""
    AccountLink.delete().where(AccountLink.person_id == person_id, AccountLink.used_at.is_null()).execute()
    secret, at = "kl_" + secrets.token_urlsafe(32), now()
    AccountLink.insert(
        secret_sha256=credential_digest(secret),
        person_id=person_id,
        purpose=purpose,
        made_by=made_by,
        made_at=at,
        expires_at=at + lasts,
    ).execute()
    return secret


def link_of_secret(secret: str) -> LinkRow | None:
    """Return a link that can still be opened."""
    row = AccountLink.get_or_none(
        AccountLink.secret_sha256 == credential_digest(secret),
        AccountLink.used_at.is_null(),
        AccountLink.expires_at > now(),
    )
    return LinkRow(row.link_id, row.person_id, row.purpose, row.expires_at) if row else None


def use_link(link_id: int) -> bool:
    """Mark a link as opened; False where somebody else was faster."""
    unused = (AccountLink.link_id == link_id) & AccountLink.used_at.is_null()
    return bool(AccountLink.update(used_at=now()).where(unused).execute())


def end_links(person_id: int) -> None:
    """Let no link of a person open any more."""
    AccountLink.delete().where(AccountLink.person_id == person_id, AccountLink.used_at.is_null()).execute()


def open_invitations() -> dict[int, datetime]:
    """Return until when the people who were invited and have not come yet can."""
    rows = AccountLink.select().where(
        AccountLink.purpose == "invitation", AccountLink.used_at.is_null(), AccountLink.expires_at > now()
    )
    return {row.person_id: row.expires_at for row in rows}
