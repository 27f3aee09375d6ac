"""The processes of the service that are at work on this database, and what the database says of itself."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import timedelta

from peewee import Select, Table, fn

from kinetrum.storage.db.clock import Moment, now
from kinetrum.storage.db.database import database
from kinetrum.storage.tables.migrations import Lease

# A process says every few seconds that it is there; without that it counts as gone.
_GONE_AFTER = timedelta(seconds=30)
_PREFIX = "process "


@dataclass(frozen=True)
class ProcessRow:
    """A process of the service: its machine and number, and when it was seen last."""

    name: str
    seen_at: Moment


def note_process(name: str) -> None:
    """Say that a process is there, and forget those that have not said so for a while."""
    at = now()
    Lease.delete().where(Lease.name.startswith(_PREFIX), Lease.expires_at < at).execute()
    Lease.insert(name=f"{_PREFIX}{name}"[:50], holder="", expires_at=at + _GONE_AFTER).on_conflict(
        update={Lease.expires_at: at + _GONE_AFTER}
    ).execute()


def processes() -> list[ProcessRow]:
    """Return the processes that are at work, by name."""
    rows = Lease.select().where(Lease.name.startswith(_PREFIX), Lease.expires_at >= now()).order_by(Lease.name)
    return [ProcessRow(row.name.removeprefix(_PREFIX), row.expires_at - _GONE_AFTER) for row in rows]


def database_state() -> tuple[str, int]:
    """Return the version of the database server, and the bytes that the tables take."""
    tables = Table("tables", schema="information_schema")
    size = tables.select(fn.SUM(tables.c.data_length + tables.c.index_length).alias("size"))
    (version,) = database.execute(Select(columns=[fn.VERSION()])).fetchone()
    (taken,) = database.execute(size.where(tables.c.table_schema == fn.DATABASE())).fetchone()
    return str(version), int(taken or 0)
