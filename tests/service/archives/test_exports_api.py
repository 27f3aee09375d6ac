"""Whole tables over HTTP: what comes out reads back as it was recorded."""

from __future__ import annotations

import csv
import io
import json
import math
from typing import Any

import httpx
import numpy as np
import pyarrow
import pytest
from pyarrow import parquet

from kinetrum.core.rows.tables import ColumnType
from tests.support.programs import wait_for
from tests.support.world import Project, new_id

PARAMS = {
    "depth": 6,
    "rate": 1e-3,
    "whole": 5.0,
    "on": True,
    "none": None,
    "name": 'a, "b"\nc',
    "huge": 2**70,
    "nan": {"float": "NaN"},
    "units": [1, 2.5, "x"],
}


def fetch(project: Project, path: str, **params: Any) -> httpx.Response:
    with httpx.Client(base_url=f"{project.instance.url}/api/v1", timeout=30) as client:
        return client.get(path, params=params, headers={"Authorization": f"Bearer {project.tokens['viewer']}"})


@pytest.fixture
def table(project: Project) -> Project:
    service = project.service("contributor")
    for number in range(3):
        run = project.begin(params=PARAMS | {"depth": 6 + number} if number < 2 else {"depth": 8.5, "on": "maybe"})
        body = {"results": [{"id": new_id(), "key": "recall", "value": 0.1 + number, "at": 1}]}
        service.call("POST", project.run_path(run, "results"), json=body)
    return project


def test_runs_as_csv(table: Project) -> None:
    answer = fetch(table, table.path("experiments", "frost-alarm", "table"), form="csv", sort="recall:asc")
    assert answer.headers["content-type"].startswith("text/csv")
    rows = list(csv.DictReader(io.StringIO(answer.text, newline="")))
    assert [row["run"] for row in rows] == ["frost-alarm/1", "frost-alarm/2", "frost-alarm/3"]
    first = rows[0]
    assert {key: first[f"param:{key}"] for key in PARAMS} == {
        "depth": "6",
        "rate": "0.001",
        "whole": "5.0",
        "on": "true",
        "none": "null",
        "name": PARAMS["name"],
        "huge": str(2**70),
        "nan": "NaN",
        "units": '[1, 2.5, "x"]',
    }
    assert float(rows[1]["metric:recall"]) == 1.1
    assert rows[2]["param:rate"] == ""


def test_runs_as_json_lines(table: Project) -> None:
    answer = fetch(
        table,
        table.path("experiments", "frost-alarm", "table"),
        form="jsonl",
        query="depth >= 7",
        column=["recall", "depth", "nan"],
    )
    rows = [json.loads(line) for line in answer.text.splitlines()]
    assert [row["param:depth"] for row in rows] == [8.5, 7]
    assert rows[1]["param:nan"] == {"float": "NaN"}
    assert set(rows[0]) == {
        "run",
        "id",
        "name",
        "status",
        "author",
        "host",
        "started_at",
        "metric:recall",
        "param:depth",
    }


def test_runs_as_parquet_with_types(table: Project) -> None:
    answer = fetch(table, table.path("experiments", "frost-alarm", "table"), form="parquet", sort="recall:asc")
    found = parquet.read_table(pyarrow.BufferReader(answer.content))
    kinds = {name: str(found.schema.field(name).type) for name in found.column_names}
    assert kinds["param:rate"] == "double"
    assert kinds["param:depth"] == "double"
    assert kinds["param:on"] == "string"
    assert kinds["param:none"] == "string"
    assert found["param:depth"].to_pylist() == [6.0, 7.0, 8.5]
    assert found["param:on"].to_pylist() == ["true", "true", '"maybe"']
    assert math.isnan(found["param:nan"].to_pylist()[0])
    assert found["param:units"].to_pylist()[2] is None


def test_an_unknown_column_or_form_is_told_before_anything_is_sent(table: Project) -> None:
    path = table.path("experiments", "frost-alarm", "table")
    assert (
        fetch(table, path, column="dept")
        .json()["detail"]
        .endswith("none of the runs searched has 'dept'. Nearest: depth.")
    )
    for wrong in ({"form": "xls"}, {"query": "depth >"}, {"sort": "nothing"}):
        answer = fetch(table, path, **wrong)
        assert answer.status_code == 422
        assert answer.headers["content-type"] == "application/problem+json"


