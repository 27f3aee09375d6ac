"""One private instance for the whole test session: a real MariaDB on loopback and the real service over HTTP."""

from __future__ import annotations

import contextlib
import json
import os
import secrets
import signal
import subprocess
import sys
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import httpx
import psutil
import pytest
from hypothesis import settings

from kinetrum.client.sender import launch
from kinetrum.client.spool import spool
from kinetrum.client.transport import session
from kinetrum.client.transport.http import Service
from kinetrum.core.base.ids import uuid7
from kinetrum.instance import control
from kinetrum.instance.mariadb import DATABASE, SERVICE
from kinetrum.instance.settings import Home

PASSWORD = "a long enough password"
# How long an example takes is for the machine to say, which other tests load.
# `make test` tries the same examples each time, so that it says the same of the same code; `make soak` looks for new ones.
settings.register_profile("repeatable", deadline=None, derandomize=True)
settings.register_profile("searching", deadline=None)
settings.load_profile("repeatable")


_SERVICES: dict[str, Service] = {}


@dataclass(frozen=True)
class Instance:
    home: Home
    url: str
    token: str

    def service(self, token: str | None = None) -> Service:
        """One client per token for the whole session, so that no connection stays open unnoticed."""
        key = token or self.token
        if key not in _SERVICES:
            _SERVICES[key] = Service(self.url, key)
        return _SERVICES[key]

    @property
    def first_account(self) -> tuple[str, str]:
        words = self.home.first_password.read_text().split()
        return words[1], words[3]


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
    home = Home(tmp_path_factory.mktemp("instance"))
    found = control.up(home, 0)
    yield Instance(home, found["url"], home.token.read_text().strip())
    for service in _SERVICES.values():
        service.close()
    session.close_all()
    control.down(home)


def another_service(instance: Instance) -> Iterator[str]:
    """One more process of the service on the instance's database and store; yields its address."""
    with service_process(instance) as (url, _):
        yield url


@contextlib.contextmanager
def service_process(instance: Instance) -> Iterator[tuple[str, subprocess.Popen[str]]]:
    """One more process of the service on the instance's database and store: its address, and itself."""
    lines = (instance.home.folder / "mariadb.cnf").read_text().splitlines()
    port = next(line[5:] for line in lines if line.startswith("port="))
    account = f"{SERVICE}:{instance.home.secret('database_service')}"
    environment = os.environ | {
        "KINETRUM_DATABASE": f"mariadb://{account}@127.0.0.1:{port}/{DATABASE}",
        "KINETRUM_STORE": str(instance.home.store),
        "KINETRUM_PORT": "0",
    }
    process = subprocess.Popen(
        [sys.executable, "-m", "kinetrum.service.main"],
        env=environment,
        stdout=subprocess.PIPE,
        stderr=subprocess.DEVNULL,
        text=True,
    )
    try:
        assert process.stdout is not None
        yield json.loads(process.stdout.readline())["url"], process
    finally:
        process.terminate()
        process.communicate(timeout=20)


@dataclass(frozen=True)
class Project:
    """A fresh project with a person in each role, so that tests never meet."""

    instance: Instance
    name: str
    tokens: dict[str, str]

    def service(self, role: str = "admin") -> Service:
        return self.instance.service(self.tokens[role])

    def path(self, *parts: str) -> str:
        return "/".join(["/projects", self.name, *parts])

    def begin(self, experiment: str = "frost-alarm", role: str = "contributor", **fields: Any) -> dict[str, Any]:
        uid = new_id()
        body = {"started_at": 1_790_000_000_000_000, **fields}
        service = self.service(role)
        begun: dict[str, Any] = service.call("PUT", self.path("experiments", experiment, "runs", uid), json=body)
        return begun

    def run_path(self, begun: dict[str, Any], *more: str) -> str:
        experiment, number = begun["reference"].split("/")
        return self.path("experiments", experiment, "runs", number, *more)

    def upload(self, content: bytes, role: str = "contributor") -> dict[str, Any]:
        import hashlib

        sha256 = hashlib.sha256(content).hexdigest()
        self.service(role).call("PUT", self.path("blobs", sha256), content=content)
        return {"path": "net.onnx", "size": len(content), "sha256": sha256}

    def generate(self, begun: dict[str, Any], content: bytes, name: str = "frost-net") -> dict[str, Any]:
        body = {"id": new_id(), "at": 1, "name": name, "kind": "model", "files": [self.upload(content)]}
        service = self.service("contributor")
        version: dict[str, Any] = service.call("POST", self.run_path(begun, "generated"), json=body)
        return version

    def registered(self, count: int = 1, model: str = "frost-alarm") -> None:
        """Register versions 1 to `count`, each from a run of its own."""
        for number in range(count):
            begun = self.begin()
            self.generate(begun, f"content {number} {secrets.token_hex(4)}".encode())
            body = {"id": new_id(), "artifact": "frost-net", "run": begun["reference"], "comment": ""}
            self.service("contributor").call("POST", self.path("models", model, "versions"), json=body)

    def verdict(self, number: int, verdict: str | None, role: str = "approver", model: str = "frost-alarm") -> str:
        path = self.path("models", model, "versions", str(number), "verdict")
        answer = self.service(role).call("PUT", path, json={"verdict": verdict, "comment": "so be it"})
        review: str = answer["review"]
        return review

    def place(self, act: str, stage: str, role: str = "approver", **fields: Any) -> dict[str, Any]:
        path = self.path("models", "frost-alarm", "stages", stage, act)
        body = {"id": new_id(), "comment": "", **fields}
        model: dict[str, Any] = self.service(role).call("POST", path, json=body)
        return model


