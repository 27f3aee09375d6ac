"""Recording and looking over HTTP: what was sent comes back, twice sent changes nothing, wrong input is refused whole."""

from __future__ import annotations

from typing import Any

import httpx
import numpy as np
import pytest

from kinetrum.core.base import errors
from kinetrum.core.points.codec import BATCH_MEDIA_TYPE, Group, encode_batch
from tests.support.programs import wait_for
from tests.support.world import Project, new_id

AT = 1_790_000_000_000_000


def points(count: int, *keys: str, start: int = 0) -> dict[str, Any]:
    steps = list(range(start, start + count))
    values = [[step / 10 for step in steps] for _ in keys]
    return {"groups": [{"keys": list(keys), "steps": steps, "times": [AT + step for step in steps], "values": values}]}


def test_a_run_from_begin_to_end(project: Project) -> None:
    service = project.service("contributor")
    begun = project.begin(
        name="first",
        params={"depth": 6, "x": {"float": "NaN"}, "l": [1, None]},
        labels={"purpose": "test"},
        goals={"recall": {"direction": "higher", "bound": 0.9, "unit": "%"}},
        host="bench-2",
        about={"python": "3.11"},
    )
    assert begun["reference"] == "frost-alarm/1"
    service.call(
        "POST", project.run_path(begun, "points"), params={"batch": new_id()}, json=points(10, "loss", "recall")
    )
    service.call(
        "POST",
        project.run_path(begun, "results"),
        json={
            "results": [
                {"id": new_id(), "key": "recall", "value": 0.95, "at": AT},
                {"id": new_id(), "key": "verdict", "value": "ready", "at": AT},
            ]
        },
    )
    service.call("POST", project.run_path(begun, "ending"), json={"status": "finished", "ended_at": AT + 5_000_000})
    run = wait_for(lambda: (r := service.get(project.run_path(begun))) and r["metrics"] and r)
    assert run["params"] == {"depth": 6, "x": {"float": "NaN"}, "l": [1, None]}
    assert run["status"] == "finished"
    assert run["author"] == "A Contributor"
    assert run["values"] == {"loss": 0.9, "recall": 0.95, "verdict": "ready"}
    assert run["metrics"]["loss"]["count"] == 10
    assert run["metrics"]["recall"]["best"] == 0.9
    assert run["metrics"]["recall"]["best_step"] == 9
    assert run["goals"] == [{"key": "recall", "direction": "higher", "unit": "%", "bound": 0.9, "aggregate": "best"}]
    assert (run["name"], run["host"], run["labels"], run["about"]) == (
        "first",
        "bench-2",
        {"purpose": "test"},
        {"python": "3.11"},
    )
    assert run["started_at"] == "2026-09-21T14:13:20.000000Z"
    assert run["ended_at"] == "2026-09-21T14:13:25.000000Z"
    back = service.get(project.run_path(begun, "points"), metric="loss")
    assert back["steps"] == list(range(10))
    assert back["values"] == [step / 10 for step in range(10)]


def test_every_request_sent_twice_changes_nothing(project: Project) -> None:
    service = project.service("contributor")
    uid, batch, result = new_id(), new_id(), new_id()
    path = project.path("experiments", "frost-alarm", "runs", uid)
    for _ in range(2):
        begun = service.call("PUT", path, json={"started_at": AT, "params": {"a": 1}})
        service.call("POST", f"{path}/points", params={"batch": batch}, json=points(3, "loss"))
        service.call("POST", f"{path}/results", json={"results": [{"id": result, "key": "r", "value": 1, "at": AT}]})
        service.call("POST", f"{path}/parameters", json={"params": {"a": 1.0, "b": 2}})
        service.call("POST", f"{path}/ending", json={"status": "failed", "reason": "why", "ended_at": AT})
    assert begun["number"] == 1
    run = wait_for(lambda: (r := service.get(path)) and r["metrics"] and r)
    assert run["metrics"]["loss"]["count"] == 3
    assert run["params"] == {"a": 1, "b": 2}
    assert run["problems"] == []
    assert run["reason"] == "why"
    assert len(service.get(project.path("experiments", "frost-alarm", "runs"))["rows"]) == 1


