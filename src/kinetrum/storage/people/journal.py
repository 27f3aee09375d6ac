"""The append-only record of changes. This process's account may add entries and read them, nothing else."""

from __future__ import annotations

import json
import operator
from collections.abc import Collection, Sequence
from dataclasses import dataclass
from functools import reduce
from typing import Any

from peewee import JOIN

from kinetrum.storage.db.clock import Moment, now
from kinetrum.storage.db.database import named_rows
from kinetrum.storage.live import events
from kinetrum.storage.tables.people import JournalEntry, Person


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
    origin: str = "",
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
        origin=origin[:200],
    ).execute()
    events.tell_act(project_id, subject, act)


def entries(
    project_id: int,
    subjects: Sequence[str] | None,
    before_id: int | None,
    limit: int,
    without: Collection[str] = (),
) -> list[JournalRow]:
    """Return entries, latest first, without those of some acts.

    `subjects` select things and everything under them (`NAME@…`, `NAME/…`).
    """
    where = JournalEntry.project_id == project_id
    if subjects is not None:
        where &= reduce(operator.or_, (_under(subject) for subject in subjects))
    if before_id is not None:
        where &= JournalEntry.entry_id < before_id
    if without:
        where &= JournalEntry.act.not_in(without)
    rows = (
        JournalEntry.select(JournalEntry, Person.full_name)
        .join(Person, JOIN.LEFT_OUTER, on=(Person.person_id == JournalEntry.person_id))
        .where(where)
        .order_by(JournalEntry.entry_id.desc())
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
        )
        for row in named_rows(rows)
    ]


def _under(subject: str) -> Any:
    pattern = subject.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_")
    there = JournalEntry.subject
    return (there == subject) | (there ** f"{pattern}@%") | (there ** f"{pattern}/%")


def _loaded(text: str | None) -> Any:
    return None if text is None else json.loads(text)
