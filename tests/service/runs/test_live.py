"""Live changes: told within two seconds, resumable, only to who may see them."""

from __future__ import annotations

import contextlib
import json
import threading
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from typing import Any

import httpx
import pytest

from kinetrum.client.transport.http import Service
from tests.support.programs import wait_for
from tests.support.world import Instance, Project, another_service, new_id


class Listener:
    """Follows changes in a thread and keeps what it is told, also over breaks of the connection."""

    def __init__(self, project: Project, role: str = "viewer", last: str | None = None, **where: str) -> None:
        self.events: list[dict[str, Any]] = []
        self.ids: list[str] = [last] if last else []
        self.others: list[str] = []
        self.headers = {"Authorization": f"Bearer {project.tokens[role]}"}
        self.ready, self.stop, self.ended = threading.Event(), threading.Event(), threading.Event()
        path = where.get("path", project.path("events"))
        self.url = f"{where.get('url', project.instance.url)}/api/v1{path}"
        self.thread = threading.Thread(target=self._listen, daemon=True)
        self.thread.start()
        assert self.ready.wait(30)

    def _listen(self) -> None:
        with httpx.Client(timeout=httpx.Timeout(5, read=0.5)) as client:
            while not self.stop.is_set() and not self.ended.is_set():
                with contextlib.suppress(httpx.TransportError):
                    self._listen_once(client)

    def _listen_once(self, client: httpx.Client) -> None:
        headers = self.headers | ({"Last-Event-ID": self.ids[-1]} if self.ids else {})
        kind = ""
        with client.stream("GET", self.url, headers=headers) as answer:
            for line in answer.iter_lines():
                name, _, rest = line.partition(": ")
                if name == "event":
                    kind = rest
                    self.others += [rest] if rest != "change" else []
                elif name == "data" and kind == "change":
                    self.events.append(json.loads(rest))
                elif name == "id":
                    self.ids.append(rest)
                if kind:
                    self.ready.set()
                if self.stop.is_set():
                    return
        self.ended.set()

    def subjects(self) -> list[str]:
        return [event["subject"] for event in self.events]

    def close(self) -> None:
        self.stop.set()
        self.thread.join(5)


@pytest.fixture
def listen(project: Project) -> Iterator[Callable[..., Listener]]:
    made: list[Listener] = []

    def begin(role: str = "viewer", last: str | None = None, **where: str) -> Listener:
        made.append(Listener(project, role, last, **where))
        return made[-1]

    yield begin
    for listener in made:
        listener.close()


@pytest.fixture(scope="module")
def second(instance: Instance) -> Iterator[str]:
    """A second process of the service on the same records; its address."""
    yield from another_service(instance)


def test_runs_and_acts_are_told(project: Project, listen: Callable[..., Listener]) -> None:
    listener = listen()
    begun = project.begin()
    wait_for(lambda: begun["reference"] in listener.subjects(), 5)
    project.registered()
    wait_for(lambda: any(event.get("act") == "registered" for event in listener.events), 5)
    told = next(event for event in listener.events if event["subject"] == begun["reference"])
    assert (told["kind"], told["experiment"], told["status"]) == ("run", "frost-alarm", "running")
    assert set(listener.others) == {"pace"}


def test_what_happened_in_between_is_told_on_return(project: Project, listen: Callable[..., Listener]) -> None:
    first = listen()
    project.begin()
    wait_for(lambda: first.events, 5)
    first.close()
    missed = project.begin()
    second = listen(last=first.ids[-1])
    wait_for(lambda: missed["reference"] in second.subjects(), 5)


def test_other_projects_are_not_told(project: Project, instance: Any, listen: Callable[..., Listener]) -> None:
    listener = listen()
    instance.service().call("PUT", f"/projects/main/experiments/e/runs/{new_id()}", json={"started_at": 1})
    project.begin()
    wait_for(lambda: listener.events, 5)
    assert {event["project"] for event in listener.events} == {project.name}


def test_all_that_one_may_see_comes_in_one_stream(
    project: Project, instance: Any, listen: Callable[..., Listener]
) -> None:
    everything = listen("admin", path="/events")
    hers = listen("contributor", path="/events")
    nothing = listen("stranger", path="/events")
    instance.service().call("PUT", f"/projects/main/experiments/e/runs/{new_id()}", json={"started_at": 1})
    begun = project.begin()
    wait_for(lambda: begun["reference"] in hers.subjects() and begun["reference"] in everything.subjects(), 5)
    wait_for(lambda: {"main", project.name} <= {event["project"] for event in everything.events}, 5)
    assert "main" not in {event["project"] for event in hers.events}
    assert nothing.events == []


