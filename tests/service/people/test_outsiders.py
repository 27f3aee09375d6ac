"""What an outsider learns: every answer is read as somebody who may not see a project, and searched for its names."""

from __future__ import annotations

import contextlib
import itertools
import re
import secrets
import tempfile
import threading
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import httpx
import pytest

from kinetrum.core.base import errors
from kinetrum.core.lineage.graph import HIDDEN
from kinetrum.service.app import make_app
from tests.service.data.test_files_api import keep
from tests.support.programs import wait_for
from tests.support.world import ALL_SCOPES, PASSWORD, Instance, Project, Service, new_id

# What is planted in the closed project; none of it may stand in an answer to who may not see it.
PLANTED = re.compile(r"xanthous|vermilion|porphyry|smaragd|ochre", re.I)


@dataclass(frozen=True)
class World:
    """A project that outsiders see, one that is closed to them, and links from each to the other."""

    project: Project
    closed: Project
    insider: Service
    # What is of the closed project alone: digests of files, ids of runs.
    ids: tuple[str, ...]


def _person(instance: Instance, name: str) -> str:
    admin = instance.service()
    admin.call("POST", "/people", json={"name": name, "full_name": name.upper(), "password": PASSWORD})
    return str(admin.call("POST", "/tokens", json={"name": "test", "person": name, "scopes": ALL_SCOPES})["secret"])


@pytest.fixture
def world(instance: Instance, project: Project) -> World:
    """Links lead both ways: parents, models registered from the other's artifacts, evidence of the other's runs."""
    tail = secrets.token_hex(3)
    token = _person(instance, f"insider-{tail}")
    admin, insider = instance.service(), instance.service(token)
    closed = Project(instance, f"xanthous-{tail}", {"contributor": token})
    admin.call("POST", "/projects", json={"name": closed.name, "description": "smaragd"})
    admin.call("PUT", closed.path("members", f"insider-{tail}"), json={"role": "maintainer"})
    admin.call("PUT", project.path("members", f"insider-{tail}"), json={"role": "contributor"})
    raw = keep(closed, "vermilion-readings", {"vermilion.csv": f"raw {tail}".encode()})
    there = closed.begin("ochre-tries", params={"smaragd": 1})
    insider.call(
        "POST", closed.run_path(there, "used"), json={"id": new_id(), "at": 2, "artifact": "vermilion-readings@1"}
    )
    closed.generate(there, f"a,b {tail}".encode(), "porphyry-data")
    # The project in sight: a child of the closed one's run, and models that cross over.
    here = project.begin("tries", parent=there["id"])
    project.generate(here, f"net {tail}".encode(), "net")
    versions = project.path("models", "frost-alarm", "versions")
    register(insider, versions, f"{closed.name}/porphyry-data@1", f"{closed.name}/ochre-tries/1")
    register(project.service("contributor"), versions, "net@1", "tries/1")
    of_closed = closed.path("models", "porphyry-model", "versions")
    register(insider, of_closed, f"{project.name}/net@1", f"{project.name}/tries/1", "smaragd")
    return World(project, closed, insider, (raw["digest"], there["id"]))


def register(service: Service, path: str, artifact: str, run: str, comment: str = "") -> None:
    service.call("POST", path, json={"id": new_id(), "artifact": artifact, "run": run, "comment": comment})


VALUES: dict[str, list[str]] = {
    "experiment": ["tries"],
    "run": ["1"],
    "artifact": ["net"],
    "version": ["1", "2"],
    "model": ["frost-alarm"],
    "stage": ["production"],
    "name": ["frost-alarm", "net", "status"],
    "of": ["tries/1", "net@1", "frost-alarm@1", "frost-alarm@2"],
    "by": ["parent", "author"],
    "text": ["xan", "p", "och", "@"],
    "find": ["", "p"],
    "left": ["net@1"],
    "right": ["net@1"],
    "against": ["parent", "previous", "1"],
    "path": ["net.onnx", "other.csv"],
    "metric": ["loss"],
    "column": ["parent", "author"],
    "digest": ["a" * 64],
    "sha256": ["a" * 64],
    "key": ["a"],
}


