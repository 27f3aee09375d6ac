"""Anything at all in any request: answered with 2xx to 4xx, never with a 5xx, and errors are problem documents."""

from __future__ import annotations

import json
import random
import re
import tempfile
from pathlib import Path
from typing import Any

import httpx
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from kinetrum.core.base.ids import uuid7
from kinetrum.service.app import make_app
from tests.support.world import Project, new_id

EXAMPLES = 12
# Reads all that the tests before have stored, at every call.
FEWER = {"check_store": 4}
leaves = (
    st.none()
    | st.booleans()
    | st.integers()
    | st.integers(-(2**70), 2**70)
    | st.floats()
    | st.text(max_size=12)
    | st.sampled_from(
        ["NaN", "Infinity", "", " ", "\x00", "a" * 300, "../../x", "frost-alarm/1", "nights@1", "production"]
    )
)
anything = st.recursive(
    leaves,
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(st.text(max_size=8), inner, max_size=4),
    max_leaves=10,
)
words = st.sampled_from(
    [
        "1",
        "0",
        "-1",
        "99999999999999999999",
        "last",
        "best:recall",
        "best:",
        "lead",
        "latest",
        "production",
        "frost-alarm",
        "Frost",
        "nights",
        "ä",
        "a b",
        "%00",
        "'; DROP TABLE run; --",
        "null",
        "..",
        "x" * 300,
        "🍎",
        uuid7(1, b"0123456789"),
    ]
) | st.text(min_size=1, max_size=12)


def operations() -> list[tuple[str, str, str, dict[str, Any]]]:
    with tempfile.TemporaryDirectory() as folder:
        document = make_app(Path(folder)).openapi()
    found = []
    for path, methods in document["paths"].items():
        for method, operation in methods.items():
            if operation["operationId"] not in {"follow_project", "follow_all", "sign_out", "sign_in"}:
                found.append(
                    (operation["operationId"], method.upper(), path, {"doc": document, "operation": operation})
                )
    return found


def schema_of(found: dict[str, Any]) -> dict[str, Any] | None:
    body = found["operation"].get("requestBody", {}).get("content", {}).get("application/json", {}).get("schema")
    if body and "$ref" in body:
        body = found["doc"]["components"]["schemas"][body["$ref"].rpartition("/")[2]]
    return dict(body) if body else None


def nearly(schema: dict[str, Any] | None) -> st.SearchStrategy[Any]:
    """Bodies that have the right names and mostly wrong values, or are nothing of the kind."""
    if schema is None:
        return st.none()
    names = list(schema.get("properties", {}))
    ids = st.just("0190a1b2-c3d4-7000-8000-0123456789ab")
    by_name = {name: ids | anything if name in {"id", "parent"} else st.just(1) | anything for name in names}
    return st.fixed_dictionaries({}, optional=by_name) | anything


@pytest.mark.parametrize(
    ("name", "method", "path", "found"), operations(), ids=lambda value: value if isinstance(value, str) else ""
)
def test_any_request(project: Project, name: str, method: str, path: str, found: dict[str, Any]) -> None:
    begun = project.begin()
    project.generate(begun, b"something")
    parameters = [p for p in found["operation"].get("parameters", []) if p["in"] == "query"]
    fixed = {"project": project.name}
    headers = {"Authorization": f"Bearer {project.tokens['admin']}"}

    with httpx.Client(base_url=project.instance.url, headers=headers, timeout=30) as client:

        @settings(
            max_examples=FEWER.get(name, EXAMPLES),
            deadline=None,
            suppress_health_check=list(HealthCheck),
            database=None,
        )
        @given(data=st.data())
        def ask(data: st.DataObject) -> None:
            from urllib.parse import quote

            def place(match: re.Match[str]) -> str:
                key = match[1]
                good = {"experiment": "frost-alarm", "run": "1", "artifact": "frost-net", "version": "1"}.get(key)
                value = fixed.get(key) or (good if good and data.draw(st.booleans()) else data.draw(words))
                return quote(value, safe="")

            url = re.sub(r"\{(\w+)(?::path)?\}", place, path)
            params = {
                p["name"]: data.draw(words | st.integers().map(str)) for p in parameters if data.draw(st.booleans())
            }
            body = data.draw(nearly(schema_of(found)))
            content = None if body is None else json.dumps(body, allow_nan=True).encode("utf-8", "replace")
            if content is not None and data.draw(st.integers(0, 9)) == 0:
                content = content[: len(content) // 2]
            answer = client.request(
                method, url, params=params, content=content, headers={"Content-Type": "application/json"}
            )
            assert answer.status_code < 500, (url, params, content, answer.text)
            if answer.status_code >= 400:
                assert answer.headers["content-type"] == "application/problem+json", (url, answer.text)
                assert answer.json()["detail"]

        ask()


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
