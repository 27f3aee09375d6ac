"""Bodies: who sends one is asked before it is read, and how much it may hold is known by its route."""

from __future__ import annotations

import asyncio
import http.client
import json
import re
import socket
from collections.abc import Iterator
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

import httpx
import pytest
from hypothesis import given
from hypothesis import strategies as st
from starlette.types import Message, Receive, Scope, Send

from kinetrum.core.base import errors
from kinetrum.service.guard import bodies
from kinetrum.service.guard.bodies import GuardedBodies, bound_of, count_values
from tests.support.programs import run_apart
from tests.support.world import Instance, Project, new_id

DOCUMENT = json.loads((Path(__file__).parents[3] / "docs" / "reference" / "openapi.json").read_text())
WITH_BODIES = [
    (method.upper(), path)
    for path, operations in DOCUMENT["paths"].items()
    for method in operations
    if method not in {"get", "head"}
]
JSON = {"Content-Type": "application/json"}


def headers_only(instance: Instance, method: str, path: str, length: int, *more: str) -> tuple[int, str]:
    """Announce a body and send none of it; returns the answer's status and text."""
    place = urlsplit(instance.url)
    lines = [f"{method} {path} HTTP/1.1", f"Host: {place.netloc}", "Content-Type: application/json", *more]
    with socket.create_connection((place.hostname or "", place.port or 0), timeout=20) as connection:
        connection.sendall("\r\n".join([*lines, f"Content-Length: {length}", "", ""]).encode())
        answer = http.client.HTTPResponse(connection)
        answer.begin()
        return answer.status, f"{answer.headers}\n{answer.read().decode()}"


@pytest.mark.parametrize(("method", "path"), WITH_BODIES)
def test_whoever_has_no_account_is_answered_before_the_body(instance: Instance, method: str, path: str) -> None:
    """Were it read first, these would wait for a hundred megabytes that never come."""
    place = re.sub(r"\{\w+\}", "x", path)
    status, _ = headers_only(instance, method, place, 100_000_000)
    needs_none = (method, path) in {("POST", "/api/v1/session"), ("POST", "/api/v1/account-links/{secret}")}
    assert status == (413 if needs_none else 401)
    if not needs_none:
        assert headers_only(instance, method, place, 100_000_000, "Authorization: Bearer ktm_wrong")[0] == 401


def test_a_session_without_its_token_is_answered_before_the_body(instance: Instance, project: Project) -> None:
    with httpx.Client(base_url=f"{instance.url}/api/v1") as client:
        name, password = instance.first_account
        answer = client.post("/session", json={"name": name, "password": password})
        assert answer.status_code == 200, answer.text
        cookie = "; ".join(f"{key}={value}" for key, value in client.cookies.items())
    status, text = headers_only(instance, "POST", "/api/v1/projects", 100_000_000, f"Cookie: {cookie}")
    assert (status, "Kinetrum-Csrf" in text) == (403, True)


MIB = 1024**2
RUN = "/api/v1/projects/p/experiments/e/runs/r"


@pytest.mark.parametrize(
    ("path", "size"),
    [
        ("/api/v1/session", 16 * 1024),
        ("/api/v1/projects/p/notes", MIB),
        (RUN, 32 * MIB),
        (f"{RUN}/output", 32 * MIB),
        (f"{RUN}/points", 32 * MIB),
        (f"{RUN}/used", 128 * MIB),
        ("/api/v1/projects/p/artifacts/a/versions", 128 * MIB),
        # Nothing gets more room by being called like a route that needs it.
        ("/api/v1/projects/plots", MIB),
        ("/api/v1/projects/p/experiments/used", MIB),
        ("/api/v1/projects/p/experiments/imports", MIB),
        ("/api/v1/projects/p/members/points", MIB),
        ("/api/v1/projects/p/models/m/versions", MIB),
        (f"{RUN}/activities/points", MIB),
        ("/api/v1/projects/session", MIB),
    ],
)
def test_a_paths_bound_is_its_own(instance: Instance, project: Project, path: str, size: int) -> None:
    assert bound_of(path).size == size
    token = f"Authorization: Bearer {project.tokens['contributor']}"
    assert headers_only(instance, "PUT" if path != "/api/v1/session" else "POST", path, size + 1, token)[0] == 413


