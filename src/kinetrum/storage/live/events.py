"""What changed, for whoever follows: events written with the change, put in order after it was committed.

Guarantee: an event's stamp is given only to what is committed, under a lock held until the stamps themselves are
committed; so whoever has seen stamp n has seen, or can read, everything that ever gets a stamp up to n.
Of several changes of one run that nobody was told of yet, the last one is told.
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta

from kinetrum.storage.db.clock import now
from kinetrum.storage.db.database import execute, places, query

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


def tell_run(run_id: int, kind: str = "run") -> None:
    """Tell, within the running transaction, that something about a run changed: run, output or resources."""
    execute(
        "INSERT INTO event (project_id, kind, subject, experiment, word, at) SELECT e.project_id, %s,"
        " CONCAT(e.name, '/', r.number), e.name, r.status, %s FROM run r JOIN experiment e USING (experiment_id)"
        " WHERE r.run_id = %s",
        kind,
        now(),
        run_id,
    )


def tell_act(project_id: int | None, subject: str, act: str) -> None:
    """Tell of an entry of the journal."""
    execute(
        "INSERT INTO event (project_id, kind, subject, word, at) VALUES (%s, 'journal', %s, %s, %s)",
        project_id,
        subject,
        act,
        now(),
    )


def stamp() -> int:
    """Put what is committed and has no stamp in order; returns how many events that were.

    Whoever finds another process at it leaves it to that.
    """
    if not query("SELECT event_id FROM event WHERE stamp IS NULL LIMIT 1"):
        return 0
    locked = query("SELECT last_stamp FROM event_order WHERE name = 'all' FOR UPDATE SKIP LOCKED")
    if not locked:
        return 0
    last = int(locked[0][0])
    rows = query(
        "SELECT event_id, project_id, kind, subject FROM event WHERE stamp IS NULL ORDER BY event_id LIMIT %s",
        _STAMPED_AT_ONCE,
    )
    newest = {(row[1:] if row[2] != "journal" else row[:1]): row[0] for row in rows}
    kept = set(newest.values())
    repeated = [row[0] for row in rows if row[0] not in kept]
    if repeated:
        execute(f"DELETE FROM event WHERE event_id IN {places(repeated)}", *repeated)
    for number, event_id in enumerate(sorted(kept), last + 1):
        execute("UPDATE event SET stamp = %s WHERE event_id = %s", number, event_id)
    execute("UPDATE event_order SET last_stamp = %s WHERE name = 'all'", last + len(kept))
    return len(kept)


def last_stamp() -> int:
    """Return the stamp given last."""
    ((found,),) = query("SELECT last_stamp FROM event_order WHERE name = 'all'")
    return int(found)


def first_stamp() -> int:
    """Return the lowest stamp that can still be read; one more than the last where there is none."""
    ((found,),) = query("SELECT MIN(stamp) FROM event")
    return int(found) if found is not None else last_stamp() + 1


def events_after(after: int, limit: int) -> list[Event]:
    """Return events with a stamp over `after`, in order."""
    rows = query(
        "SELECT v.stamp, v.project_id, p.name, v.kind, v.subject, v.experiment, v.word, v.at FROM event v"
        " LEFT JOIN project p USING (project_id) WHERE v.stamp > %s ORDER BY v.stamp LIMIT %s",
        after,
        limit,
    )
    return [Event(*row) for row in rows]


def forget_events(older_than: timedelta, limit: int = 5_000) -> int:
    """Delete events older than that; the journal keeps what must be kept."""
    return execute("DELETE FROM event WHERE at < %s ORDER BY at LIMIT %s", now() - older_than, limit)
