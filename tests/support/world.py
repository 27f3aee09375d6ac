"""One private instance, and fresh projects with a person in each role."""

from __future__ import annotations

import contextlib
import hashlib
import json
import os
import secrets
import subprocess
import sys
import time
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import pymysql

from kinetrum.client.transport import session
from kinetrum.client.transport.http import Service
from kinetrum.core.base.ids import uuid7
from kinetrum.instance.mariadb import DATABASE, OWNER, SERVICE
from kinetrum.instance.settings import Home

PASSWORD = "a long enough password"
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


def close_services() -> None:
    """Close every client that a test used."""
    for service in _SERVICES.values():
        service.close()
    session.close_all()


def another_service(instance: Instance) -> Iterator[str]:
    """One more process of the service on the instance's database and store; yields its address."""
    with service_process(instance) as (url, _):
        yield url


@contextlib.contextmanager
def service_process(instance: Instance, **settings: str) -> Iterator[tuple[str, subprocess.Popen[str]]]:
    """One more process of the service on the instance's database and store: its address, and itself.

    `settings` are variables of its environment.
    """
    lines = (instance.home.folder / "mariadb.cnf").read_text().splitlines()
    port = next(line[5:] for line in lines if line.startswith("port="))
    account = f"{SERVICE}:{instance.home.secret('database_service')}"
    environment = os.environ | {
        "KINETRUM_DATABASE": f"mariadb://{account}@127.0.0.1:{port}/{DATABASE}",
        "KINETRUM_STORE": str(instance.home.store),
        "KINETRUM_PORT": "0",
        **settings,
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


def change_rows(instance: Instance, statement: str) -> None:
    """Change the database as nobody else may: to make what takes months to come about."""
    read_rows(instance, statement)


def read_rows(instance: Instance, statement: str) -> list[Any]:
    """Run a statement as the database's owner; returns the rows of its answer."""
    port = next(line[5:] for line in (instance.home.folder / "mariadb.cnf").read_text().splitlines() if "port=" in line)
    with (
        pymysql.connect(
            host="127.0.0.1",
            port=int(port),
            user=OWNER,
            password=instance.home.secret("database_owner"),
            database=DATABASE,
        ) as link,
        link.cursor() as cursor,
    ):
        cursor.execute(statement)
        rows = list(cursor.fetchall())
        link.commit()
    return rows


ALL_SCOPES = ["read", "record", "register", "review", "place", "report", "administer"]
ROLES = ("viewer", "contributor", "approver", "maintainer")


def new_id() -> str:
    return uuid7(time.time_ns() // 1_000_000, secrets.token_bytes(10))