@pytest.mark.parametrize(
    "kinds",
    [
        ["application/JSON"],
        ["application/vnd.x+json; charset=utf-8"],
        ["application/json", "text/plain"],
        ["text/plain", "application/json"],
    ],
)
def test_no_content_type_hides_values(raw: httpx.Client, project: Project, kinds: list[str]) -> None:
    body = b'{"things": [1' + b",1" * 30_000 + b"]}"
    answer = raw.post(project.path("bin"), content=body, headers=[("Content-Type", kind) for kind in kinds])
    assert (answer.status_code, "20,000 values" in answer.text) == (413, True)


def test_the_number_of_values_is_bounded(raw: httpx.Client, project: Project) -> None:
    """Of two bodies of the same shape one is looked at and one is not; both are far below the bound of bytes."""
    path = project.path("bin")
    most = bound_of(path).values
    for values, status in ((most - 2, 422), (most + 2, 413)):
        body = b'{"things": [' + b",".join([b"1"] * values) + b"]}"
        answer = raw.post(path, content=body, headers=JSON)
        assert answer.status_code == status, answer.text
        assert ("values" in answer.json()["detail"]) is (status == 413)


def test_what_stands_in_texts_is_no_value(project: Project) -> None:
    text = 'a, [b], {c}, "d\\", ' * 2_000
    assert text.count(",") > 5_000
    notes = project.service("contributor")
    run = project.begin()
    body = {"id": new_id(), "text": text[:40_000], "things": [f"{run['reference']}"]}
    notes.call("POST", project.path("notes"), json=body)
    assert len(notes.get(project.path("notes"), of=run["reference"])) == 1


def test_a_body_in_pieces_is_counted_as_a_whole(raw: httpx.Client, project: Project) -> None:
    def pieces() -> Iterator[bytes]:
        yield b'{"things": [1'
        for _ in range(60):
            yield b",1" * 1_000
        yield b"]}"

    answer = raw.post(project.path("bin"), content=pieces(), headers=JSON)
    assert (answer.status_code, "20,000 values" in answer.text) == (413, True)


@pytest.mark.parametrize("shape", [b'{"name":[' + b"[]," * 4_000 + b"[]]}", b"[" * 4_000, b'{"a":' * 4_000])
def test_hostile_shapes_are_refused(raw: httpx.Client, instance: Instance, project: Project, shape: bytes) -> None:
    assert raw.post("/session", content=shape, headers=JSON).status_code in {400, 413, 422}
    assert raw.post(project.path("notes"), content=shape, headers=JSON).status_code in {400, 422}
    assert raw.get("/health").status_code == 200


LONE = '"\\ud800"'


@pytest.mark.parametrize(
    ("method", "path", "body"),
    [
        ("POST", "session", '{"name": X, "password": "p"}'),
        ("POST", "session", '{"name": "n", "password": X}'),
        ("POST", "{project}/notes", '{"id": "I", "text": X, "things": ["e/1"]}'),
        ("POST", "{project}/labels", '{"runs": ["e/1"], "labels": {"a": X}}'),
        ("POST", "{project}/labels", '{"runs": ["e/1"], "labels": {X: "a"}}'),
        ("PUT", "{project}/models/m/card", '{"text": X}'),
        ("PATCH", "{project}/artifacts/a", '{"description": X}'),
    ],
)
def test_texts_are_unicode(raw: httpx.Client, project: Project, method: str, path: str, body: str) -> None:
    place = path.replace("{project}", f"projects/{project.name}")
    answer = raw.request(method, f"/{place}", content=body.replace("X", LONE).replace("I", new_id()), headers=JSON)
    assert (answer.status_code, answer.json()["type"]) == (400, "urn:kinetrum:problem:broken-json")


