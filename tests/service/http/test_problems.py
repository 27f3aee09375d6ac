"""Every wrong request is answered with a problem document; the interface says truly what it does."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import httpx
import pytest

from kinetrum.core.base import errors
from kinetrum.core.points.codec import BATCH_BYTE_LIMIT
from kinetrum.service.app import make_app
from tests.support.world import Instance, Project, new_id

ROOT = Path(__file__).parents[3]


def check(answer: httpx.Response, status: int, kind: str) -> dict[str, Any]:
    body = answer.json()
    assert answer.status_code == status, body
    assert answer.headers["content-type"] == "application/problem+json"
    assert set(body) == {"type", "title", "status", "detail", "field", "column"}
    assert body["type"] == f"urn:kinetrum:problem:{kind}"
    assert body["status"] == status
    assert "Traceback" not in body["detail"]
    return dict(body)


def test_unknown_addresses(raw: httpx.Client) -> None:
    check(raw.get("/nothing"), 404, "not-found")
    check(raw.get("/projects/none-such"), 404, "not-found")
    check(raw.delete("/projects"), 405, "method")


def test_broken_json_says_where(raw: httpx.Client, project: Project) -> None:
    path = project.path("experiments", "e", "runs", new_id())
    body = check(
        raw.put(path, content=b'{"started_at": 1,,}', headers={"Content-Type": "application/json"}), 400, "broken-json"
    )
    assert "key must be a string at line 1 column 18" in body["detail"]


def test_wrong_types_name_the_field(raw: httpx.Client, project: Project) -> None:
    path = project.path("experiments", "e", "runs", new_id())
    assert check(raw.put(path, json={"started_at": "x"}), 422, "invalid-input")["field"] == "started_at"
    assert check(raw.put(path, content=b"\xff\xfe"), 422, "invalid-input")


def test_no_credentials(instance: Any, raw: httpx.Client) -> None:
    with httpx.Client(base_url=f"{instance.url}/api/v1") as client:
        answer = client.get("/projects")
        check(answer, 401, "not-signed-in")
        assert answer.headers["WWW-Authenticate"].startswith("Bearer")
        check(client.get("/projects", headers={"Authorization": "Bearer ktm_wrong"}), 401, "not-signed-in")
        check(client.get("/projects", headers={"Authorization": "Basic eDp5"}), 401, "not-signed-in")
        assert client.get("/projects", headers={"Kinetrum-Token": instance.token}).status_code == 200
        assert client.get("/session").status_code == 204


@pytest.mark.parametrize("chunked", [False, True])
def test_a_body_over_the_limit(raw: httpx.Client, project: Project, chunked: bool) -> None:
    begun = project.begin()
    body: Any = b"x" * (BATCH_BYTE_LIMIT + 1)
    if chunked:
        piece = b"x" * (1 << 20)
        body = (piece for _ in range(BATCH_BYTE_LIMIT // len(piece) + 1))
    path = project.run_path(begun, "points")
    try:
        answer = raw.post(path, params={"batch": new_id()}, content=body, headers={"Content-Type": "application/json"})
    except httpx.WriteError:
        # The service may answer and close before everything was sent; it is still there.
        assert raw.get("/health").status_code == 200
        return
    check(answer, 413, "too-large")


def test_the_interface_document_is_todays(tmp_path: Path) -> None:
    document = json.loads((ROOT / "docs" / "reference" / "openapi.json").read_text())
    assert document == json.loads(json.dumps(make_app(tmp_path).openapi()))
    assert document["openapi"] == "3.1.0"
    names = [operation["operationId"] for path in document["paths"].values() for operation in path.values()]
    assert len(names) == len(set(names))
    for path in document["paths"].values():
        for operation in path.values():
            assert operation["summary"] or operation["description"]
            if "422" in operation["responses"]:
                assert list(operation["responses"]["422"]["content"]) == ["application/problem+json"]


def test_every_answer_is_hardened(raw: httpx.Client, instance: Any) -> None:
    answer = raw.get("/projects")
    assert answer.headers["x-content-type-options"] == "nosniff"
    assert answer.headers["cache-control"] == "no-store"
    page = httpx.get(f"{instance.url}/anything/at/all")
    assert page.status_code == 200
    policy = page.headers["content-security-policy"]
    assert "default-src 'none'" in policy
    assert "frame-ancestors 'none'" in policy
    assert "unsafe" not in policy


@pytest.mark.parametrize("path", ["/../pyproject.toml", "/%2e%2e/app.py", "/assets/..%2f..%2fapp.py", "/..%5capp.py"])
def test_files_outside_the_console_are_not_served(instance: Any, path: str) -> None:
    answer = httpx.get(instance.url + path)
    assert "import" not in answer.text
    assert answer.status_code in {200, 404}


@pytest.mark.parametrize(
    ("time", "unit"),
    [(10**9, "seconds"), (1_790_000_000, "seconds"), (1_790_000_000_000, "milliseconds"), (10**13 - 1, "milliseconds")],
)
def test_times_in_other_units_are_refused(project: Project, time: int, unit: str) -> None:
    told = f"{time} looks like {unit}; times are whole microseconds since 1970"
    with pytest.raises(errors.InvalidInput, match=told):
        project.begin(started_at=time)
    run = project.begin()
    group = {"keys": ["loss"], "steps": [0], "times": [time], "values": [[1]]}
    with pytest.raises(errors.InvalidInput, match=told):
        project.service("contributor").call(
            "POST", project.run_path(run, "points"), params={"batch": new_id()}, json={"groups": [group]}
        )


@pytest.mark.parametrize("time", [0, 10**9 - 1, 10**13, 1_790_000_000_000_000])
def test_other_times_are_taken(project: Project, time: int) -> None:
    assert project.begin(started_at=time)["number"] == 1


@pytest.mark.parametrize("path", ["metrics", "traces", "logs"])
def test_exporters_of_telemetry_are_told_where_to_go(instance: Instance, path: str) -> None:
    answer = httpx.post(
        f"{instance.url}/v1/{path}", content=b"\x0a\x00", headers={"Content-Type": "application/x-protobuf"}
    )
    assert answer.status_code == 404
    assert "OpenTelemetry's protocol is not taken here, and nothing was kept" in answer.json()["detail"]


@pytest.mark.parametrize("since", ["0001-01-01T00:00:00+14:00", "9999-12-31T23:59:59-14:00"])
def test_a_moment_outside_the_calendar_is_told(raw: httpx.Client, since: str) -> None:
    body = check(raw.get("/today", params={"since": since}), 422, "invalid-input")
    assert "outside the calendar" in body["detail"]
    assert raw.get("/today", params={"since": "2026-10-01T00:00:00+14:00"}).status_code == 200
