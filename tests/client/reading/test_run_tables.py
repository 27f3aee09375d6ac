"""Finding from Python: the same tables as in the console, as lines of code say, whole and without holding it all."""

from __future__ import annotations

import subprocess
import sys

import httpx
import pytest

import kinetrum
from kinetrum.client.transport.http import Service
from kinetrum.core.base import errors
from tests.service.search.test_search_api import AT, add
from tests.support.world import Project, new_id


@pytest.fixture
def table(recording: Project) -> Project:
    project = recording
    for seed in range(3):
        add(project, {"recall": 0.9 + seed / 100}, params={"learner": "forest", "depth": 5, "seed": seed})
    add(project, {"recall": 0.5}, params={"learner": "boost", "depth": 9, "seed": 0}, labels={"purpose": "baseline"})
    return project


def test_groups_as_data(table: Project) -> None:
    found = kinetrum.runs(experiment="frost-alarm", sort="recall").groups(columns=["recall", "learner", "seed"])
    assert (len(found), found.columns) == (2, ["recall", "learner", "seed"])
    first = found[0]
    assert (first.runs, first.last_run, first.shared) == (3, "frost-alarm/3", {"learner": "forest"})
    assert first.spreads["recall"].mean == pytest.approx(0.91)
    assert first.spreads["recall"].deviation == pytest.approx(0.01)
    assert (first.spreads["seed"].low, first.spreads["seed"].high) == (0, 2)
    assert [run.reference for run in kinetrum.runs(first.query, experiment="frost-alarm", sort="number:asc")] == [
        f"frost-alarm/{number}" for number in (1, 2, 3)
    ]
    by_learner = kinetrum.runs(experiment="frost-alarm").groups("learner", ["recall"])
    frame = by_learner.to_pandas()
    assert frame.columns.tolist() == ["learner", "runs", "last_run", "recall", "recall ±"]
    assert frame["runs"].tolist() == [1, 3]
    assert [group.value for group in by_learner[:1]] == ["boost"]


def test_frames_have_lists_whole_numbers_and_moments(recording: Project) -> None:
    import pandas

    for params in ({"units": [8, 16], "big": 2**53 + 1, "mixed": [1, "a"]}, {"units": [4], "mixed": 3}, {"units": []}):
        kinetrum.begin("typed", params=params).end()
    frame = kinetrum.runs(experiment="typed", sort="number:asc").to_pandas()
    assert frame["units"].tolist() == [[8, 16], [4], []]
    assert all(type(value) is list for value in frame["units"])
    assert str(frame["big"].dtype) == "Int64"
    assert frame["big"][0] == 2**53 + 1
    assert frame["big"].isna().tolist() == [False, True, True]
    assert frame["mixed"].tolist()[:2] == ['[1, "a"]', "3"]
    assert isinstance(frame["started_at"].dtype, pandas.DatetimeTZDtype)
    assert (frame["ended_at"] >= frame["started_at"]).all()
    now = pandas.Timestamp.now("UTC")
    assert abs((now - frame["started_at"][0]).total_seconds()) < 600


def test_columns_and_remarks(table: Project) -> None:
    found = kinetrum.runs(
        "depth = 5", experiment="frost-alarm", columns=["recall", "seed", "duration"], sort="seed:asc"
    )
    assert found.to_pandas()["seed"].tolist() == [0, 1, 2]
    assert "learner" not in found.to_pandas().columns
    add(table, {"depth": 1}, params={"depth": 5})
    assert (
        "depth is a result or metric and a parameter here"
        in kinetrum.runs("depth = 1", experiment="frost-alarm").remarks[0]
    )


def test_a_saved_view_read_in_code_and_terminal(table: Project) -> None:
    body = {
        "name": "deep ones",
        "experiment": "frost-alarm",
        "arrangement": {"q": "depth = 9", "cols": "recall,learner", "sort": "recall:asc", "group": "learner"},
    }
    table.service("contributor").call("PUT", table.path("views", new_id()), json=body)
    assert kinetrum.runs(view="deep ones").references == ["frost-alarm/4"]
    assert kinetrum.runs("depth = 5", view="deep ones").references == [f"frost-alarm/{number}" for number in (1, 2, 3)]
    with pytest.raises(errors.NotFound, match="it has 'deep ones'"):
        kinetrum.runs(view="deep one")
    done = subprocess.run(
        [sys.executable, "-m", "kinetrum.cli.main", "runs", "--view", "deep ones"],
        capture_output=True,
        text=True,
        check=True,
    )
    assert "boost" in done.stdout
    assert "1 of 1 groups by param:learner" in done.stdout


