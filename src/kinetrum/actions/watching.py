"""Watching: what changed since a moment."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from kinetrum.storage import runs
from kinetrum.storage.clock import iso, now
from kinetrum.storage.database import query, snapshot


@dataclass(frozen=True)
class Change:
    """A run that changed, or an entry of the journal. `subject` is a reference, `at` ISO 8601."""

    kind: str
    project: str
    subject: str
    at: str
    experiment: str | None = None
    status: str | None = None
    act: str | None = None


@snapshot
def changes_since(moment: datetime) -> list[Change]:
    """Return changes written after `moment`, the earlier first."""
    found = [
        Change("run", project, f"{experiment}/{number}", iso(at) or "", experiment, status)
        for project, experiment, number, _, status, at in runs.changed_since(moment)
    ]
    rows = query(
        "SELECT p.name, j.subject, j.at, j.act FROM journal j JOIN project p USING (project_id) WHERE j.at > %s"
        " ORDER BY j.at LIMIT 2000",
        moment,
    )
    found += [Change("journal", project, subject, iso(at) or "", act=act) for project, subject, at, act in rows]
    return sorted(found, key=lambda change: change.at)


def present() -> datetime:
    """Return the moment up to which the next look need not go back."""
    return now()
