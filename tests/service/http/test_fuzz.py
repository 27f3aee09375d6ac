"""Every operation with what its description allows and what it does not, on things that are there and that are not.

Answers are as the description says: never a 5xx, of a described status, kind and form.
"""

from __future__ import annotations

import hashlib
import json
import os
import random
import secrets
import tempfile
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import httpx
import pytest
import requests
import schemathesis
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from schemathesis.checks import not_a_server_error
from schemathesis.generation import GenerationMode
from schemathesis.specs.openapi.checks import (
    content_type_conformance,
    response_schema_conformance,
    status_code_conformance,
)

from kinetrum.service.app import make_app
from tests.support.world import PASSWORD, ROLES, Instance, Project, new_id

# `make soak` sets more.
EXAMPLES = int(os.environ.get("KINETRUM_TEST_EXAMPLES", "6"))
# Reads all that the tests before have stored, at every call.
FEWER = {"check_store": 3}
# Streams without an end; and wrong passwords, which would slow every other test of this address.
LEFT_OUT = {"follow_project", "follow_all", "sign_out", "sign_in"}
# What they are about is not there: an invitation that is open, a provider, a deleted project, a plot.
NOT_THERE = {
    "read_account_link",
    "open_account_link",
    "sign_in_elsewhere",
    "come_back",
    "restore_project",
    "remove_project",
    "declare_view",
}
# Lists of pairs, whose description the check reads in the form of an older standard, and refuses.
PAIRS = {"preview_file"}
CHECKS = [not_a_server_error, status_code_conformance, content_type_conformance, response_schema_conformance]


def fresh_project(instance: Instance, people: dict[str, str]) -> Project:
    name = f"p-{secrets.token_hex(5)}"
    instance.service().call("POST", "/projects", json={"name": name})
    for role in ROLES:
        instance.service().call("PUT", f"/projects/{name}/members/a-{role}", json={"role": role})
    return Project(instance, name, people)


def _operations() -> dict[str, schemathesis.APIOperation]:
    with tempfile.TemporaryDirectory() as folder:
        described = make_app(Path(folder)).openapi()
    every = [found.ok() for found in schemathesis.openapi.from_dict(described).get_all_operations()]
    by_name = {operation.definition.raw["operationId"]: operation for operation in every}
    return {name: operation for name, operation in by_name.items() if name not in LEFT_OUT}


OPERATIONS = _operations()


@dataclass(frozen=True)
class Things:
    """What is there: values for parts of addresses, for parameters of queries, and for fields of bodies."""

    project: Project
    in_path: dict[str, str]
    in_query: dict[str, Any]
    in_body: dict[str, Any]


def make_things(project: Project) -> Things:
    """Make one of everything: a run with points, a version of an artifact and of a model, a note, a view, a link."""
    admin, name = project.service("admin"), f"z-{secrets.token_hex(5)}"
    content = secrets.token_bytes(20)
    begun = project.begin()
    groups = [{"keys": ["loss"], "steps": [1, 2], "times": [1, 2], "values": [[0.5, 0.25]]}]
    admin.call("POST", project.run_path(begun, "points"), params={"batch": new_id()}, json={"groups": groups})
    project.generate(begun, content)
    run, kept, sha256 = "frost-alarm/1", "frost-net@1", hashlib.sha256(content).hexdigest()
    version = {"id": new_id(), "artifact": kept, "run": run, "comment": ""}
    project.service("contributor").call("POST", project.path("models", "frost-alarm", "versions"), json=version)
    admin.call("POST", project.path("notes"), json={"things": [run], "id": new_id(), "text": "noted"})
    (note,) = admin.get(project.path("notes"), of=run)
    goal = project.path("experiments", "frost-alarm", "goal")
    admin.call("PUT", goal, params={"key": "loss"}, json={"direction": "lower"})
    seen, view = {"experiment": "frost-alarm", "arrangement": {}}, new_id()
    admin.call("PUT", project.path("views", view), json={"name": "mine", **seen})
    link = admin.call("POST", project.path("links"), json=seen)
    admin.call("PUT", project.path("secrets", "frost-alarm"), json={"value": "x"})
    admin.call("POST", "/people", json={"name": name, "full_name": "Z", "password": PASSWORD})
    for path in ("/tokens", project.path("tokens")):
        admin.call("POST", path, json={"name": name, "scopes": ["read"]})
    shared = {"person": name, "metric": "loss", "stage": "production", "sha256": sha256, "project": project.name}
    in_path = {
        **shared,
        "experiment": "frost-alarm",
        "run": "1",
        "artifact": "frost-net",
        "version": "1",
        "model": "frost-alarm",
        "name": "frost-alarm",
        "path": "net.onnx",
        "token": name,
        "group": "growers",
        "note": note["id"],
        "view": view,
        "activity": "1",
        "link": str(link["number"]),
        "secret": link["secret"],
    }
    in_query = {
        **shared,
        "key": "loss",
        "run": run,
        "of": run,
        "left": kept,
        "right": kept,
        "artifact": kept,
        "path": "net.onnx",
    }
    in_body = {**shared, "id": new_id(), "run": run, "of": run, "artifact": kept, "model": "frost-alarm", "version": 1}
    return Things(
        project,
        in_path,
        in_query,
        {**in_body, "things": [run], "runs": [run], "experiment": "frost-alarm", "run_id": begun["id"]},
    )


