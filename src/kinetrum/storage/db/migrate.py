"""Bring a database to this version: numbered SQL files, each statement once, under a lease.

A statement of MariaDB that defines tables commits by itself, so the progress is kept statement
by statement: a migration that was cut off goes on where it stopped.
"""

from __future__ import annotations

import hashlib
import secrets
import time
from collections.abc import Callable, Iterator
from importlib import resources

from peewee import SQL, fn

from kinetrum.core.base.errors import Conflict, Unavailable
from kinetrum.storage.db.database import connection, database, execute
from kinetrum.storage.runs.reindexing import describe_every_run
from kinetrum.storage.tables.migrations import Lease, MigrationStep

_LEASE_S = 60
_SERVICE_MAY = "SELECT, INSERT, UPDATE, DELETE"
_APPEND_ONLY = {"journal": "SELECT, INSERT", "journal_digest": "SELECT, INSERT", "migration_step": "SELECT"}

# Rows that only code can make, by the (migration, statement) under which they are noted; each yields after a part.
FILLS: dict[tuple[int, int], Callable[[], Iterator[int]]] = {
    (6, 1_000): describe_every_run,
    (10, 1_000): describe_every_run,
}


def statements() -> list[tuple[int, int, str]]:
    """Return (migration, statement, SQL) of everything this version knows, in order."""
    parts_found = []
    folder = resources.files("kinetrum.storage.db.migrations")
    for file in sorted(folder.iterdir(), key=lambda file: file.name):
        if file.name.endswith(".sql"):
            parts = file.read_text(encoding="utf-8").split(";\n")
            parts_found += [(int(file.name[:4]), at, sql.strip()) for at, sql in enumerate(parts, 1) if sql.strip()]
    return parts_found


def check_released() -> None:
    """Raise Conflict where a released migration is not what was released: databases made by the other would differ."""
    folder = resources.files("kinetrum.storage.db.migrations")
    for line in folder.joinpath("released.sha256").read_text(encoding="utf-8").splitlines():
        digest, name = line.split()
        file = folder.joinpath(name)
        if not file.is_file() or hashlib.sha256(file.read_bytes()).hexdigest() != digest:
            raise Conflict(
                f"The migration {name} is not the one that was released. Install this version of Kinetrum anew; a "
                "change of the tables is a migration of its own."
            )


def migrate() -> int:
    """Apply what is missing and return how many statements that were.

    Raises Conflict where the database was made by a later version or a released migration was changed, Unavailable
    where another process holds the lease for over a minute.
    """
    check_released()
    with connection():
        execute(
            "CREATE TABLE IF NOT EXISTS migration_step (migration INT UNSIGNED NOT NULL, statement INT UNSIGNED"
            " NOT NULL, applied_at DATETIME(6) NOT NULL, PRIMARY KEY (migration, statement)) ENGINE=InnoDB"
        )
        execute(
            "CREATE TABLE IF NOT EXISTS lease (name VARCHAR(50) NOT NULL PRIMARY KEY, holder VARCHAR(50) NOT NULL,"
            " expires_at DATETIME(6) NOT NULL) ENGINE=InnoDB"
        )
        holder = secrets.token_hex(8)
        _wait_for_lease(holder)
        try:
            return _apply_missing(holder) + _fill_missing(holder)
        finally:
            Lease.delete().where(Lease.name == "migration", Lease.holder == holder).execute()


def _wait_for_lease(holder: str) -> None:
    give_up = time.monotonic() + _LEASE_S + 5
    while time.monotonic() < give_up:
        Lease.delete().where(Lease.name == "migration", Lease.expires_at < fn.UTC_TIMESTAMP(6)).execute()
        lease = Lease.insert(name="migration", holder=holder, expires_at=_in_a_minute())
        if lease.on_conflict_ignore().as_rowcount().execute():
            return
        time.sleep(0.2)
    raise Unavailable("Another process has been migrating this database for over a minute; try again.")


def _in_a_minute() -> SQL:
    return SQL("UTC_TIMESTAMP(6) + INTERVAL %s SECOND", [_LEASE_S])


def _renew_lease(holder: str) -> None:
    Lease.update(expires_at=_in_a_minute()).where(Lease.holder == holder).execute()


def _steps_done() -> set[tuple[int, int]]:
    return {(step.migration, step.statement) for step in MigrationStep.select()}


def _note_step(migration: int, statement: int) -> None:
    MigrationStep.insert(migration=migration, statement=statement, applied_at=fn.UTC_TIMESTAMP(6)).execute()


def _apply_missing(holder: str) -> int:
    done = _steps_done()
    known = statements()
    later = done - {(migration, statement) for migration, statement, _ in known} - set(FILLS)
    if later:
        raise Conflict(
            f"This database was made by a later version of Kinetrum (migration {max(later)[0]}); install that version."
        )
    missing = [row for row in known if row[:2] not in done]
    for migration, statement, sql in missing:
        _renew_lease(holder)
        execute(sql)
        _note_step(migration, statement)
    return len(missing)


def _fill_missing(holder: str) -> int:
    """Fill what a migration added from what is there; each part may be done twice without harm."""
    done = _steps_done()
    missing = [(step, fill) for step, fill in FILLS.items() if step not in done]
    for step, fill in missing:
        for _ in fill():
            _renew_lease(holder)
        _note_step(*step)
    return len(missing)


def grant(database_name: str, user: str) -> None:
    """Give the service's own account its rights: rows everywhere, but nothing more than to append to the journal."""
    with connection():
        for table in database.get_tables():
            rights = _APPEND_ONLY.get(table, _SERVICE_MAY)
            execute(f"GRANT {rights} ON `{database_name}`.`{table}` TO %s@'127.0.0.1'", user)