def test_who_is_taken_out_hears_no_more_at_once(project: Project, listen: Callable[..., Listener]) -> None:
    one, all_of_them = listen("viewer"), listen("viewer", path="/events")
    project.begin()
    wait_for(lambda: one.events and all_of_them.events, 5)
    project.service().call("DELETE", project.path("members", "a-viewer"))
    secret = project.begin()
    other = listen("contributor")
    told = project.begin()
    wait_for(lambda: told["reference"] in other.subjects(), 5)
    assert one.ended.wait(5)
    # Of other projects, where runs of earlier tests may still be compacted, the second one goes on to hear.
    heard = [event["subject"] for event in one.events + all_of_them.events if event["project"] == project.name]
    assert secret["reference"] not in heard


def test_a_cursor_that_is_too_old_is_told_to_begin_anew(listen: Callable[..., Listener]) -> None:
    listener = listen(last="99999999999")
    wait_for(lambda: "reset" in listener.others, 5)


def test_nothing_is_missed_between_two_processes(
    project: Project, second: str, listen: Callable[..., Listener]
) -> None:
    """Followers at both processes, records through both, by many at once: everyone hears of every run."""
    listeners = [listen(), listen(url=second), listen("contributor", url=second, path="/events")]
    through = [project.service("contributor"), Service(second, project.tokens["contributor"])]

    def begin(number: int) -> str:
        path = project.path("experiments", "frost-alarm", "runs", new_id())
        answer: dict[str, Any] = through[number % 2].call("PUT", path, json={"started_at": 1})
        return str(answer["reference"])

    with ThreadPoolExecutor(8) as pool:
        begun = set(pool.map(begin, range(60)))
    try:
        for listener in listeners:
            wait_for(lambda heard=listener: begun <= set(heard.subjects()), 60)
            numbers = list(map(int, listener.ids))
            assert numbers == sorted(numbers)
    finally:
        through[1].close()


def test_a_follower_goes_on_at_another_process(project: Project, second: str, listen: Callable[..., Listener]) -> None:
    first = listen(url=second)
    project.begin()
    wait_for(lambda: first.events, 5)
    first.close()
    missed = [project.begin()["reference"] for _ in range(5)]
    later = listen(last=first.ids[-1])
    wait_for(lambda: set(missed) <= set(later.subjects()), 5)


@pytest.mark.parametrize(("role", "last", "status"), [("stranger", None, 404), ("viewer", "nonsense", 422)])
def test_refused_listeners(project: Project, role: str, last: str | None, status: int) -> None:
    headers = {"Authorization": f"Bearer {project.tokens[role]}"} | ({"Last-Event-ID": last} if last else {})
    answer = httpx.get(f"{project.instance.url}/api/v1{project.path('events')}", headers=headers)
    assert answer.status_code == status


class OneStream:
    """One stream without a limit on silence, until the service ends it."""

    def __init__(self, url: str, headers: dict[str, str]) -> None:
        self.begun, self.ended = threading.Event(), threading.Event()
        threading.Thread(target=self._read, args=(url, headers), daemon=True).start()
        assert self.begun.wait(20)

    def _read(self, url: str, headers: dict[str, str]) -> None:
        with (
            contextlib.suppress(httpx.TransportError),
            httpx.Client(timeout=httpx.Timeout(20, read=None)) as client,
            client.stream("GET", url, headers=headers) as answer,
        ):
            assert answer.status_code == 200
            for line in answer.iter_lines():
                if line.startswith("event: pace"):
                    self.begun.set()
        self.ended.set()


def test_streams_end_with_their_token_on_every_process(project: Project, second: str) -> None:
    viewer = project.service("viewer")
    streams: dict[str, list[OneStream]] = {}
    for name in ("leaves", "stays"):
        secret = viewer.call("POST", "/tokens", json={"name": f"{name}-{project.name}"})["secret"]
        headers = {"Authorization": f"Bearer {secret}"}
        places = [f"{url}/api/v1{project.path('events')}" for url in (project.instance.url, second)]
        streams[name] = [OneStream(place, headers) for place in places]
    viewer.call("DELETE", f"/tokens/leaves-{project.name}")
    assert all(stream.ended.wait(3) for stream in streams["leaves"])
    assert not any(stream.ended.is_set() for stream in streams["stays"])
    viewer.call("DELETE", f"/tokens/stays-{project.name}")
    assert all(stream.ended.wait(3) for stream in streams["stays"])


def test_a_stream_ends_with_its_session(project: Project, instance: Instance, second: str) -> None:
    name, password = instance.first_account
    with httpx.Client(base_url=f"{instance.url}/api/v1") as client:
        csrf = client.post("/session", json={"name": name, "password": password}).json()["csrf_token"]
        cookie = "; ".join(f"{key}={value}" for key, value in client.cookies.items())
        stream = OneStream(f"{instance.url}/api/v1/events", {"Cookie": cookie})
        assert client.delete("/session", headers={"Kinetrum-Csrf": csrf}).status_code == 204
        assert stream.ended.wait(3)
