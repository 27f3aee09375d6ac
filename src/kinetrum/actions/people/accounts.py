"""People: made, invited, changed, deactivated."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass
from datetime import datetime, timedelta

from kinetrum.actions.context import Actor
from kinetrum.actions.people.signing_in import hash_password
from kinetrum.core.access.passwords import check_password
from kinetrum.core.access.scopes import Scope
from kinetrum.core.base.errors import Conflict, InvalidInput, NotAllowed, NotFound
from kinetrum.core.base.permissions import Role
from kinetrum.core.base.values import check_name
from kinetrum.storage.db.clock import Moment, now
from kinetrum.storage.db.database import transaction
from kinetrum.storage.people import credentials, journal, people, projects
from kinetrum.storage.people.people import PersonRow

LINK_LIFE = timedelta(days=3)
_INVITATION, _RESET = "invitation", "new password"


def require_administrator(actor: Actor) -> None:
    """Raise NotAllowed unless the actor is an administrator, and by a token one that is for administering."""
    if not actor.is_admin:
        raise NotAllowed(f"{actor.full_name} is not an administrator of this instance; this takes one.")
    actor.require_scope(Scope.ADMINISTER)


def make_first_person(name: str, full_name: str, password: str) -> bool:
    """Make the first account, administrator of everything, and the project `main`; False where people exist."""
    password_hash = hash_password(check_password(password, name))
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


@dataclass(frozen=True)
class NewPerson:
    """Who is to have an account; without a password they are invited and choose it themselves."""

    name: str
    full_name: str
    is_admin: bool = False
    mail: str = ""
    password: str | None = None


@dataclass(frozen=True)
class Invitation:
    """What opens an account once, until when, and whose it is; the secret is shown this once."""

    secret: str
    expires_at: datetime
    full_name: str
    mail: str


def make_person(actor: Actor, new: NewPerson) -> Invitation | None:
    """Make an account, and where it has no password an invitation; raises Conflict where the name is taken."""
    require_administrator(actor)
    name, full_name = check_name(new.name, "person"), check_full_name(new.full_name)
    password_hash = "" if new.password is None else hash_password(check_password(new.password, name))
    return _make_person(actor, new, full_name, password_hash)


def check_full_name(full_name: str) -> str:
    """Return a full name without spaces around it; raises InvalidInput for what is none."""
    text = full_name.strip()
    if not text or len(text) > 200 or not text.isprintable():
        raise InvalidInput("A full name has 1 to 200 printable characters.", field="full_name")
    return text


def check_mail(mail: str) -> str:
    """Return an address for letters, or nothing; raises InvalidInput for what is no address."""
    local, at, domain = mail.strip().partition("@")
    if mail and not (local and at and domain and "@" not in domain and mail.isprintable() and len(mail) <= 200):
        raise InvalidInput(f"{mail[:80]!r} is not a mail address.", field="mail")
    if any(c.isspace() for c in mail.strip()):
        raise InvalidInput(f"{mail[:80]!r} is not a mail address.", field="mail")
    return mail.strip()


@transaction
def _make_person(actor: Actor, new: NewPerson, full_name: str, password_hash: str) -> Invitation | None:
    if people.is_name_taken(new.name):
        raise Conflict(f"There is a person {new.name!r} already.", field="name")
    person_id = people.add_person(new.name, full_name, password_hash, new.is_admin, mail=check_mail(new.mail))
    journal.append(None, actor.person_id, "made a person", new.name, source=actor.source)
    return None if password_hash else _make_link(actor, people.person_by_id(person_id), _INVITATION)


def _make_link(actor: Actor, person: PersonRow, purpose: str) -> Invitation:
    secret = credentials.add_link(person.person_id, purpose, actor.person_id, LINK_LIFE)
    journal.append(None, actor.person_id, f"made a link: {purpose}", person.name, source=actor.source)
    return Invitation(secret, now() + LINK_LIFE, person.full_name, person.mail)


@transaction
def make_link(actor: Actor, name: str) -> Invitation:
    """Make a link by which a person chooses a password: the invitation anew, or a new password. Earlier ones end."""
    require_administrator(actor)
    person = person_of(actor, name)
    if person.deactivated_at is not None:
        raise Conflict(f"{person.full_name} is deactivated; let them back in first.", field="person")
    return _make_link(actor, person, _RESET if person.password_hash else _INVITATION)


@dataclass(frozen=True)
class Welcome:
    """Whose account a link opens, for what, and until when."""

    name: str
    full_name: str
    purpose: str
    expires_at: Moment


@transaction
def read_link(secret: str) -> Welcome:
    """Return what a link opens, without opening it."""
    link, person = _open(secret)
    return Welcome(person.name, person.full_name, link.purpose, link.expires_at)


def _open(secret: str) -> tuple[credentials.LinkRow, PersonRow]:
    link = credentials.link_of_secret(secret)
    person = people.person_by_id(link.person_id) if link else None
    if link is None or person is None or person.deactivated_at is not None:
        raise NotFound("This link opens nothing: it was used, has ended after three days, or a newer one was made.")
    return link, person


def open_link(secret: str, password: str, revoke_tokens: bool, origin: str) -> None:
    """Choose a password by a link, which opens no more after that; sessions of before end."""
    person = _person_of_link(secret)
    _use_link(secret, hash_password(check_password(password, person.name)), revoke_tokens, origin)


@transaction
def _person_of_link(secret: str) -> PersonRow:
    return _open(secret)[1]


@transaction
def _use_link(secret: str, password_hash: str, revoke_tokens: bool, origin: str) -> None:
    link, person = _open(secret)
    if not credentials.use_link(link.link_id):
        raise NotFound("This link opens nothing: it was used just now.")
    set_new_password(person, password_hash, revoke_tokens)
    act = "accepted the invitation" if link.purpose == _INVITATION else "chose a new password"
    journal.append(None, person.person_id, act, person.name, source=journal.Source(origin))


def set_new_password(person: PersonRow, password_hash: str, revoke_tokens: bool, but: int | None = None) -> None:
    """Replace a password: sessions end `but` one, links open no more, tokens are revoked where that is asked for."""
    people.set_person(person.person_id, password_hash=password_hash)
    credentials.end_sessions(person.person_id, but=but)
    credentials.end_links(person.person_id)
    if revoke_tokens:
        credentials.revoke_tokens(person.person_id)


def set_password(actor: Actor, name: str, password: str) -> None:
    """Set another's password, as an administrator; their sessions end and their tokens are revoked."""
    require_administrator(actor)
    if name == actor.name:
        raise InvalidInput("One's own password is changed with the one of now, on one's own page.", field="person")
    _set_password(actor, name, hash_password(check_password(password, name)))