def test_a_late_parameter_conflict_becomes_a_problem(project: Project) -> None:
    service = project.service("contributor")
    begun = project.begin(params={"depth": 6})
    answer = service.call("POST", project.run_path(begun, "parameters"), json={"params": {"depth": 8, "rate": 0.1}})
    assert [item["key"] for item in answer["set_aside"]] == ["depth"]
    run = service.get(project.run_path(begun))
    assert run["params"] == {"depth": 6, "rate": 0.1}
    assert "depth was set to 6; 8" in run["problems"][0]["text"]


def test_the_first_goal_stays(project: Project) -> None:
    project.begin(goals={"recall": {"direction": "higher"}})
    second = project.begin(goals={"recall": {"direction": "lower"}, "loss": {"direction": "lower"}})
    run = project.service().get(project.run_path(second))
    assert [(goal["key"], goal["direction"]) for goal in run["goals"]] == [("recall", "higher"), ("loss", "lower")]
    assert "goal of recall" in run["problems"][0]["text"]


def test_binary_points_with_nan_and_infinities(project: Project) -> None:
    service = project.service("contributor")
    begun = project.begin()
    values = np.array([[1.0, np.nan, np.inf, -np.inf, 1e12]])
    body = encode_batch([Group(("loss",), np.arange(5), np.arange(5) + AT, values)])
    headers = {"Content-Type": BATCH_MEDIA_TYPE}
    kept = service.call(
        "POST", project.run_path(begun, "points"), params={"batch": new_id()}, content=body, headers=headers
    )
    assert kept == {"values": 5}
    back = service.get(project.run_path(begun, "points"), metric="loss")
    assert back["values"] == [1.0, "NaN", "Infinity", "-Infinity", 1e12]
    curve = service.get(project.path("curves"), metric="loss", run=[begun["reference"]])["curves"][0]
    assert curve["values"] == [1.0, None, None, None, 1e12]


def test_the_later_result_is_shown(project: Project) -> None:
    service = project.service("contributor")
    begun = project.begin()
    for value, at in ((0.9, AT + 5), (0.1, AT)):
        body = {"results": [{"id": new_id(), "key": "recall", "value": value, "at": at}]}
        service.call("POST", project.run_path(begun, "results"), json=body)
    assert service.get(project.run_path(begun))["results"] == {"recall": 0.9}


def test_an_ended_run_stays_ended(project: Project) -> None:
    service = project.service("contributor")
    begun = project.begin()
    service.call("POST", project.run_path(begun, "ending"), json={"status": "finished", "ended_at": AT})
    with pytest.raises(errors.Conflict, match="finished already"):
        service.call("POST", project.run_path(begun, "ending"), json={"status": "failed", "ended_at": AT})


@pytest.fixture
def table(project: Project) -> Project:
    service = project.service("contributor")
    for number, learner in enumerate(["forest", "boost", "boost"]):
        begun = project.begin(
            params={"learner": learner, "depth": number, "same": 1}, goals={"recall": {"direction": "higher"}}
        )
        body = {"results": [{"id": new_id(), "key": "recall", "value": 0.8 + number / 20, "at": AT}]}
        service.call("POST", project.run_path(begun, "results"), json=body)
    return project


def listed(project: Project, **params: Any) -> list[int]:
    page = project.service("viewer").get(project.path("experiments", "frost-alarm", "runs"), **params)
    return [row["number"] for row in page["rows"]]


def test_the_run_table(table: Project) -> None:
    assert listed(table) == [3, 2, 1]
    assert listed(table, sort="recall") == [3, 2, 1]
    assert listed(table, sort="recall:asc") == [1, 2, 3]
    assert listed(table, sort="learner:asc,depth") == [3, 2, 1]
    assert listed(table, query="recall >= 0.85", sort="recall:asc") == [2, 3]
    assert listed(table, query="learner = boost") == [3, 2]
    page = table.service().get(table.path("experiments", "frost-alarm", "runs"))
    differing = {column["name"]: column["differs"] for column in page["columns"]}
    assert differing == {"learner": True, "depth": True, "same": False, "recall": True}
    assert page["count"] == 3


