"""Tokens: one's own, and those of a project's machines, which no person has."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass
from datetime import datetime, timedelta

from kinetrum.actions.context import Actor, Place, enter
from kinetrum.actions.people.accounts import person_of, require_administrator
from kinetrum.core.access.scopes import EVERY_SCOPE, SCOPE_OF, Scope, in_order, read_scopes
from kinetrum.core.base.errors import Conflict, InvalidInput, NotAllowed, NotFound
from kinetrum.core.base.permissions import TABLE, Act, Role
from kinetrum.core.base.values import check_name
from kinetrum.storage.db.clock import Moment, now
from kinetrum.storage.db.database import transaction
from kinetrum.storage.people import credentials, journal, people, projects
from kinetrum.storage.people.credentials import TokenRow
from kinetrum.storage.people.people import PersonRow

USUAL_DAYS, MOST_DAYS = 90, 3_660
# Without a choice a token is for everything but administering.
USUAL_SCOPES = EVERY_SCOPE - {Scope.ADMINISTER}
TOKENS_EACH = 200


@dataclass(frozen=True)
class NewToken:
    """What a token is to be for; `days` of None: it does not end."""

    name: str
    scopes: Collection[str] | None = None
    projects: Collection[str] | None = None
    days: int | None = USUAL_DAYS


@dataclass(frozen=True)
class MadeToken:
    """A new token: its secret is shown this once."""

    name: str
    secret: str
    scopes: list[str]
    projects: list[str] | None
    expires_at: Moment | None


@dataclass(frozen=True)
class TokenView:
    """A token that was made, without its secret; `projects` of None: all that its person may see."""

    name: str
    scopes: list[str]
    projects: list[str] | None
    created_at: Moment
    expires_at: Moment | None
    last_used_at: Moment | None
    last_used_from: str
    made_by: str | None


@transaction
def make_token(actor: Actor, new: NewToken, person: str | None = None) -> MadeToken:
    """Make a token for oneself, or as an administrator for another.

    Who came by a token makes others only where it is for administering, none that may more, and all end with it at
    the latest.
    """
    if person is not None and person != actor.name:
        require_administrator(actor)
    elif actor.session_id is None:
        actor.require_scope(Scope.ADMINISTER)
    owner = person_of(actor, person or actor.name)
    if owner.deactivated_at is not None:
        raise Conflict(f"{owner.full_name} is deactivated; nobody gets in by a token of theirs.", field="person")
    ids = None if new.projects is None else frozenset(_project_id(actor, name) for name in new.projects)
    return _make(actor, owner, new, USUAL_SCOPES, ids, None)


def _project_id(actor: Actor, name: str) -> int:
    return enter(actor, name).project_id


def _make(
    actor: Actor,
    owner: PersonRow,
    new: NewToken,
    usual: frozenset[Scope],
    ids: frozenset[int] | None,
    project_id: int | None,
) -> MadeToken:
    scopes = usual if new.scopes is None else read_scopes(new.scopes)
    _check_no_more(actor, scopes, ids)
    people.lock_person(owner.person_id)
    if credentials.has_token(owner.person_id, check_name(new.name, "token")):
        raise Conflict(
            f"{owner.full_name} has a token {new.name!r} in use; revoke it first, or choose another name.",
            field="name",
        )
    if len(credentials.tokens_of(owner.person_id)) >= TOKENS_EACH:
        raise Conflict(f"{owner.full_name} has {TOKENS_EACH} tokens; revoke those that nobody uses.", field="name")
    expires_at = _end(new.days, actor.token_ends_at)
    secret = credentials.add_token(owner.person_id, new.name, scopes, ids, expires_at, actor.person_id)
    after = {"scopes": in_order(scopes), "ends": None if expires_at is None else f"{expires_at:%Y-%m-%d}"}
    journal.append(
        project_id,
        actor.person_id,
        "made a token",
        f"{owner.name}/{new.name}",
        journal.Change(after=after),
        source=actor.source,
    )
    return MadeToken(new.name, secret, in_order(scopes), _names(ids), expires_at)


def _end(days: int | None, latest: datetime | None) -> datetime | None:
    if days is not None and not 1 <= days <= MOST_DAYS:
        raise InvalidInput(f"A token lasts 1 to {MOST_DAYS:,} days, or does not end.", field="days")
    ends = [end for end in (None if days is None else now() + timedelta(days=days), latest) if end is not None]
    return min(ends, default=None)


def _check_no_more(actor: Actor, scopes: frozenset[Scope], ids: frozenset[int] | None) -> None:
    """Refuse a token that may more than the one that the actor came with."""
    more = [scope for scope in in_order(scopes) if not actor.has_scope(Scope(scope))]
    if more:
        raise NotAllowed(f"The token {actor.token!r} has not the scope {more[0]!r}, so it makes none that has.")
    if actor.projects is not None and (ids is None or not ids <= actor.projects):
        raise NotAllowed(f"The token {actor.token!r} is limited to projects, so it makes none that is for others.")


def _names(ids: frozenset[int] | None) -> list[str] | None:
    return None if ids is None else sorted(projects.project_by_id(project_id).name for project_id in ids)


@transaction
def list_tokens(actor: Actor, person: str | None = None) -> list[TokenView]:
    """Return one's own tokens, or as an administrator another's, the latest first."""
    if person is not None and person != actor.name:
        require_administrator(actor)
    return _views(person_of(actor, person).person_id if person else actor.person_id)


def _views(person_id: int) -> list[TokenView]:
    names = people.full_names()
    return [_view(row, names) for row in credentials.tokens_of(person_id)]


def _view(row: TokenRow, names: dict[int, str]) -> TokenView:
    return TokenView(
        row.name,
        in_order(EVERY_SCOPE if row.scopes is None else row.scopes),
        _names(row.projects),
        row.created_at,
        row.expires_at,
        row.last_used_at,
        row.last_used_from,
        names.get(row.made_by) if row.made_by else None,
    )


@transaction
def revoke_token(actor: Actor, name: str, person: str | None = None) -> int:
    """Revoke tokens by name, one's own or as an administrator another's; returns how many.

    Whoever has a token may revoke it by itself: what leaked must be stoppable by whoever finds it.
    """
    if person is not None and person != actor.name:
        require_administrator(actor)
    elif actor.session_id is None and actor.token != name:
        actor.require_scope(Scope.ADMINISTER)
    owner = people.person_by_id(actor.person_id) if person is None else person_of(actor, person)
    count = credentials.revoke_tokens(owner.person_id, name)
    if not count:
        raise NotFound(f"{owner.full_name} has no token {name!r} in use.", field="token")
    journal.append(owner.machine_of, actor.person_id, "revoked a token", f"{owner.name}/{name}", source=actor.source)
    return count


def _machine_role(scopes: frozenset[Scope]) -> Role:
    """Return the least role that permits what scopes are for."""
    acts = {act for act, scope in SCOPE_OF.items() if scope in scopes and act not in _ONLY_MAINTAINERS}
    if Scope.ADMINISTER in scopes:
        return Role.MAINTAINER
    return next(role for role in Role if acts <= TABLE[role])


# Choosing the lead version and retiring are a maintainer's, and go with placing only where the machine is one.
_ONLY_MAINTAINERS = frozenset({Act.CHOOSE_LEAD, Act.RETIRE})


@transaction
def make_machine_token(actor: Actor, project: str, new: NewToken) -> MadeToken:
    """Make a token of a project, for machines: it has a name and no person, and is good in that project only."""
    place = enter(actor, project, Act.ADMINISTER)
    name = check_name(new.name, "token")
    scopes = read_scopes(new.scopes or ())
    # Of two who make the first token of a name at once, the later one finds the machine of the earlier.
    projects.lock_project(place.project_id)
    machine = _machine(place, name)
    if machine is None:
        account = people.free_name(f"{name[:80]}-of-{place.project_id}")
        machine_id = people.add_person(account, name, "", False, machine_of=place.project_id)
        machine = people.person_by_id(machine_id)
    people.set_role(place.project_id, machine.person_id, _machine_role(scopes))
    return _make(actor, machine, new, scopes, frozenset({place.project_id}), place.project_id)


def _machine(place: Place, name: str) -> PersonRow | None:
    return next((one for one in people.machines_of(place.project_id) if one.full_name == name), None)


@transaction
def list_machine_tokens(actor: Actor, project: str) -> list[TokenView]:
    """Return the tokens of a project's machines; for its maintainers."""
    place = enter(actor, project, Act.ADMINISTER)
    names = people.full_names()
    rows = [row for machine in people.machines_of(place.project_id) for row in credentials.tokens_of(machine.person_id)]
    return [_view(row, names) for row in sorted(rows, key=lambda row: row.created_at, reverse=True)]


@transaction
def revoke_machine_token(actor: Actor, project: str, name: str) -> None:
    """Revoke a machine's token; what the machine did stays under its name."""
    place = enter(actor, project, Act.ADMINISTER)
    machine = _machine(place, name)
    if machine is None or not credentials.revoke_tokens(machine.person_id, name):
        raise NotFound(f"{place.project.name} has no token {name!r} in use.", field="token")
    people.set_role(place.project_id, machine.person_id, None)
    journal.append(place.project_id, actor.person_id, "revoked a token", f"{machine.name}/{name}", source=actor.source)