def fitted(value: Any, known: dict[str, Any]) -> Any:
    """Return a body in which fields name things that are there."""
    if isinstance(value, dict):
        return {key: known[key] if key in known else fitted(one, known) for key, one in value.items()}
    return [fitted(one, known) for one in value] if isinstance(value, list) else value


@st.composite
def spoiled(draw: st.DrawFn, value: Any) -> Any:
    """Return a body with half a character, as JSON can write it and no text has it, in one of its texts."""
    if isinstance(value, dict) and value:
        key = draw(st.sampled_from(sorted(value, key=str)))
        return {**value, key: draw(spoiled(value[key]))}
    if isinstance(value, list) and value:
        at = draw(st.integers(0, len(value) - 1))
        return [*value[:at], draw(spoiled(value[at])), *value[at + 1 :]]
    return f"{value}\ud800" if isinstance(value, str) else "\udfff"


@schemathesis.serializer("application/zip")
def as_it_is(context: Any, value: Any) -> dict[str, bytes]:
    return {"data": value if isinstance(value, bytes) else str(value).encode("utf-8", "replace")}


@pytest.fixture(scope="module")
def shared_things(instance: Instance, people: dict[str, str]) -> Things:
    """What nobody changes: for calls that read."""
    return make_things(fresh_project(instance, people))


@pytest.fixture(scope="module")
def asking(instance: Instance) -> Iterator[requests.Session]:
    with requests.Session() as session:
        session.headers["Authorization"] = f"Bearer {instance.token}"
        yield session


@pytest.mark.parametrize("name", OPERATIONS)
def test_answers_are_as_described(name: str, asking: requests.Session, request: pytest.FixtureRequest) -> None:
    operation = OPERATIONS[name]
    reads = operation.method.upper() == "GET"
    things: Things = (
        request.getfixturevalue("shared_things") if reads else make_things(request.getfixturevalue("project"))
    )
    there = {key: value for key, value in things.in_path.items() if f"{{{key}" in operation.path}
    if "/runs/" in operation.path and "experiment" not in there:
        there["run"] = things.in_body["run_id"]
    nowhere = {key: value for key, value in there.items() if key == "project"}
    on_things = operation.as_strategy(GenerationMode.POSITIVE, path_parameters=there)
    anything = st.one_of(operation.as_strategy(mode, path_parameters=nowhere) for mode in GenerationMode)
    statuses: Counter[tuple[bool, int]] = Counter()

    @settings(max_examples=FEWER.get(name, EXAMPLES), suppress_health_check=list(HealthCheck), database=None)
    @given(data=st.data())
    def ask(data: st.DataObject) -> None:
        fits = data.draw(st.integers(0, 2)) > 0
        case = data.draw(on_things if fits else anything)
        if fits:
            case.body = fitted(case.body, things.in_body)
            case.query = {key: things.in_query.get(key, value) for key, value in (case.query or {}).items()}
        if isinstance(case.body, dict) and "is_admin" in case.body:
            # One administrator more would change what other tests of this instance find.
            case.body["is_admin"] = False
        if not fits and isinstance(case.body, dict | list) and data.draw(st.booleans()):
            address = f"{things.project.instance.url}{case.formatted_path}"
            body = json.dumps(data.draw(spoiled(case.body)))
            kind = {"Content-Type": "application/json"}
            answer: Any = asking.request(
                operation.method, address, params=case.query, data=body, headers=kind, timeout=30
            )
        else:
            answer = case.call(base_url=things.project.instance.url, session=asking, timeout=30)
        case.validate_response(answer, checks=CHECKS[:-1] if name in PAIRS else CHECKS)
        statuses[fits, answer.status_code] += 1
        if answer.status_code >= 400:
            assert answer.json()["detail"]

    ask()
    if name not in NOT_THERE:
        # What fits meets something: an answer that is always 404 would try nothing behind it.
        assert any(fits and status != 404 for fits, status in statuses), statuses


def test_any_bytes_as_points(project: Project) -> None:
    chance = random.Random(5)
    begun = project.begin()
    headers = {
        "Authorization": f"Bearer {project.tokens['contributor']}",
        "Content-Type": "application/vnd.kinetrum.points",
    }
    with httpx.Client(base_url=f"{project.instance.url}/api/v1", headers=headers) as client:
        for _ in range(60):
            body = (b"KPB1" if chance.random() < 0.7 else b"") + chance.randbytes(chance.randrange(80))
            answer = client.post(project.run_path(begun, "points"), params={"batch": new_id()}, content=body)
            assert answer.status_code == 422, answer.text
    assert project.service().get(project.run_path(begun))["metric_names"] == []
