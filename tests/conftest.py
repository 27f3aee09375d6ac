"""Fixtures for all tests; what tests of the core do not need is imported where a fixture is asked for."""

from __future__ import annotations

import os
import secrets
import signal
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING

import pytest
from hypothesis import settings

if TYPE_CHECKING:
    import httpx

    from tests.support.world import Instance, Project

# How long an example takes is for the machine to say, which other tests load.
# `make test` tries the same examples each time, so that it says the same of the same code; `make soak` looks for new ones.
settings.register_profile("repeatable", deadline=None, derandomize=True)
settings.register_profile("searching", deadline=None)
settings.load_profile("repeatable")


@pytest.fixture(autouse=True)
def _signals_as_before() -> Iterator[None]:
    """A signal that a test leaves blocked is blocked in every process that later tests start."""
    before = signal.pthread_sigmask(signal.SIG_BLOCK, [])
    yield
    assert signal.pthread_sigmask(signal.SIG_SETMASK, before) == before


@pytest.fixture(scope="session", autouse=True)
def _no_one_elses_settings(tmp_path_factory: pytest.TempPathFactory) -> Iterator[None]:
    """Nothing of the developer's own instance, connections or spool can be touched."""
    folder = tmp_path_factory.mktemp("own")
    before = dict(os.environ)
    for key in list(os.environ):
        if key.startswith("KINETRUM_"):
            del os.environ[key]
    os.environ.update(
        KINETRUM_HOME=str(folder / "home"),
        KINETRUM_CONNECTIONS=str(folder / "connections.json"),
        KINETRUM_SPOOL=str(folder / "spool"),
        COLUMNS="160",
        # Tests of what is caught by itself ask for it.
        KINETRUM_LEAVE_OUT="packages,code,job,resources,output",
    )
    yield
    os.environ.clear()
    os.environ.update(before)


@pytest.fixture(scope="session")
def instance(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Instance]:
    from kinetrum.instance import control
    from kinetrum.instance.settings import Home
    from tests.support.world import Instance, close_services

    home = Home(tmp_path_factory.mktemp("instance"))
    found = control.up(home, 0)
    yield Instance(home, found["url"], home.token.read_text().strip())
    close_services()
    control.down(home)


@pytest.fixture(scope="session")
def people(instance: Instance) -> dict[str, str]:
    """Tokens of five people: one for each role, and a stranger."""
    from tests.support.world import ALL_SCOPES, PASSWORD, ROLES

    admin, tokens = instance.service(), {"admin": instance.token}
    for name in (*ROLES, "stranger"):
        body = {"name": f"a-{name}", "full_name": f"A {name.capitalize()}", "password": PASSWORD}
        admin.call("POST", "/people", json=body)
        made = admin.call("POST", "/tokens", json={"name": "test", "person": f"a-{name}", "scopes": ALL_SCOPES})
        tokens[name] = made["secret"]
    return tokens


@pytest.fixture
def project(instance: Instance, people: dict[str, str]) -> Project:
    from tests.support.world import ROLES, Project

    name = f"p-{secrets.token_hex(5)}"
    admin = instance.service()
    admin.call("POST", "/projects", json={"name": name})
    for role in ROLES:
        admin.call("PUT", f"/projects/{name}/members/a-{role}", json={"role": role})
    return Project(instance, name, people)


@pytest.fixture
def raw(instance: Instance) -> Iterator[httpx.Client]:
    """A plain HTTP client with the administrator's token, to see statuses and headers."""
    import httpx

    headers = {"Authorization": f"Bearer {instance.token}"}
    with httpx.Client(base_url=f"{instance.url}/api/v1", headers=headers, timeout=30) as client:
        yield client


@pytest.fixture
def recording(project: Project, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Project]:
    """This process records into the fresh project, through a spool of its own."""
    from kinetrum.client.spool import spool
    from tests.support.programs import stop_sender

    for key, value in {
        "KINETRUM_URL": project.instance.url,
        "KINETRUM_TOKEN": project.tokens["contributor"],
        "KINETRUM_PROJECT": project.name,
        "KINETRUM_SPOOL": str(tmp_path / "spool"),
    }.items():
        monkeypatch.setenv(key, value)
    monkeypatch.setattr(spool, "_writer", None)
    yield project
    stop_sender(tmp_path / "spool")


@pytest.fixture
def catching(monkeypatch: pytest.MonkeyPatch) -> None:
    """What surrounds a run is caught, as it is for everybody who does not ask otherwise."""
    monkeypatch.delenv("KINETRUM_LEAVE_OUT")