def _calls(world: World) -> list[tuple[str, dict[str, Any]]]:
    """Return every reading call with every value that makes sense: (path, parameters)."""
    with tempfile.TemporaryDirectory() as folder:
        paths = make_app(Path(folder)).openapi()["paths"]
    calls = []
    for path, operations in paths.items():
        if "get" not in operations or "{secret}" in path or "{link}" in path:
            continue
        if path.endswith("/events"):
            # A stream; what it tells goes by project, and another test reads it.
            continue
        inside = re.findall(r"\{(\w+)", path)
        queries = [one["name"] for one in operations["get"].get("parameters", []) if one["in"] == "query"]
        names = [name for name in dict.fromkeys([*inside, *queries]) if name in VALUES]
        for values in itertools.product(*(VALUES[name] for name in names)):
            chosen = dict(zip(names, values, strict=True)) | {"project": world.project.name}
            at = re.sub(r"\{(\w+)(:path)?\}", lambda part: chosen.get(part[1], "1"), path)  # noqa: B023
            params: dict[str, Any] = {name: chosen[name] for name in queries if name in chosen and name not in inside}
            if "run" in queries:
                params["run"] = ["tries/1", "tries/1"]
            if path == "/api/v1/find":
                params["project"] = world.project.name
            calls.append((at, params))
    return calls


@pytest.fixture
def client(instance: Instance) -> Iterator[httpx.Client]:
    with httpx.Client(base_url=instance.url, timeout=60) as client:
        yield client


def test_no_answer_names_what_is_closed(world: World, client: httpx.Client) -> None:
    """So many are read that a crawler that met nothing but 404 would be found out."""
    read = 0
    for role in ("viewer", "maintainer"):
        headers = {"Authorization": f"Bearer {world.project.tokens[role]}"}
        for path, params in _calls(world):
            answer = client.get(path, params=params, headers=headers)
            assert answer.status_code < 500 and answer.status_code != 429, (path, params)
            leak = PLANTED.search(answer.text) or next((one for one in world.ids if one in answer.text), None)
            assert leak is None, (role, path, params, leak, answer.text)
            read += answer.status_code == 200
    assert read > 200


def test_the_crawler_finds_what_there_is(world: World, client: httpx.Client) -> None:
    """Whoever sees both projects meets every planted name."""
    met = set()
    headers = {"Authorization": f"Bearer {world.project.instance.token}"}
    for path, params in _calls(world):
        answer = client.get(path, params=params, headers=headers)
        met |= {word.lower() for word in PLANTED.findall(answer.text)}
    assert met >= {"xanthous", "vermilion", "porphyry", "ochre"}


def _lineage(world: World, of: str, role: str = "viewer") -> dict[str, Any]:
    graph: dict[str, Any] = world.project.service(role).call("GET", world.project.path("lineage"), params={"of": of})
    return graph


def test_no_stream_names_what_is_closed(world: World, instance: Instance) -> None:
    """Of all that happens in the closed project and between the two, streams tell what is of the one in sight."""
    heard: list[str] = []
    heard_inside: list[str] = []
    paths = [world.project.path("events"), "/events"]
    with contextlib.ExitStack() as open_streams, httpx.Client(base_url=f"{instance.url}/api/v1", timeout=30) as client:
        outside = itertools.product(paths, [world.project.tokens[role] for role in ("viewer", "maintainer")], [heard])
        for path, token, into in [*outside, ("/events", world.closed.tokens["contributor"], heard_inside)]:
            headers = {"Authorization": f"Bearer {token}"}
            stream = open_streams.enter_context(client.stream("GET", path, headers=headers))
            assert stream.status_code == 200
            # The first part has come, so that nothing of what follows is missed.
            text = stream.iter_text()
            into.append(next(text))
            open_streams.callback(stream.close)
            threading.Thread(target=_hear, args=(text, into), daemon=True).start()
        hidden = world.closed.begin("ochre-again", params={"smaragd": 2})
        world.closed.generate(hidden, b"vermilion", "porphyry-more")
        world.insider.call(
            "POST",
            world.closed.path("notes"),
            json={"things": [hidden["reference"]], "id": new_id(), "text": "xanthous"},
        )
        register(
            world.insider,
            world.project.path("models", "frost-alarm", "versions"),
            f"{world.closed.name}/porphyry-more@1",
            f"{world.closed.name}/{hidden['reference']}",
        )
        last = world.project.begin("tries")
        wait_for(lambda: "".join(heard).count(f'"{last["reference"]}"') >= 4 and PLANTED.search("".join(heard_inside)))
    told = "".join(heard)
    leak = PLANTED.search(told) or next((one for one in (*world.ids, hidden["id"]) if one in told), None)
    assert leak is None, told
    # What is of the project in sight is told, and all of it to who sees both: streams that said nothing would pass too.
    assert "registered" in told
    assert PLANTED.search("".join(heard_inside))