ROLES = ("viewer", "contributor", "approver", "maintainer")


@pytest.fixture(scope="session")
def people(instance: Instance) -> dict[str, str]:
    """Tokens of five people: one for each role, and a stranger."""
    admin, tokens = instance.service(), {"admin": instance.token}
    for name in (*ROLES, "stranger"):
        body = {"name": f"a-{name}", "full_name": f"A {name.capitalize()}", "password": PASSWORD}
        admin.call("POST", "/people", json=body)
        made = admin.call("POST", "/tokens", json={"name": "test", "person": f"a-{name}"})
        tokens[name] = made["secret"]
    return tokens


@pytest.fixture
def project(instance: Instance, people: dict[str, str]) -> Project:
    name = f"p-{secrets.token_hex(5)}"
    admin = instance.service()
    admin.call("POST", "/projects", json={"name": name})
    for role in ROLES:
        admin.call("PUT", f"/projects/{name}/members/a-{role}", json={"role": role})
    return Project(instance, name, people)


def new_id() -> str:
    import time

    return uuid7(time.time_ns() // 1_000_000, secrets.token_bytes(10))


@pytest.fixture
def raw(instance: Instance) -> Iterator[httpx.Client]:
    """A plain HTTP client with the administrator's token, to see statuses and headers."""
    headers = {"Authorization": f"Bearer {instance.token}"}
    with httpx.Client(base_url=f"{instance.url}/api/v1", headers=headers, timeout=30) as client:
        yield client


@pytest.fixture
def recording(project: Project, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Project]:
    """This process records into the fresh project, through a spool of its own."""
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


def stop_sender(root: Path) -> None:
    """End the sender of a spool and wait until it has left."""
    import signal
    import time

    while found := senders_of(root):
        for number in found:
            with contextlib.suppress(ProcessLookupError):
                os.kill(number, signal.SIGTERM)
        time.sleep(0.02)
    launch._started.pop(root, None)


def senders_of(root: Path) -> list[int]:
    """Return the processes that deliver a spool, also one that is only about to."""
    found = []
    for folder in Path("/proc").glob("[0-9]*"):
        try:
            command = (folder / "cmdline").read_bytes().split(b"\0")
        except OSError:
            continue
        if b"kinetrum.client.sender.main" in command and str(root).encode() in command:
            found.append(int(folder.name))
    return found


def run_script(text: str, *arguments: str, **environment: str) -> subprocess.CompletedProcess[str]:
    """Run a Python script as a process of its own, as a person would."""
    return run_program([sys.executable, "-c", text, *arguments], os.environ | environment)


def run_program(
    words: list[str], environment: Mapping[str, str], folder: Path | None = None, timeout: float = 50
) -> subprocess.CompletedProcess[str]:
    """Run a program; where it does not end in time, fail with the stacks of all that it started."""
    process = subprocess.Popen(
        words,
        env={**environment, "PYTHONFAULTHANDLER": "1"},
        cwd=folder,
        text=True,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
    )
    shown, told = ended(process, timeout)
    return subprocess.CompletedProcess(words, process.returncode, shown, told)


def ended(process: subprocess.Popen[str], timeout: float) -> tuple[str, str]:
    """Wait for a program's end and return what it wrote; where it does not come, fail with the stacks of its tree.

    Programs that run with PYTHONFAULTHANDLER=1 tell their stacks.
    """
    try:
        return process.communicate(timeout=timeout)
    except subprocess.TimeoutExpired:
        tree = [*psutil.Process(process.pid).children(recursive=True), psutil.Process(process.pid)]
        for one in tree:
            with contextlib.suppress(psutil.NoSuchProcess):
                one.send_signal(signal.SIGABRT)
        shown, told = process.communicate(timeout=20)
        raise AssertionError(f"It did not end within {timeout} s.\n{told[-20_000:]}\n{shown[-2_000:]}") from None


def wait_for(found: Any, seconds: float = 20.0) -> Any:
    """Ask again and again until the answer is true; returns it."""
    import time

    give_up = time.monotonic() + seconds
    while time.monotonic() < give_up:
        answer = found()
        if answer:
            return answer
        time.sleep(0.05)
    raise AssertionError("It did not become true in time.")


def as_json(text: str) -> Any:
    return json.loads(text)