def test_points_of_many_runs(table: Project) -> None:
    for number in (1, 2):
        with kinetrum.attach(f"frost-alarm/{number}") as run:
            for step in range(3):
                run.measure(loss=number + step, step=step)
    kinetrum_runs = kinetrum.runs(experiment="frost-alarm", sort="number")
    from tests.support.programs import wait_for

    wait_for(lambda: _has_points(2))
    table_of_points = kinetrum_runs.series("loss")
    assert table_of_points.num_rows == 6
    assert set(table_of_points["run"].to_pylist()) == {"frost-alarm/1", "frost-alarm/2"}
    text = b"".join(kinetrum_runs.series_table("loss")).decode().splitlines()
    assert text[0] == "run,metric,step,time,value"
    assert len(text) == 7
    with pytest.raises(errors.NotFound, match="lost"):
        kinetrum_runs.series("lost")


def _has_points(runs: int) -> bool:
    try:
        return kinetrum.runs("count(loss) >= 3", experiment="frost-alarm").total == runs
    except errors.InvalidInput:
        return False


def test_times_are_asked(table: Project) -> None:
    assert AT == 1_790_000_000_000_000
    assert len(kinetrum.runs("started = 2026-09-21", experiment="frost-alarm")) == 4
    assert len(kinetrum.runs("started < 2026-09-21", experiment="frost-alarm")) == 0


def test_the_next_line_reads_what_the_last_one_wrote(recording: Project) -> None:
    for turn in range(4):
        name = f"search-{turn}"
        for at in range(5):
            with kinetrum.begin(name, params={"depth": at}, goals={"loss": "lower"}) as run:
                run.measure(loss=5 - at)
        assert kinetrum.open(f"{name}/best:loss").params["depth"] == 4
        assert [found.number for found in kinetrum.runs("loss <= 3", experiment=name, sort="loss")] == [5, 4, 3]
        assert kinetrum.open(f"{name}/2").values["loss"] == 4


def test_what_was_flushed_of_a_run_that_goes_on_is_read(recording: Project) -> None:
    run = kinetrum.begin("goes-on")
    for step in range(5):
        run.measure(loss=step)
        run.flush()
        assert kinetrum.open("goes-on/1").values["loss"] == step
    run.end()


def test_an_answer_that_is_behind_says_so(recording: Project, monkeypatch: pytest.MonkeyPatch) -> None:
    def behind(request: httpx.Request) -> httpx.Response:
        return httpx.Response(200, headers={"Kinetrum-Behind": "2"}, json={"rows": []})

    service = Service("http://127.0.0.1:1", None)
    monkeypatch.setattr(service, "_client", httpx.Client(base_url="http://x", transport=httpx.MockTransport(behind)))
    with pytest.warns(UserWarning, match="The newest points of 2 runs are not in this answer yet"):
        service.get("/projects")
    service.close()


@pytest.mark.parametrize(("lacking", "said"), [("pandas", r"kinetrum\[pandas\]"), ("pyarrow", r"kinetrum\[arrow\]")])
def test_a_missing_package_is_named_with_the_way_to_it(
    table: Project, monkeypatch: pytest.MonkeyPatch, lacking: str, said: str
) -> None:
    found = kinetrum.runs(experiment="frost-alarm")
    monkeypatch.setitem(sys.modules, lacking, None)
    with pytest.raises(errors.NotFound, match=f"pip install '{said}'"):
        found.to_pandas()
    if lacking == "pandas":
        with pytest.raises(errors.NotFound, match="takes pandas"):
            found.groups("learner").to_pandas()


def test_an_experiment_is_opened_described_and_labelled(table: Project) -> None:
    found = kinetrum.open("frost-alarm")
    assert isinstance(found, kinetrum.Experiment)
    found.description = "Nights below zero."
    found.label(purpose="season", draft="yes")
    found.label(draft=None)
    same = kinetrum.open("experiment:frost-alarm")
    assert isinstance(same, kinetrum.Experiment)
    assert (same.description, same.labels) == ("Nights below zero.", {"purpose": "season"})
    assert same.data["runs"] == 4
    with pytest.raises(errors.InvalidInput, match="is an experiment; name a run of it, such as frost-alarm/last"):
        kinetrum.fetch("frost-alarm")
    with pytest.raises(errors.NotFound):
        kinetrum.open("experiment:none")