@transaction
def _set_password(actor: Actor, name: str, password_hash: str) -> None:
    set_new_password(person_of(actor, name), password_hash, revoke_tokens=True)
    journal.append(None, actor.person_id, "set a password", name, source=actor.source)


def person_of(actor: Actor, name: str) -> PersonRow:
    """Return the person of a name, or raise NotFound; who has an account here is for administrators to know."""
    row = people.person_named(name)
    if row is None:
        known = f" Choose one of: {', '.join(p.name for p in people.people())}." if actor.is_admin else ""
        raise NotFound(f"Unknown person {name!r}.{known}", field="person")
    return row


@dataclass(frozen=True)
class PersonView:
    """A person as administrators see them; `invited_until` of who has not come yet, `seen_at` by session or token."""

    row: PersonRow
    groups: list[str]
    roles: dict[str, Role]
    invited_until: datetime | None
    seen_at: datetime | None
    sessions: int
    tokens: int


@transaction
def list_people(actor: Actor) -> list[PersonView]:
    """Return everybody; for administrators."""
    require_administrator(actor)
    invited = credentials.open_invitations()
    return [view_of(row, invited.get(row.person_id)) for row in people.people()]


def view_of(row: PersonRow, invited_until: datetime | None) -> PersonView:
    """Return a person as administrators, and they themselves, see them; inside a running transaction."""
    sessions, tokens = credentials.sessions_of(row.person_id), credentials.tokens_of(row.person_id)
    seen = [*(one.seen_at for one in sessions), *(one.last_used_at for one in tokens)]
    ids = people.project_ids_of(row.person_id)
    roles = {
        projects.project_by_id(project_id).name: role
        for project_id in ids
        if (role := people.role_in(project_id, row.person_id)) is not None
    }
    return PersonView(
        row,
        people.groups_of(row.person_id),
        dict(sorted(roles.items())),
        invited_until,
        max((at for at in seen if at is not None), default=None),
        len(sessions),
        len(tokens),
    )


@dataclass(frozen=True)
class PersonChange:
    """What is to change of a person; None leaves it as it is."""

    full_name: str | None = None
    mail: str | None = None
    is_admin: bool | None = None
    is_active: bool | None = None
    groups: Collection[str] | None = None


@transaction
def change_person(actor: Actor, name: str, change: PersonChange) -> PersonView:
    """Change an account, as an administrator; who is deactivated is out at once, with sessions, tokens and links."""
    require_administrator(actor)
    person = person_of(actor, name)
    before, fields = dict[str, object](), dict[str, object]()
    if change.full_name is not None:
        fields["full_name"] = check_full_name(change.full_name)
    if change.mail is not None:
        fields["mail"] = check_mail(change.mail)
    if change.is_admin is not None and change.is_admin != person.is_admin:
        fields["is_admin"] = change.is_admin
    if change.is_active is not None and change.is_active != (person.deactivated_at is None):
        fields["deactivated_at"] = None if change.is_active else now()
    _check_last_administrator(person, change)
    fields = {key: value for key, value in fields.items() if getattr(person, key) != value}
    before = {key: _told(getattr(person, key)) for key in fields}
    if fields:
        people.set_person(person.person_id, **fields)
    if fields.get("deactivated_at"):
        credentials.end_sessions(person.person_id)
        credentials.revoke_tokens(person.person_id)
        credentials.end_links(person.person_id)
    if change.groups is not None:
        known = people.groups_of(person.person_id)
        groups = sorted({check_name(group, "group") for group in change.groups})
        if groups != known:
            people.set_groups(person.person_id, groups)
            before["groups"], fields["groups"] = known, groups
    if fields:
        act = "deactivated" if fields.get("deactivated_at") else "changed the account of"
        after = {key: _told(value) for key, value in fields.items()}
        journal.append(None, actor.person_id, act, name, journal.Change(before, after), source=actor.source)
    return view_of(people.person_by_id(person.person_id), credentials.open_invitations().get(person.person_id))


def _told(value: object) -> object:
    return value.isoformat() + "Z" if isinstance(value, datetime) else value


def _check_last_administrator(person: PersonRow, change: PersonChange) -> None:
    leaves = change.is_admin is False or change.is_active is False
    if leaves and people.active_administrators() == [person.person_id]:
        raise Conflict(f"{person.full_name} is the last administrator; make somebody else one first.", field="person")
