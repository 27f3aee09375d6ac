"""Plots from Python: kept by evaluations and by name, away from the service, read back, laid over, declared anew."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest

import kinetrum
from kinetrum.client.spool.draining import drain
from kinetrum.core.base import errors
from tests.support.programs import run_script
from tests.support.world import Project


def frost(rows: int = 400) -> tuple[Any, Any]:
    chance = np.random.default_rng(7)
    truth = chance.integers(0, 2, rows)
    return truth, np.clip(truth * 0.4 + chance.random(rows) * 0.6, 0, 1)


def opened(reference: str) -> kinetrum.RecordedRun:
    found = kinetrum.open(reference)
    assert isinstance(found, kinetrum.RecordedRun)
    return found


def test_an_evaluation_keeps_the_plots_of_its_task(recording: Project) -> None:
    truth, score = frost()
    with kinetrum.begin("frost-alarm") as run:
        results = run.evaluate(truth, score, on="holdout")
        run.evaluate(truth + 0.5, score, task="regression")
        run.evaluate(["a", "b", "c"], ["a", "b", "b"], on="kinds")
    run.flush()
    plots = opened("frost-alarm/1").plots
    assert set(plots) == {
        *(f"holdout/{kind}" for kind in ("confusion", "roc", "precision_recall", "threshold", "calibration")),
        "predicted",
        "residuals",
        "kinds/confusion",
    }
    roc = plots["holdout/roc"]
    assert roc.numbers["area"] == pytest.approx(results["holdout/roc_auc"], abs=1e-12)
    assert roc.columns["threshold"][0] == float("inf")
    assert (roc.view["x"], roc.view["diagonal"]) == ("false_positive_rate", True)
    assert len(roc.to_pandas()) == len(roc.columns["threshold"])
    with pytest.raises(KeyError, match="has a plot 'holdout/cake'"):
        plots["holdout/cake"]


def test_one_plot_at_a_time_by_step(recording: Project) -> None:
    truth, score = frost()
    with kinetrum.begin("frost-alarm") as run:
        for epoch in run.progress(range(3)):
            numbers = run.plot.roc("holdout", truth, score + epoch / 10)
            run.plot.table("lows", {"day": [1, 2], "low_c": [-epoch, epoch]}, y_name="°C")
        run.plot.table("lows", {"day": [1, 2], "low_c": [9, 9]}, step=1)
        with pytest.raises(errors.InvalidInput, match="names the column 'nobody'"):
            run.plot.table("lows", {"day": [1]}, x="nobody")
        with pytest.raises(errors.InvalidInput, match="takes scores"):
            run.plot.roc("holdout", ["a", "b", "c"], ["a", "b", "b"])
    run.flush()
    assert {"area", "true positive rate at false positive rate 0.05"} <= set(numbers)
    plots = opened("frost-alarm/1").plots
    assert (plots.steps("lows"), len(plots)) == ([0, 1, 2], 2)
    assert (plots["lows"].columns["low_c"], plots.at("lows", 1).columns["low_c"]) == ([-2, 2], [9, 9])
    plots.declare("lows", mark="bars", title="Lowest")
    assert [plots.at("lows", step).view["title"] for step in (0, 1, 2)] == ["Lowest"] * 3
    with pytest.raises(errors.InvalidInput, match="one of line"):
        plots.declare("lows", mark="cake")


def test_frames_and_arrow_tables_are_taken(recording: Project) -> None:
    import pandas
    import pyarrow

    data = {"day": [1, 2], "low_c": [-0.5, None]}
    with kinetrum.begin("frost-alarm") as run:
        run.plot.table("frame", pandas.DataFrame(data), x="day")
        run.plot.table("arrow", pyarrow.table(data), x="day")
    run.flush()
    plots = opened("frost-alarm/1").plots
    assert plots["arrow"].columns["low_c"] == [-0.5, None]
    assert plots["frame"].columns["day"] == [1, 2]


SCRIPT = """
import kinetrum
with kinetrum.begin("frost-alarm") as run:
    run.plot.table("lows", {"day": [1, 2], "low_c": [-1, 1]})
print(run.id)
"""


def test_plots_wait_while_the_service_is_away(recording: Project, tmp_path: Path) -> None:
    uid = run_script(SCRIPT, KINETRUM_SENDER="off").stdout.strip()
    assert list((tmp_path / "spool").rglob("plot-*.json"))
    drain(tmp_path / "spool", 30)
    assert opened(uid).plots["lows"].columns == {"day": [1, 2], "low_c": [-1, 1]}
    assert list((tmp_path / "spool").rglob("plot-*.json")) == []


def test_refused_plots_are_set_aside_with_their_data(recording: Project, tmp_path: Path) -> None:
    from kinetrum.client.sender.operations import RunCalls
    from kinetrum.client.spool.rejected import send_again, set_aside

    admin, member = recording.instance.service(), recording.path("members", "a-contributor")
    run = kinetrum.begin("frost-alarm")
    run.flush()
    admin.call("PUT", member, json={"role": "viewer"})
    run.plot.table("lows", {"day": [1], "low_c": [2]})
    run.flush()
    admin.call("PUT", member, json={"role": "contributor"})
    assert len(set_aside(tmp_path / "spool", run.id)) == 1
    calls = RunCalls(tmp_path / "spool")
    assert send_again(tmp_path / "spool", calls) == (1, 0)
    calls.close()
    run.end()
    run.flush()
    assert opened("frost-alarm/1").plots["lows"].columns["low_c"] == [2]
