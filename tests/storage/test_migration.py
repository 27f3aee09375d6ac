"""A database that an earlier version made is brought to this one, with everything that was in it."""

from __future__ import annotations

import getpass
import secrets
from collections.abc import Iterator

import pymysql
import pytest

from kinetrum.core.base.run_document import RunDoc, pack
from kinetrum.instance.mariadb import OWNER
from kinetrum.storage.db import migrate
from kinetrum.storage.db.database import DatabaseAddress, connect, database, execute, query
from kinetrum.storage.runs import run_documents, runs
from tests.storage.conftest import database_port
from tests.support.world import Instance

NAME = "kinetrum_earlier"


@pytest.fixture
def earlier(instance: Instance, _connected: None) -> Iterator[None]:
    """A database in the state of the first migration, bound to this process for the test."""
    service = database.obj
    socket = instance.home.database / "server.sock"
    port, password = database_port(instance), instance.home.secret("database_owner")
    with pymysql.connect(unix_socket=str(socket), user=getpass.getuser()) as link, link.cursor() as cursor:
        cursor.execute(f"CREATE DATABASE {NAME}")
        cursor.execute(f"GRANT ALL ON {NAME}.* TO {OWNER}@'127.0.0.1'")
    connect(DatabaseAddress("127.0.0.1", port, OWNER, password, NAME), connections=2)
    try:
        yield
    finally:
        database.obj.close_all()
        database.initialize(service)
        with pymysql.connect(unix_socket=str(socket), user=getpass.getuser()) as link, link.cursor() as cursor:
            cursor.execute(f"DROP DATABASE {NAME}")


def only_first(monkeypatch: pytest.MonkeyPatch) -> None:
    everything = migrate.statements()
    with monkeypatch.context() as patch:
        patch.setattr(migrate, "statements", lambda: [row for row in everything if row[0] == 1])
        migrate.migrate()


def fill() -> None:
    execute("INSERT INTO person VALUES (1, 'ilse', 'Ilse Varga', 'x', 0, UTC_TIMESTAMP(6))")
    execute("INSERT INTO project VALUES (1, 'orchard', '', 1, UTC_TIMESTAMP(6))")
    execute("INSERT INTO experiment VALUES (1, 1, 'frost-alarm', '', 1, 1, UTC_TIMESTAMP(6))")
    execute(
        "INSERT INTO run (run_id, uid, experiment_id, number, status, author_id, host, started_at, last_sign_at, lease_s,"
        " changed_at) VALUES (1, %s, 1, 1, 'finished', 1, 'vm', UTC_TIMESTAMP(6), UTC_TIMESTAMP(6), 120, UTC_TIMESTAMP(6))",
        secrets.token_bytes(16),
    )
    execute("INSERT INTO run_doc VALUES (1, %s)", pack(RunDoc(params={"depth": 6})))


def test_from_the_first_version(earlier: None, monkeypatch: pytest.MonkeyPatch) -> None:
    with database.obj.connection_context():
        only_first(monkeypatch)
        fill()
        before = query("SELECT run_id, uid, number, status, started_at FROM run")
    assert migrate.migrate() == len([row for row in migrate.statements() if row[0] > 1])
    assert migrate.migrate() == 0
    with database.obj.connection_context():
        assert query("SELECT run_id, uid, number, status, started_at FROM run") == before
        found = runs.run_by_id(1)
        assert (found.resumed_at, found.binned_at, found.binned_by) == (None, None, None)
        assert run_documents.load_doc(1).params == {"depth": 6}
        assert list(query("SELECT COUNT(*) FROM note")) == [(0,)]


def test_cut_off_in_the_middle_it_goes_on_where_it_stopped(earlier: None, monkeypatch: pytest.MonkeyPatch) -> None:
    with database.obj.connection_context():
        only_first(monkeypatch)
        fill()
    everything = migrate.statements()
    later = [row for row in everything if row[0] > 1]
    with monkeypatch.context() as patch:
        patch.setattr(migrate, "statements", lambda: [row for row in everything if row not in later[1:]])
        assert migrate.migrate() == 1
    assert migrate.migrate() == len(later) - 1
    with database.obj.connection_context():
        assert runs.run_by_id(1).number == 1