def test_pages_are_linked(table: Project, raw: httpx.Client) -> None:
    path = f"{table.path('experiments', 'frost-alarm', 'runs')}?limit=2&sort=recall"
    first = raw.get(path)
    assert [row["number"] for row in first.json()["rows"]] == [3, 2]
    link = first.headers["Link"]
    assert link.endswith('>; rel="next"')
    following = raw.get(link[1 : link.index(">")].removeprefix("/api/v1"))
    assert [row["number"] for row in following.json()["rows"]] == [1]
    assert "Link" not in following.headers


@pytest.mark.parametrize(
    "params",
    [
        {"query": "recall >>"},
        {"query": "nothing = 1"},
        {"sort": "nothing"},
        {"cursor": "x"},
        {"cursor": "////"},
        {"limit": 0},
        {"limit": 501},
        {"limit": "x"},
        {"sort": "recall,recall,recall,recall,recall"},
        {"query": "x" * 4001},
    ],
)
def test_wrong_questions(table: Project, params: dict[str, Any]) -> None:
    with pytest.raises(errors.InvalidInput):
        listed(table, **params)


def test_runs_are_found_by_every_kind_of_reference(table: Project) -> None:
    service = table.service("viewer")
    run = service.get(table.path("experiments", "frost-alarm", "runs", "2"))
    assert service.get(table.path("experiments", "frost-alarm", "runs", run["id"]))["number"] == 2
    assert service.get(table.path("runs", run["id"][-12:]))["number"] == 2
    assert service.get(table.path("experiments", "frost-alarm", "runs", "last"))["number"] == 3
    with pytest.raises(errors.NotFound, match="No finished run"):
        service.get(table.path("experiments", "frost-alarm", "runs", "best:recall"))
    table.service("contributor").call(
        "POST",
        table.path("experiments", "frost-alarm", "runs", "2", "ending"),
        json={"status": "finished", "ended_at": AT},
    )
    assert service.get(table.path("experiments", "frost-alarm", "runs", "best:recall"))["number"] == 2
    for wrong, kind in (("99", errors.NotFound), ("best:loss", errors.NotFound), ("first", errors.InvalidInput)):
        with pytest.raises(kind):
            service.get(table.path("experiments", "frost-alarm", "runs", wrong))


def test_experiments_tell_their_best(table: Project) -> None:
    service = table.service("contributor")
    service.call(
        "POST",
        table.path("experiments", "frost-alarm", "runs", "1", "ending"),
        json={"status": "finished", "ended_at": AT},
    )
    (found,) = service.get(table.path("experiments"))
    assert (found["runs"], found["running"], found["best_run"], found["best_value"]) == (3, 2, "frost-alarm/1", 0.8)


def test_comparison(table: Project) -> None:
    service = table.service("viewer")
    found = service.get(table.path("comparison"), run=["frost-alarm/3", "frost-alarm/1"])
    assert {row["key"] for row in found["settings"]} == {"learner", "depth"}
    assert found["settings_equal"] == 1
    assert found["outcomes"][0]["verdict"] == "better"
    assert found["headline"]["finding"] == "Run 3 came out better than Run 1"
    for runs in (["frost-alarm/1"], ["frost-alarm/1", "frost-alarm/1"], ["frost-alarm/1"] * 101):
        with pytest.raises(errors.InvalidInput):
            service.get(table.path("comparison"), run=runs)


def test_children_know_their_parent(project: Project) -> None:
    parent = project.begin(name="search")
    child = project.begin(parent=parent["id"])
    assert project.service().get(project.run_path(child))["parent"] == parent["reference"]
    assert project.service().get(project.run_path(parent))["children"][0]["reference"] == child["reference"]