def _hear(text: Iterator[str], heard: list[str]) -> None:
    with contextlib.suppress(httpx.HTTPError, httpx.StreamError):
        heard.extend(text)


def test_the_lineage_ends_where_the_projects_in_sight_do(world: World) -> None:
    graph = _lineage(world, "net@1")
    assert sorted(node["reference"] for node in graph["nodes"]) == sorted(["tries/1", "net@1", "frost-alarm@2", HIDDEN])
    assert graph["sentence"] == f"net@1 came from 1 run and led to 1 model version and {HIDDEN}."
    hidden = [edge for edge in graph["edges"] if "hidden:" in edge["source"] + edge["target"]]
    assert {(edge["relation"], edge["role"], edge["activity"], edge["step"]) for edge in hidden} == {
        ("registered", None, None, None),
    }
    only = _lineage(world, "frost-alarm@1")
    assert only["sentence"] == f"frost-alarm@1 came from {HIDDEN}."


def test_who_sees_both_projects_follows_the_lineage_through_them(world: World) -> None:
    graph = world.insider.call("GET", world.project.path("lineage"), params={"of": "frost-alarm@1"})
    closed = world.closed.name
    assert {node["reference"]: node["steps"] for node in graph["nodes"]} == {
        f"{closed}/vermilion-readings@1": -3,
        f"{closed}/ochre-tries/1": -2,
        f"{closed}/porphyry-data@1": -1,
        "frost-alarm@1": 0,
    }
    # A reference that was read can be asked for.
    there = world.insider.call("GET", world.project.path("lineage"), params={"of": f"{closed}/ochre-tries/1"})
    assert there["start"] == f"run:{closed}/ochre-tries/1"
    with pytest.raises(errors.NotFound, match="no project"):
        _lineage(world, f"{closed}/ochre-tries/1")


def test_prov_declares_what_it_hides(world: World) -> None:
    path = world.project.path("lineage", "prov")
    doc = world.project.service("viewer").call("GET", path, params={"of": "net@1"})
    labels = [one["prov:label"] for part in ("entity", "activity") for one in doc[part].values()]
    assert labels.count(HIDDEN) == 1
    assert PLANTED.search(str(doc)) is None


def test_a_parent_is_of_the_same_project(world: World) -> None:
    """A run of another project is none, whoever asks, and that is said; the run itself is kept."""
    there = world.insider.call("GET", world.closed.path("experiments", "ochre-tries", "runs", "1"))
    service = world.project.service("contributor")
    child = world.project.begin("tries", parent=there["id"])
    read = service.call("GET", world.project.run_path(child))
    assert read["parent"] is None
    assert [one["text"] for one in read["problems"]] == [
        "Its parent is not a run of this project; the run stands without a parent."
    ]
    own = service.call("GET", world.project.run_path(world.project.begin("tries", parent=child["id"])))
    assert (own["parent"], own["problems"]) == (child["reference"], [])
    # One that is not known yet may still come.
    late = new_id()
    first = world.project.begin("tries", parent=late)
    service.call("PUT", world.project.path("experiments", "tries", "runs", late), json={"started_at": 1})
    assert service.call("GET", world.project.run_path(first))["parent"] is not None


def test_a_parent_that_began_elsewhere_later_is_hidden(world: World) -> None:
    late = new_id()
    child = world.project.begin("tries", parent=late)
    world.insider.call("PUT", world.closed.path("experiments", "ochre-tries", "runs", late), json={"started_at": 1})
    assert world.project.service("viewer").call("GET", world.project.run_path(child))["parent"] is None
    assert _lineage(world, child["reference"])["sentence"].startswith(f"Run {child['reference']} came from {HIDDEN}")
    page = world.project.service("viewer").call("GET", world.project.path("experiments", "tries", "runs"))
    assert all(row["parent"] is None for row in page["rows"] if row["reference"] == child["reference"])
