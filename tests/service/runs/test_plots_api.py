"""Plots over HTTP: kept once, listed, read over several runs, declared anew, refused where they are no good."""

from __future__ import annotations

from typing import Any

import httpx
import pytest

from kinetrum.core.base import errors
from tests.support.world import Project, new_id

AT = 1_790_000_000_000_000
LOWS = {"day": [1, 2, 3], "low_c": [-2.5, 0.5, None], "station": ["top", "top", "wall"]}
VIEW = {"mark": "line", "x": "day", "y": ["low_c"], "title": "Lows", "y_name": "low (°C)"}


def add(project: Project, begun: dict[str, Any], name: str = "lows", **fields: Any) -> dict[str, Any]:
    body = {"id": new_id(), "at": AT, "name": name, "columns": LOWS, "view": VIEW, **fields}
    project.service("contributor").call("POST", project.run_path(begun, "plots"), json=body)
    return body


def read(project: Project, *runs: str, name: str = "lows", **params: Any) -> dict[str, Any]:
    found: dict[str, Any] = project.service("viewer").get(project.path("plots"), run=list(runs), name=name, **params)
    return found


def test_a_plot_is_kept_as_it_was_given(project: Project) -> None:
    begun = project.begin()
    body = add(project, begun, numbers={"area": 0.5, "odd": {"float": "NaN"}}, kind="roc", note="Thinned.")
    project.service("contributor").call("POST", project.run_path(begun, "plots"), json=body)
    (listed,) = project.service("viewer").get(project.run_path(begun, "plots"))
    assert (listed["name"], listed["kind"], listed["rows"], listed["step"]) == ("lows", "roc", 3, None)
    (plot,) = read(project, begun["reference"])["plots"]
    assert (plot["columns"], plot["numbers"], plot["note"]) == (
        LOWS,
        {"area": 0.5, "odd": {"float": "NaN"}},
        "Thinned.",
    )
    assert plot["view"] == VIEW | {
        "group": None,
        "x_name": "",
        "x_scale": "linear",
        "y_scale": "linear",
        "share": "count",
        "diagonal": False,
    }
    assert plot["declared"] is False


def test_steps_are_kept_apart_and_the_later_of_one_is_shown(project: Project) -> None:
    begun = project.begin()
    for step, low in ((1, -1.0), (2, -2.0), (2, -3.0)):
        add(project, begun, step=step, at=AT + step, columns=LOWS | {"low_c": [low] * 3})
    assert [row["step"] for row in project.service().get(project.run_path(begun, "plots"))] == [1, 2]
    assert read(project, begun["reference"])["plots"][0]["columns"]["low_c"][0] == -3.0
    assert read(project, begun["reference"], step=1)["plots"][0]["columns"]["low_c"][0] == -1.0
    with pytest.raises(errors.NotFound, match="at step 9; there are lows"):
        read(project, begun["reference"], step=9)


def test_plots_of_several_runs_are_read_together(project: Project) -> None:
    first, second, third = (project.begin() for _ in range(3))
    for begun in (second, first):
        add(project, begun)
    found = read(project, first["reference"], third["reference"], second["reference"])
    assert [plot["run"] for plot in found["plots"]] == [first["reference"], second["reference"]]
    assert found["without"] == [third["reference"]]
    with pytest.raises(errors.NotFound, match=r"has a plot 'roc'; there are lows"):
        read(project, first["reference"], name="roc")
    with pytest.raises(errors.InvalidInput):
        read(project, *[first["reference"]] * 51)


def test_how_it_is_drawn_is_declared_anew(project: Project) -> None:
    begun = project.begin()
    for step in (1, 2):
        add(project, begun, step=step)
    service, path = project.service("contributor"), project.run_path(begun, "plots")
    changed = service.call("PATCH", path, json={"name": "lows", "view": {"group": "station", "y_scale": "log"}})
    assert {(row["view"]["group"], row["view"]["y_scale"], row["view"]["title"]) for row in changed} == {
        ("station", "log", "Lows")
    }
    # A later step is drawn as the earlier ones were declared, where its columns allow.
    add(project, begun, step=3)
    add(project, begun, step=4, columns={"day": [1], "low_c": [1]})
    views = {row["step"]: row for row in service.get(path)}
    assert (views[3]["view"]["group"], views[3]["declared"], views[4]["view"]["group"]) == ("station", True, None)
    for wrong, told in (
        ({"x": "nobody"}, "names the column"),
        ({"mark": "pie"}, "one of line"),
        ({"hue": 1}, "no 'hue'"),
    ):
        with pytest.raises(errors.InvalidInput, match=told):
            service.call("PATCH", path, json={"name": "lows", "view": wrong})
    with pytest.raises(errors.NotFound, match="has no plot 'roc'"):
        service.call("PATCH", path, json={"name": "roc", "view": {"x": "day"}})
    with pytest.raises(errors.NotAllowed):
        project.service("viewer").call("PATCH", path, json={"name": "lows", "view": {"x": "day"}})
    entries = project.service("maintainer").get(project.path("journal"))
    told = [entry for entry in entries if entry["act"] == "declared a plot anew"]
    assert "lows group" in {key for entry in told for key in entry["after"]}
    assert all(entry["before"].keys() == entry["after"].keys() for entry in told)
    assert not any(isinstance(value, dict) for entry in told for value in entry["after"].values())


@pytest.mark.parametrize(
    ("change", "field"),
    [
        ({"columns": {"day": [1], "low_c": [1, 2]}}, "columns"),
        ({"columns": {"day": [[1]], "low_c": [1]}}, "columns"),
        ({"columns": {}}, "view.x"),
        ({"view": {"x": "day"}}, "view.y"),
        ({"view": {**VIEW, "mark": "cake"}}, "view.mark"),
        ({"numbers": {"area": "much"}}, "numbers"),
        ({"name": ""}, None),
        ({"name": "a\nb"}, None),
        ({"columns": {f"c{at}": [1] for at in range(41)}}, "columns"),
        ({"step": 2**63}, None),
        ({"columns": LOWS | {"low_c": [0] * 100_001}}, "columns"),
        ({"id": "x"}, None),
        ({"note": "x" * 2_001}, "note"),
    ],
)
def test_what_is_no_good_is_refused_whole(project: Project, raw: httpx.Client, change: Any, field: str | None) -> None:
    begun = project.begin()
    body = {"id": new_id(), "at": AT, "name": "lows", "columns": LOWS, "view": VIEW, **change}
    answer = raw.post(project.run_path(begun, "plots"), json=body)
    assert answer.status_code in {413, 422}, answer.text
    assert answer.json()["detail"]
    if field:
        assert answer.json()["field"] == field
    assert raw.get(project.run_path(begun, "plots")).json() == []


def test_a_purged_run_has_no_plots_left(project: Project) -> None:
    begun = project.begin()
    add(project, begun)
    service = project.service("contributor")
    service.call("POST", project.run_path(begun, "ending"), json={"status": "finished", "ended_at": AT + 9})
    service.call("POST", project.path("bin"), json={"things": [begun["reference"]]})
    project.service("maintainer").call("POST", project.path("purges"), json={"things": None})
    assert service.get(project.run_path(begun, "plots")) == []
