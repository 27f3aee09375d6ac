"""The append-only record of changes. This process's account may add entries and read them, nothing else."""

from __future__ import annotations

import json
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from kinetrum.storage import events
from kinetrum.storage.clock import now
from kinetrum.storage.database import query
from kinetrum.storage.tables import JournalEntry


@dataclass(frozen=True)
class Entry:
    """One change: who did what to which subject, before and after, when and from where."""

    entry_id: int
    at: datetime
    person: str | None
    act: str
    subject: str
    before: Any
    after: Any
    comment: str
    origin: str


def append(
    project_id: int | None, person_id: int | None, act: str, subject: str,
    before: Any = None, after: Any = None, comment: str = "", origin: str = "",
) -> None:  # fmt: skip
    """Add one entry inside the running transaction."""
    JournalEntry.insert(
        project_id=project_id, person_id=person_id, at=now(), act=act, subject=subject,
        state_before=None if before is None else json.dumps(before),
        state_after=None if after is None else json.dumps(after),
        comment=comment, origin=origin[:200],
    ).execute()  # fmt: skip
    events.tell_act(project_id, subject, act)


def entries(project_id: int, subject: str | None, before_id: int | None, limit: int) -> list[Entry]:
    """Return entries, latest first; `subject` selects a thing and everything under it (`NAME@…`, `NAME/…`)."""
    where, values = ["j.project_id = %s"], [project_id]
    if subject is not None:
        pattern = subject.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_")
        where.append("(j.subject = %s OR j.subject LIKE %s OR j.subject LIKE %s)")
        values += [subject, pattern + "@%", pattern + "/%"]  # type: ignore[list-item]
    if before_id is not None:
        where.append("j.entry_id < %s")
        values.append(before_id)
    rows = query(
        "SELECT j.entry_id, j.at, p.full_name, j.act, j.subject, j.state_before, j.state_after, j.comment, j.origin"
        f" FROM journal j LEFT JOIN person p USING (person_id) WHERE {' AND '.join(where)}"
        " ORDER BY j.entry_id DESC LIMIT %s",
        *values,
        limit,
    )
    return [
        Entry(row[0], row[1], row[2], row[3], row[4], _loaded(row[5]), _loaded(row[6]), row[7], row[8]) for row in rows
    ]


def _loaded(text: str | None) -> Any:
    return None if text is None else json.loads(text)
