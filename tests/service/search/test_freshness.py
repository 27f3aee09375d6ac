"""What was acknowledged is in the next answer, whoever gives it; what a question does not concern costs it nothing."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from typing import Any

import httpx
import pytest

from kinetrum.client.transport.http import Service
from tests.support.world import Instance, Project, another_service, new_id

AT = 1_790_000_000_000_000
GOAL = {"loss": {"direction": "lower"}}


@pytest.fixture(scope="module")
def second(instance: Instance) -> Iterator[str]:
    """A second process of the service on the same records; its address."""
    yield from another_service(instance)


def services_of(project: Project, second: str) -> Iterator[list[Service]]:
    other = Service(second, project.tokens["contributor"])
    yield [project.service("contributor"), other]
    other.close()


@pytest.fixture
def both(project: Project, second: str) -> Iterator[list[Service]]:
    yield from services_of(project, second)


def measure(service: Service, project: Project, begun: dict[str, Any], loss: float, step: int = 0) -> None:
    group = {"keys": ["loss"], "steps": [step], "times": [AT], "values": [[loss]]}
    service.call("POST", project.run_path(begun, "points"), params={"batch": new_id()}, json={"groups": [group]})


def end(service: Service, project: Project, begun: dict[str, Any]) -> None:
    service.call("POST", project.run_path(begun, "ending"), json={"status": "finished", "ended_at": AT + 1})


def test_every_answer_holds_what_was_recorded_before(project: Project, both: list[Service]) -> None:
    for turn in range(12):
        writer, reader = both[turn % 2], both[turn // 2 % 2]
        experiment = f"try-{turn}"
        begun = [project.begin(experiment, goals=GOAL, params={"depth": at}) for at in range(3)]
        for at, run in enumerate(begun):
            measure(writer, project, run, 3.0 - at)
            end(writer, project, run)
        path = project.path("experiments", experiment)
        rows = reader.get(f"{path}/runs", query="loss <= 2", sort="loss")["rows"]
        assert [(row["number"], row["values"]["loss"]) for row in rows] == [(3, 1.0), (2, 2.0)], turn
        assert reader.get(f"{path}/runs/best:loss")["number"] == 3
        groups = reader.get(f"{path}/groups", by="depth")["groups"]
        assert sorted(group["last"]["values"]["loss"] for group in groups) == [1.0, 2.0, 3.0]
        assert reader.get(f"{path}/runs/2")["values"]["loss"] == 2.0


@pytest.mark.parametrize(
    ("path", "said"),
    [("facets", "loss"), ("groups?by=depth", "1.5"), ("table?form=csv&column=loss", "1.5"), ("offers?text=lo", "loss")],
)
def test_a_single_point_is_in_the_first_answer_of_any_kind(project: Project, path: str, said: str) -> None:
    service = project.service("contributor")
    begun = project.begin(goals=GOAL, params={"depth": 1})
    measure(service, project, begun, 1.5)
    with service.stream(project.path("experiments", "frost-alarm", path)) as answer:
        assert said in answer.read().decode()


def test_a_correction_by_a_later_batch_is_in_the_next_answer(project: Project, both: list[Service]) -> None:
    begun = project.begin(goals={"loss": {"direction": "higher"}})
    for step in range(20):
        measure(both[step % 2], project, begun, float(step), step)
        assert both[(step + 1) % 2].get(project.run_path(begun))["values"]["loss"] == float(step)


def test_many_who_ask_at_once_all_get_the_whole(project: Project, both: list[Service]) -> None:
    begun = [project.begin(goals=GOAL) for _ in range(8)]
    for at, run in enumerate(begun):
        measure(both[0], project, run, float(at))

    def ask(number: int) -> list[float | None]:
        rows = both[number % 2].get(project.path("experiments", "frost-alarm", "runs"), sort="number:asc")["rows"]
        return [row["values"].get("loss") for row in rows]

    with ThreadPoolExecutor(8) as pool:
        assert list(pool.map(ask, range(8))) == [[float(at) for at in range(8)]] * 8


def test_who_writes_on_and_on_keeps_nobody_waiting(project: Project, both: list[Service]) -> None:
    """An answer holds what came before the question, and does not wait for what comes after it."""
    begun, over = project.begin(goals={"loss": {"direction": "higher"}}), threading.Event()

    def write() -> None:
        step = 0
        while not over.is_set():
            measure(both[0], project, begun, float(step), step)
            step += 1

    writer = threading.Thread(target=write)
    writer.start()
    try:
        seen = [both[1].get(project.run_path(begun))["values"].get("loss") or 0.0 for _ in range(10)]
    finally:
        over.set()
        writer.join()
    assert seen == sorted(seen)


def test_what_is_registered_knows_its_run_at_once(project: Project) -> None:
    service = project.service("contributor")
    begun = project.begin(goals=GOAL)
    project.generate(begun, b"weights")
    measure(service, project, begun, 0.25)
    body = {"id": new_id(), "artifact": "frost-net", "run": begun["reference"], "comment": ""}
    version = service.call("POST", project.path("models", "frost-alarm", "versions"), json=body)
    assert "0.25" in str(service.get(project.path("models", "frost-alarm", "versions", str(version["number"]))))


def test_a_link_shows_it_too_and_a_stranger_has_nothing_done(project: Project, raw: httpx.Client) -> None:
    service = project.service("contributor")
    body = {"experiment": "frost-alarm", "arrangement": {"cols": "loss"}, "days": 1}
    measure(service, project, project.begin(goals=GOAL), 0.5)
    link = service.call("POST", project.path("links"), json=body)
    measure(service, project, project.begin(goals=GOAL), 0.25)
    found = raw.get(f"/links/{link['secret']}").json()
    assert sorted(row["cells"][0] for row in found["rows"]) == [0.25, 0.5]
    assert raw.get(project.path("experiments"), headers={"Authorization": "Bearer none"}).status_code == 401
    assert raw.get(f"/links/{'x' * len(link['secret'])}").status_code == 404


def test_a_table_waits_for_its_own_runs_alone(project: Project, monkeypatch: pytest.MonkeyPatch) -> None:
    """Also under the name that the experiment had before; a run's own page waits for those below it, wherever."""
    from kinetrum.actions.recording import intake

    service = project.service("contributor")
    asked: list[tuple[str | None, str | None]] = []

    def note(name: str | None, experiment: str | None = None, patience_s: float = 5) -> int:
        asked.append((name, experiment))
        return 0

    begun = project.begin(goals=GOAL)
    measure(service, project, begun, 1.5)
    project.service("maintainer").call("PUT", project.path("experiments", "frost-alarm", "name"), json={"name": "bell"})
    for name in ("frost-alarm", "bell"):
        measure(service, project, begun, 2.5 if name == "bell" else 0.5, 7 if name == "bell" else 6)
        rows = service.get(project.path("experiments", name, "runs"))["rows"]
        assert rows[0]["values"]["loss"] == 0.5
    monkeypatch.setattr(intake, "bring_up_to_date", note)
    from fastapi import Request

    from kinetrum.service.http.freshness import read_up_to_date

    for path, expected in (
        ({"project": "p", "experiment": "e"}, ("p", "e")),
        ({"project": "p", "experiment": "e", "run": "1"}, ("p", None)),
        ({"project": "p"}, ("p", None)),
        ({}, (None, None)),
    ):
        request = Request({"type": "http", "method": "GET", "path_params": path, "headers": [], "state": {}})
        read_up_to_date(request, None)  # type: ignore[arg-type]
        assert asked[-1] == expected