BAD_BEGINNINGS: list[dict[str, Any]] = [
    {},
    {"started_at": "now"},
    {"started_at": -1},
    {"started_at": 2**60},
    {"started_at": AT, "unknown": 1},
    {"started_at": AT, "params": {"a": {"b": 1}}},
    {"started_at": AT, "params": {"": 1}},
    {"started_at": AT, "params": [1]},
    {"started_at": AT, "params": {"k" * 251: 1}},
    {"started_at": AT, "name": "x" * 201},
    {"started_at": AT, "name": "\n"},
    {"started_at": AT, "goals": {"r": {"direction": "up"}}},
    {"started_at": AT, "parent": "x"},
    {"started_at": AT, "labels": {"a": 1}},
    {"started_at": AT, "params": {"a": "x" * 20_000}},
    {"started_at": AT, "lease_s": 0},
]


@pytest.mark.parametrize("body", BAD_BEGINNINGS)
def test_wrong_beginnings_make_nothing(project: Project, body: dict[str, Any]) -> None:
    with pytest.raises(errors.InvalidInput):
        project.service("contributor").call("PUT", project.path("experiments", "new", "runs", new_id()), json=body)
    assert project.service().get(project.path("experiments")) == []


@pytest.mark.parametrize("experiment", ["Frost", "9", "last", "a b", "x" * 101, "ä"])
def test_wrong_names_of_experiments(project: Project, experiment: str) -> None:
    from kinetrum.client.transport.http import path_of

    path = path_of("projects", project.name, "experiments", experiment, "runs", new_id())
    with pytest.raises(errors.InvalidInput):
        project.service("contributor").call("PUT", path, json={"started_at": AT})


BAD_POINTS: list[Any] = [
    [],
    {},
    {"groups": [{}]},
    {"groups": [{"keys": ["a"], "steps": [1], "times": [1], "values": []}]},
    {"groups": [{"keys": ["a"], "steps": [1], "times": [], "values": [[1]]}]},
    {"groups": [{"keys": ["a"], "steps": [1.5], "times": [1], "values": [[1]]}]},
    {"groups": [{"keys": ["a"], "steps": [2**63], "times": [1], "values": [[1]]}]},
    {"groups": [{"keys": ["a"], "steps": [1], "times": [1], "values": [["x"]]}]},
    {"groups": [{"keys": ["a"], "steps": [1], "times": [1], "values": [[None]]}]},
    {"groups": [{"keys": ["a", "a"], "steps": [1], "times": [1], "values": [[1], [1]]}]},
    {"groups": [{"keys": ["a\n"], "steps": [1], "times": [1], "values": [[1]]}]},
]


@pytest.mark.parametrize("body", BAD_POINTS)
def test_wrong_points_are_refused_whole(project: Project, body: Any) -> None:
    service = project.service("contributor")
    begun = project.begin()
    if isinstance(body, dict) and body.get("groups") and body["groups"] != [{}]:
        body = {"groups": [*points(2, "good")["groups"], *body["groups"]]}
    with pytest.raises(errors.InvalidInput):
        service.call("POST", project.run_path(begun, "points"), params={"batch": new_id()}, json=body)
    assert service.get(project.run_path(begun))["metric_names"] == []


@pytest.mark.parametrize("batch", ["", "x", "0190", None])
def test_a_batch_needs_an_id(project: Project, batch: str | None) -> None:
    begun = project.begin()
    params = {} if batch is None else {"batch": batch}
    with pytest.raises(errors.InvalidInput):
        project.service("contributor").call(
            "POST", project.run_path(begun, "points"), params=params, json=points(1, "a")
        )


def test_an_id_of_another_run_is_refused(project: Project) -> None:
    begun = project.begin()
    path = project.path("experiments", "other", "runs", begun["id"])
    with pytest.raises(errors.Conflict):
        project.service("contributor").call("PUT", path, json={"started_at": AT})


def test_curves_of_what_is_not_there(project: Project) -> None:
    begun = project.begin()
    service = project.service("viewer")
    found = service.get(project.path("curves"), metric="loss", run=[begun["reference"]])
    assert found["curves"][0]["values"] == []
    with pytest.raises(errors.NotFound, match="has no metric"):
        service.get(project.run_path(begun, "points"), metric="loss")
    for params in ({"width": 5}, {"width": 5000}, {"first_step": 2**70}):
        with pytest.raises(errors.InvalidInput):
            service.get(project.path("curves"), metric="loss", run=[begun["reference"]], **params)