@given(
    st.recursive(
        st.none() | st.integers() | st.text(), lambda inner: st.lists(inner) | st.dictionaries(st.text(), inner)
    )
)
def test_values_are_never_counted_too_few(value: Any) -> None:
    def members(thing: Any) -> int:
        if isinstance(thing, dict):
            return len(thing) + sum(members(below) for below in thing.values())
        return len(thing) + sum(map(members, thing)) if isinstance(thing, list) else 0

    text = json.dumps(value).encode()
    containers = len(re.findall(rb"[\[{]", re.sub(rb'"(?:[^"\\]|\\.)*"', b"", text)))
    assert members(value) <= count_values(text) <= members(value) + containers


def test_a_large_body_that_fits_is_taken_whole(project: Project) -> None:
    run = project.begin(params={f"layer.{at}": at for at in range(10_000)})
    found = project.service("viewer").get(project.run_path(run))
    assert len(found["params"]) == 10_000
    with pytest.raises(errors.TooLarge, match="400,000 values"):
        project.begin(params={f"layer.{at}": at for at in range(400_001)})


class Sender:
    """Sends to the guard alone, which lets a reader read the whole: how much, and with which pauses."""

    def __init__(self, guard: GuardedBodies, path: str = f"{RUN}/used") -> None:
        self.guard, self.sent, self.statuses = guard, asyncio.Queue[bytes | None](), list[int]()
        self.scope = {"type": "http", "method": "POST", "path": path, "headers": [], "client": None}

    async def receive(self) -> Message:
        piece = await self.sent.get()
        return {"type": "http.request", "body": piece or b"", "more_body": piece is not None}

    async def send(self, message: Message) -> None:
        if message["type"] == "http.response.start":
            self.statuses.append(message["status"])

    async def run(self) -> int:
        await self.guard(self.scope, self.receive, self.send)
        return self.statuses[0]


async def read_whole(scope: Scope, receive: Receive, send: Send) -> None:
    while (await receive())["more_body"]:
        continue
    await send({"type": "http.response.start", "status": 200, "headers": []})


@pytest.fixture
def guard(monkeypatch: pytest.MonkeyPatch) -> GuardedBodies:
    monkeypatch.setattr(bodies, "signed_in", lambda _: None)
    return GuardedBodies(read_whole)


def test_large_bodies_on_their_way_share_one_room(guard: GuardedBodies) -> None:
    """What is announced takes no room, what arrived does; small ones go their way; and it is given back."""

    async def story() -> None:
        first, second, third = Sender(guard), Sender(guard), Sender(guard)
        tasks = [asyncio.create_task(one.run()) for one in (first, second)]
        await first.sent.put(b" " * (101 * MIB))
        await second.sent.put(b" " * (61 * MIB))
        await asyncio.sleep(0.2)
        assert guard.on_their_way == 160 * MIB
        await third.sent.put(b" " * (MIB + 1))
        assert await third.run() == 503
        small = Sender(guard)
        await small.sent.put(b" " * MIB)
        await small.sent.put(None)
        assert await small.run() == 200
        for one in (first, second):
            await one.sent.put(None)
        assert await asyncio.gather(*tasks) == [200, 200]
        assert guard.on_their_way == 0

    run_apart(story())


def test_a_body_that_does_not_arrive_is_given_up(guard: GuardedBodies, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(bodies, "_PATIENCE_S", 0.3)

    async def story(pauses: list[float], rate: int) -> int:
        monkeypatch.setattr(bodies, "_BYTES_A_SECOND", rate)
        sender = Sender(guard)
        task = asyncio.create_task(sender.run())
        for pause in pauses:
            await sender.sent.put(b" " * 2 * MIB)
            await asyncio.sleep(pause)
        await sender.sent.put(None)
        return await task

    assert run_apart(story([0.1], MIB)) == 200
    # Each piece buys time by its size; a trickle of hardly anything buys none.
    assert run_apart(story([0.4] * 4, 4 * MIB)) == 200
    assert run_apart(story([0.4] * 4, 1024 * MIB)) == 408
    assert guard.on_their_way == 0
