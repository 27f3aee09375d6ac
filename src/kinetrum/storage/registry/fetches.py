"""Who fetched which version of a model, asked for how, how often and since when."""

from __future__ import annotations

from dataclasses import dataclass

from kinetrum.storage.db.clock import Moment, now
from kinetrum.storage.db.database import named_rows
from kinetrum.storage.tables.people import Person
from kinetrum.storage.tables.registry import VersionFetch


@dataclass(frozen=True)
class Fetch:
    """Fetches of one version by one person who asked for it in one way: a number, a stage, `lead` or a digest."""

    number: int
    person: str
    asked: str
    fetches: int
    first_at: Moment
    last_at: Moment


def count_fetch(model_id: int, number: int, person_id: int, which: str) -> None:
    """Count one fetch."""
    moment = now()
    first = VersionFetch.insert(
        model_id=model_id,
        number=number,
        person_id=person_id,
        asked=which[:100],
        fetches=1,
        first_at=moment,
        last_at=moment,
    )
    first.on_conflict(update={VersionFetch.fetches: VersionFetch.fetches + 1, VersionFetch.last_at: moment}).execute()


def fetches_of(model_id: int) -> list[Fetch]:
    """Return the fetches of a model's versions, the latest first."""
    rows = (
        VersionFetch.select(VersionFetch, Person.full_name)
        .join(Person, on=(Person.person_id == VersionFetch.person_id))
        .where(VersionFetch.model_id == model_id)
        .order_by(VersionFetch.last_at.desc())
    )
    return [
        Fetch(row.number, row.full_name, row.asked, row.fetches, row.first_at, row.last_at) for row in named_rows(rows)
    ]