def test_points_in_every_form(project: Project) -> None:
    run = project.begin()
    service = project.service("contributor")
    values = [1.5, "NaN", "-Infinity", 0.1 + 0.2]
    body = {
        "groups": [
            {
                "keys": ["loss", "recall"],
                "steps": [0, 1, 1, 10**12],
                "times": [5, 6, 7, 8],
                "values": [values, [1, 2, 3, 4]],
            }
        ]
    }
    service.call("POST", project.run_path(run, "points"), params={"batch": new_id()}, json=body)
    path = project.run_path(run, "points", "table")
    rows = list(csv.DictReader(io.StringIO(fetch(project, path).text)))
    assert len(rows) == 8
    loss = [row for row in rows if row["metric"] == "loss"]
    assert [row["value"] for row in loss] == ["1.5", "NaN", "-Infinity", "0.30000000000000004"]
    assert loss[3]["step"] == str(10**12)
    assert loss[0]["time"] == "1970-01-01T00:00:00.000005Z"
    lines = fetch(project, path, form="jsonl", metric="loss").text.splitlines()
    assert json.loads(lines[1])["value"] == {"float": "NaN"}
    found = parquet.read_table(pyarrow.BufferReader(fetch(project, path, form="parquet", metric="recall").content))
    assert found["step"].to_pylist() == [0, 1, 1, 10**12]
    assert str(found.schema.field("time").type) == "timestamp[us, tz=UTC]"
    assert fetch(project, path, metric="los").status_code == 404


def test_a_long_metric_comes_whole_while_it_grows(project: Project) -> None:
    from kinetrum.client.reading.table_export import read_points
    from kinetrum.client.transport.session import Session
    from kinetrum.core.points.codec import BATCH_MEDIA_TYPE, Group, encode_batch

    run = project.begin()
    service = project.service("contributor")
    size = 60_000
    for part in range(5):
        steps = np.arange(part, size * 5, 5, dtype=np.int64)
        group = Group(("loss",), steps, steps + 1_000_000, np.sin(steps).reshape(1, -1))
        service.call(
            "POST",
            project.run_path(run, "points"),
            params={"batch": new_id()},
            content=encode_batch([group]),
            headers={"Content-Type": BATCH_MEDIA_TYPE},
        )
        session = Session(service, None)  # type: ignore[arg-type]
        found = read_points(session, project.run_path(run), "loss")
        assert len(found.steps) == size * (part + 1)
    assert found.steps.tolist() == list(range(size * 5))
    assert np.array_equal(found.values, np.sin(np.arange(size * 5)))
    compacted = wait_for(lambda: service.get(project.run_path(run))["metrics"].get("loss", {}).get("count") == size * 5)
    assert compacted
    assert np.array_equal(read_points(session, project.run_path(run), "loss").steps, found.steps)


@pytest.mark.parametrize(
    ("values", "kind", "mixed"),
    [
        ([1, 2], "int64", False),
        ([1, 2.5], "double", False),
        ([True], "bool", False),
        (["a"], "string", False),
        ([], "string", False),
        ([1, "a"], "string", True),
        ([True, 1], "string", True),
        ([2**70], "string", True),
        ([[1]], "list of int64", False),
        ([None, 3], "int64", False),
        ([[1], [2.5]], "list of double", False),
        ([["a"], []], "list of string", False),
        ([[]], "list of string", False),
        ([[True]], "list of bool", False),
        ([[1], ["a"]], "string", True),
        ([[1], 2], "string", True),
        ([[[1]]], "string", True),
        ([[None, 1]], "string", True),
        ([[2**70]], "string", True),
    ],
)
def test_column_types(values: list[Any], kind: str, mixed: bool) -> None:
    found = ColumnType(set())
    for value in values:
        found.see(value)
    assert (found.arrow, found.mixed) == (kind, mixed)


def test_one_metric_against_another(project: Project) -> None:
    run = project.begin()
    groups = [
        {"keys": ["loss"], "steps": [0, 1, 2, 3, 3], "times": [1, 2, 3, 4, 5], "values": [[4, 3, "NaN", 1, 0.5]]},
        {"keys": ["recall"], "steps": [1, 2, 3, 9], "times": [1, 2, 3, 4], "values": [[0.1, 0.2, "Infinity", 0.4]]},
    ]
    service = project.service("contributor")
    service.call("POST", project.run_path(run, "points"), params={"batch": new_id()}, json={"groups": groups})

    def curve(**more: Any) -> dict[str, Any]:
        found = service.get(project.path("curves"), metric="loss", run=run["reference"], against="recall", **more)[
            "curves"
        ]
        return found[0]

    whole = curve()
    assert (whole["steps"], whole["values"], whole["against"]) == ([1, 2, 3], [3.0, None, 0.5], [0.1, 0.2, None])
    assert curve(first_step=2, last_step=2)["steps"] == [2]
    assert service.get(project.path("curves"), metric="loss", run=run["reference"])["curves"][0]["against"] is None
    nothing = service.get(project.path("curves"), metric="loss", run=run["reference"], against="none")["curves"][0]
    assert nothing["steps"] == []
