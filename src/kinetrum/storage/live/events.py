"""What changed, for whoever follows: events written with the change, put in order after it was committed.

Guarantee: an event's stamp is given only to what is committed, under a lock held until the stamps themselves are
committed; so whoever has seen stamp n has seen, or can read, everything that ever gets a stamp up to n.
Of several changes of one run that nobody was told of yet, the last one is told.
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta

from peewee import JOIN, fn

from kinetrum.storage.db.clock import now
from kinetrum.storage.db.database import Prepared, lock_rows, named_rows, records
from kinetrum.storage.tables.live import EventOrder, EventRow
from kinetrum.storage.tables.people import Experiment, Project
from kinetrum.storage.tables.runs import RunRow

_STAMPED_AT_ONCE = 2_000


@dataclass(frozen=True)
class Event:
    """A change that was told: `word` is a run's status or the journal's act."""

    stamp: int
    project_id: int | None
    project: str | None
    kind: str
    subject: str
    experiment: str | None
    word: str | None
    at: datetime


_TOLD = (
    EventRow.project_id,
    EventRow.kind,
    EventRow.subject,
    EventRow.experiment,
    EventRow.word,
    EventRow.at,
)
_TELL_RUN = Prepared(
    lambda kind, at, run_id: EventRow.insert_from(
        RunRow.select(
            Experiment.project_id,
            kind,
            fn.CONCAT(Experiment.name, "/", RunRow.number),
            Experiment.name,
            RunRow.status,
            at,
        )
        .join(Experiment, on=Experiment.experiment_id == RunRow.experiment_id)
        .where(RunRow.run_id == run_id),
        _TOLD,
    )
)


def tell_run(run_id: int, kind: str = "run") -> None:
    """Tell, within the running transaction, that something about a run changed: run, output or resources."""
    _TELL_RUN.execute(kind, now(), run_id)


def tell_act(project_id: int | None, subject: str, act: str) -> None:
    """Tell of an entry of the journal."""
    EventRow.insert(project_id=project_id, kind="journal", subject=subject, word=act, at=now()).execute()


def stamp() -> int:
    """Put what is committed and has no stamp in order; returns how many events that were.

    Whoever finds another process at it leaves it to that.
    """
    waiting = EventRow.select(EventRow.event_id, EventRow.project_id, EventRow.kind, EventRow.subject).where(
        EventRow.stamp.is_null()
    )
    if not waiting.exists():
        return 0
    locked = lock_rows(EventOrder.select().where(EventOrder.name == "all"), "FOR UPDATE SKIP LOCKED")
    if not locked:
        return 0
    last = locked[0].last_stamp
    rows = named_rows(waiting.order_by(EventRow.event_id).limit(_STAMPED_AT_ONCE))
    # Each entry of the journal is told; of a run what changed last.
    newest = {
        row.event_id if row.kind == "journal" else (row.project_id, row.kind, row.subject): row.event_id for row in rows
    }
    newest_numbers = set(newest.values())
    repeated = [row.event_id for row in rows if row.event_id not in newest_numbers]
    if repeated:
        EventRow.delete().where(EventRow.event_id.in_(repeated)).execute()
    for number, event_id in enumerate(sorted(newest_numbers), last + 1):
        EventRow.update(stamp=number).where(EventRow.event_id == event_id).execute()
    EventOrder.update(last_stamp=last + len(newest_numbers)).where(EventOrder.name == "all").execute()
    return len(newest_numbers)


def last_stamp() -> int:
    """Return the stamp given last."""
    return int(EventOrder.get_by_id("all").last_stamp)


def first_stamp() -> int:
    """Return the lowest stamp that can still be read; one more than the last where there is none."""
    first = EventRow.select(fn.MIN(EventRow.stamp)).scalar()
    return int(first) if first is not None else last_stamp() + 1


def events_after(after: int, limit: int) -> list[Event]:
    """Return events with a stamp over `after`, in order."""
    rows = (
        EventRow.select(
            EventRow.stamp,
            EventRow.project_id,
            Project.name.alias("project"),
            EventRow.kind,
            EventRow.subject,
            EventRow.experiment,
            EventRow.word,
            EventRow.at,
        )
        .join(Project, JOIN.LEFT_OUTER, on=Project.project_id == EventRow.project_id)
        .where(EventRow.stamp > after)
        .order_by(EventRow.stamp)
        .limit(limit)
    )
    return records(rows, Event)


def forget_events(older_than: timedelta, limit: int = 5_000) -> int:
    """Delete events older than that; the journal keeps what must be kept."""
    old = EventRow.delete().where(EventRow.at < now() - older_than).order_by(EventRow.at).limit(limit)
    return int(old.execute())
