"""The journal: searched, taken along, and its chain of digests kept and checked."""

from __future__ import annotations

import json
from collections.abc import Iterator
from dataclasses import asdict, dataclass, replace
from datetime import datetime, timedelta

from kinetrum.actions.context import Actor, enter, may
from kinetrum.actions.people.accounts import person_of, require_administrator
from kinetrum.actions.search.references import subjects_named
from kinetrum.core.access.journal_chain import Fault, first_fault
from kinetrum.core.base.errors import InvalidInput
from kinetrum.core.base.permissions import Act
from kinetrum.storage.db.clock import iso, now
from kinetrum.storage.db.database import snapshot, transaction
from kinetrum.storage.people import journal
from kinetrum.storage.people.journal import JournalQuery, JournalRow

PAGE_LIMIT = 500
# What is done to people rather than to things.
ACTS_ON_PEOPLE = frozenset(
    {"changed a role", "changed a group's role", "made a token", "revoked a token", "set a password"}
)
_EXPORTED_AT_ONCE = 2_000
# Every entry has its digest after so long.
_CHAINED_WITHIN = timedelta(minutes=2)


@dataclass(frozen=True)
class Filters:
    """Which entries are looked for; what is None or empty leaves nothing out. Moments are in UTC without a zone."""

    subject: str | None = None
    before: int | None = None
    since: datetime | None = None
    until: datetime | None = None
    person: str | None = None
    text: str = ""


@snapshot
def read_journal(actor: Actor, project: str, filters: Filters, limit: int) -> list[JournalRow]:
    """Return journal entries, latest first: of one thing for everybody, of the project for maintainers."""
    place = enter(actor, project, Act.SEE if filters.subject else Act.READ_JOURNAL)
    subjects = None if filters.subject is None else subjects_named(place, filters.subject)
    wanted = _query(actor, filters, place.project_id)
    wanted = replace(wanted, subjects=subjects)
    limit = max(1, min(limit, PAGE_LIMIT))
    if may(actor, place, Act.READ_JOURNAL):
        return journal.entries(wanted, limit)
    # People are subjects too, and a thing may have a person's name. What is done to people, and the addresses,
    # programs and tokens that others used, are for those who may read the whole journal.
    rows = journal.entries(replace(wanted, text="", without=ACTS_ON_PEOPLE), limit)
    return [replace(row, origin="", token="") for row in rows]


@snapshot
def read_model_journal(actor: Actor, project: str, model: str, limit: int) -> list[JournalRow]:
    """Return what happened to a model and its versions, latest first."""
    place = enter(actor, project)
    # A person may have the model's name.
    subjects = subjects_named(place, model)
    return journal.entries(JournalQuery(place.project_id, subjects, without=ACTS_ON_PEOPLE), limit)


@snapshot
def read_whole_journal(actor: Actor, filters: Filters, limit: int) -> list[JournalRow]:
    """Return entries of all projects and of the instance, latest first; for administrators."""
    require_administrator(actor)
    return journal.entries(_query(actor, filters, None), max(1, min(limit, PAGE_LIMIT)))


def _query(actor: Actor, filters: Filters, project_id: int | None) -> JournalQuery:
    if len(filters.text) > 200:
        raise InvalidInput("Look for at most 200 characters.", field="text")
    person_id = person_of(actor, filters.person).person_id if filters.person else None
    subjects = [filters.subject] if filters.subject else None
    return JournalQuery(project_id, subjects, filters.before, filters.since, filters.until, person_id, filters.text)


def export_journal(actor: Actor, project: str | None, filters: Filters) -> Iterator[bytes]:
    """Yield the entries that fit as JSON Lines, the earliest first: of a project, or for None of the instance.

    Nothing is yielded before it is known that the actor may read them.
    """
    wanted = _export_query(actor, project, filters)
    return _lines(wanted)


@snapshot
def _export_query(actor: Actor, project: str | None, filters: Filters) -> JournalQuery:
    if project is None:
        require_administrator(actor)
        return _query(actor, filters, None)
    place = enter(actor, project, Act.READ_JOURNAL)
    subjects = None if filters.subject is None else subjects_named(place, filters.subject)
    return replace(_query(actor, filters, place.project_id), subjects=subjects)


def _lines(wanted: JournalQuery) -> Iterator[bytes]:
    after = 0
    while rows := _exported(replace(wanted, before_id=after)):
        yield "".join(
            json.dumps(asdict(row) | {"at": iso(row.at)}, ensure_ascii=False, separators=(",", ":")) + "\n"
            for row in rows
        ).encode()
        after = rows[-1].entry_id


@snapshot
def _exported(wanted: JournalQuery) -> list[JournalRow]:
    return journal.entries(wanted, _EXPORTED_AT_ONCE, earliest_first=True)


@transaction
def chain_entries() -> int:
    """Give digests to the entries that have none yet; returns how many. Of two processes at once one goes on."""
    return journal.chain_entries()


@dataclass(frozen=True)
class ChainState:
    """How the journal's chain stands: its length and newest digest, and where it breaks, None where it is whole."""

    entries: int
    digest: str
    fault: Fault | None
    unchained: int


@snapshot
def check_chain(actor: Actor) -> ChainState:
    """Read the whole chain and tell whether an entry was removed or altered; for administrators."""
    require_administrator(actor)
    position, digest = journal.newest_digest()
    fault = first_fault(journal.chain_links())
    return ChainState(position, digest.hex(), fault, journal.unchained_since(now() - _CHAINED_WITHIN))
