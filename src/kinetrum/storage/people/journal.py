"""The append-only record of changes. This process's account may add entries and read them, nothing else."""

from __future__ import annotations

import json
import operator
from collections.abc import Collection, Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime
from functools import reduce
from typing import Any

from peewee import JOIN, fn

from kinetrum.core.access.journal_chain import BEGINNING, ChainedEntry, next_digest
from kinetrum.storage.db.clock import Moment, now, to_micros
from kinetrum.storage.db.database import named_rows
from kinetrum.storage.live import events
from kinetrum.storage.tables.people import JournalDigest, JournalEntry, Person, Project


@dataclass(frozen=True)
class JournalRow:
    """One change: who did what to which subject, before and after, when and from where."""

    entry_id: int
    at: Moment
    person: str | None
    act: str
    subject: str
    before: Any
    after: Any
    comment: str
    origin: str
    token: str
    project: str | None


@dataclass(frozen=True)
class Source:
    """Where an act came from: the address and program, and the name of the token, empty of a session."""

    origin: str = ""
    token: str = ""


@dataclass(frozen=True)
class Change:
    """What something was before an act, and what it is after it, as JSON holds it; None says nothing."""

    before: Any = None
    after: Any = None


def append(
    project_id: int | None,
    person_id: int | None,
    act: str,
    subject: str,
    change: Change | None = None,
    comment: str = "",
    source: Source | None = None,
) -> None:
    """Add one entry inside the running transaction."""
    change = change or Change()
    JournalEntry.insert(
        project_id=project_id,
        person_id=person_id,
        at=now(),
        act=act,
        subject=subject,
        state_before=None if change.before is None else json.dumps(change.before),
        state_after=None if change.after is None else json.dumps(change.after),
        comment=comment,
        origin=source.origin[:200] if source else "",
        token=source.token if source else "",
    ).execute()
    events.tell_act(project_id, subject, act)


@dataclass(frozen=True)
class JournalQuery:
    """Which entries are wanted; what is left as it is leaves nothing out.

    `project_id` of None: of all projects and of the instance. `subjects` select things and everything under them
    (`NAME@…`, `NAME/…`). `text` is looked for in what was done, on what, why, from where and by which token. `without`
    are acts that are not told.
    """

    project_id: int | None = None
    subjects: Sequence[str] | None = None
    before_id: int | None = None
    since: datetime | None = None
    until: datetime | None = None
    person_id: int | None = None
    text: str = ""
    without: Collection[str] = ()


def entries(wanted: JournalQuery, limit: int, earliest_first: bool = False) -> list[JournalRow]:
    """Return entries, latest first, or with `earliest_first` from the beginning of what is wanted on."""
    order = JournalEntry.entry_id if earliest_first else JournalEntry.entry_id.desc()
    rows = (
        JournalEntry.select(JournalEntry, Person.full_name, Project.name.alias("project"))
        .join(Person, JOIN.LEFT_OUTER, on=(Person.person_id == JournalEntry.person_id))
        .join(Project, JOIN.LEFT_OUTER, on=(Project.project_id == JournalEntry.project_id), src=JournalEntry)
        .where(*_conditions(wanted, earliest_first))
        .order_by(order)
        .limit(limit)
    )
    return [
        JournalRow(
            row.entry_id,
            row.at,
            row.full_name,
            row.act,
            row.subject,
            _loaded(row.state_before),
            _loaded(row.state_after),
            row.comment,
            row.origin,
            row.token,
            row.project,
        )
        for row in named_rows(rows)
    ]


