"""Storage tests speak to the instance's own database as the service's account does; each is rolled back."""

from __future__ import annotations

import secrets
from collections.abc import Iterator
from dataclasses import dataclass

import pytest

from kinetrum.core.base.goals import Goal
from kinetrum.instance.mariadb import DATABASE, SERVICE
from kinetrum.storage.db.clock import now
from kinetrum.storage.db.database import DatabaseAddress, connect, connection, database, disconnect
from kinetrum.storage.people import projects
from kinetrum.storage.runs import run_documents, runs
from kinetrum.storage.runs.runs import Run
from tests.support.world import Instance


def database_port(instance: Instance) -> int:
    for line in (instance.home.folder / "mariadb.cnf").read_text().splitlines():
        if line.startswith("port="):
            return int(line[5:])
    raise AssertionError("no port")


@pytest.fixture(scope="session")
def _connected(instance: Instance) -> Iterator[None]:
    password = instance.home.secret("database_service")
    connect(DatabaseAddress("127.0.0.1", database_port(instance), SERVICE, password, DATABASE), connections=8)
    yield
    disconnect()


@pytest.fixture
def db(_connected: None) -> Iterator[None]:
    with connection(), database.atomic() as transaction:
        yield
        transaction.rollback()


@dataclass(frozen=True)
class Place:
    project_id: int
    experiment_id: int
    person_id: int

    def run(self, **params: object) -> Run:
        number = projects.next_run_number(self.experiment_id)
        run_id = runs.add_run(
            secrets.token_bytes(16),
            self.experiment_id,
            runs.NewRunRow(number, None, self.person_id, "host", None, now(), 60),
        )
        run = runs.run_by_id(run_id)
        doc = run_documents.lock_doc(run_id)
        doc.params.update(params)  # type: ignore[arg-type]
        run_documents.save_doc(run, doc, {}, params=params)
        return run

    def goal(self, goal: Goal) -> None:
        projects.add_goal(self.experiment_id, goal, 0)


@pytest.fixture
def place(db: None) -> Place:
    from kinetrum.storage.people.people import people

    person_id = people()[0].person_id
    project_id = projects.add_project(f"s-{secrets.token_hex(5)}", "", person_id)
    projects.add_experiment(project_id, "frost-alarm", person_id)
    experiment = projects.experiment_named(project_id, "frost-alarm")
    assert experiment is not None
    return Place(project_id, experiment.experiment_id, person_id)
