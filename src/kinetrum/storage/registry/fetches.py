"""Who fetched which version of a model, asked for how, how often and since when."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from kinetrum.storage.db.clock import now
from kinetrum.storage.db.database import execute, query


@dataclass(frozen=True)
class FetchRow:
    """Fetches of one version by one person who asked for it in one way: a number, a stage, `lead` or a digest."""

    number: int
    person: str
    asked: str
    fetches: int
    first_at: datetime
    last_at: datetime


def count_fetch(model_id: int, number: int, person_id: int, asked: str) -> None:
    """Count one fetch."""
    moment = now()
    execute(
        "INSERT INTO version_fetch (model_id, number, person_id, asked, fetches, first_at, last_at)"
        " VALUES (%s, %s, %s, %s, 1, %s, %s) ON DUPLICATE KEY UPDATE fetches = fetches + 1, last_at = VALUES(last_at)",
        model_id, number, person_id, asked[:100], moment, moment,
    )  # fmt: skip


def fetches_of(model_id: int) -> list[FetchRow]:
    """Return the fetches of a model's versions, the latest first."""
    rows = query(
        "SELECT f.number, p.full_name, f.asked, f.fetches, f.first_at, f.last_at FROM version_fetch f"
        " JOIN person p USING (person_id) WHERE f.model_id = %s ORDER BY f.last_at DESC",
        model_id,
    )
    return [FetchRow(*row) for row in rows]