def _conditions(wanted: JournalQuery, earliest_first: bool) -> list[Any]:
    there = JournalEntry
    conditions: list[Any] = [there.entry_id > 0]
    if wanted.project_id is not None:
        conditions.append(there.project_id == wanted.project_id)
    if wanted.subjects is not None:
        conditions.append(reduce(operator.or_, (_under(subject) for subject in wanted.subjects)))
    if wanted.before_id is not None:
        by_id = there.entry_id > wanted.before_id if earliest_first else there.entry_id < wanted.before_id
        conditions.append(by_id)
    if wanted.since is not None:
        conditions.append(there.at >= wanted.since)
    if wanted.until is not None:
        conditions.append(there.at < wanted.until)
    if wanted.person_id is not None:
        conditions.append(there.person_id == wanted.person_id)
    if wanted.without:
        conditions.append(there.act.not_in(wanted.without))
    for word in wanted.text.split():
        fields = (there.act, there.subject, there.comment, there.origin, there.token)
        conditions.append(reduce(operator.or_, (field.contains(word) for field in fields)))
    return conditions


def _under(subject: str) -> Any:
    pattern = subject.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_")
    there = JournalEntry.subject
    return (there == subject) | (there ** f"{pattern}@%") | (there ** f"{pattern}/%")


def _loaded(text: str | None) -> Any:
    return None if text is None else json.loads(text)


_AT_ONCE = 2_000
# How far behind the newest an entry can be that was committed late.
_LATE = 10_000


def chain_entries() -> int:
    """Give digests to entries that have none yet, in order; returns how many.

    Entries that were committed late have a lower number and a later position: the chain is in the order of positions.
    Of two processes at once one fails, since both would take the same position.
    """
    last = JournalDigest.select().order_by(JournalDigest.position.desc()).first()
    previous = bytes(last.digest) if last else BEGINNING
    position = last.position if last else 0
    newest = JournalDigest.select(fn.MAX(JournalDigest.entry_id)).scalar() or 0
    waiting = (
        JournalEntry.select()
        .join(JournalDigest, JOIN.LEFT_OUTER, on=(JournalDigest.entry_id == JournalEntry.entry_id))
        .where(JournalEntry.entry_id > newest - _LATE, JournalDigest.entry_id.is_null())
        .order_by(JournalEntry.entry_id)
    )
    rows = []
    for entry in waiting.limit(_AT_ONCE):
        position += 1
        previous = next_digest(previous, _chained(entry))
        rows.append({"position": position, "entry_id": entry.entry_id, "digest": previous})
    if rows:
        JournalDigest.insert_many(rows).execute()
    return len(rows)


def _chained(entry: Any) -> ChainedEntry:
    return ChainedEntry(
        entry.entry_id,
        entry.project_id,
        entry.person_id,
        to_micros(entry.at),
        entry.act,
        entry.subject,
        entry.state_before,
        entry.state_after,
        entry.comment,
        entry.origin,
        entry.token,
    )


def newest_digest() -> tuple[int, bytes]:
    """Return the position and the digest at the end of the chain; (0, zeros) of an empty one."""
    last = JournalDigest.select().order_by(JournalDigest.position.desc()).first()
    return (last.position, bytes(last.digest)) if last else (0, BEGINNING)


def chain_links() -> Iterator[tuple[int, int, bytes, ChainedEntry | None]]:
    """Yield the chain from its beginning: position, entry's number, digest, and the entry, None where it is gone."""
    after = 0
    while True:
        links = list(
            JournalDigest.select()
            .where(JournalDigest.position > after)
            .order_by(JournalDigest.position)
            .limit(_AT_ONCE)
        )
        if not links:
            return
        numbers = [link.entry_id for link in links]
        there = {row.entry_id: row for row in JournalEntry.select().where(JournalEntry.entry_id.in_(numbers))}
        for link in links:
            entry = there.get(link.entry_id)
            yield link.position, link.entry_id, bytes(link.digest), _chained(entry) if entry else None
        after = links[-1].position


def unchained_since(moment: datetime) -> int:
    """Return how many entries from before a moment have no digest: there are none where the chain is kept."""
    chained = JournalDigest.select(JournalDigest.entry_id)
    late = JournalEntry.select().where(JournalEntry.at < moment, JournalEntry.entry_id.not_in(chained))
    return int(late.count())
