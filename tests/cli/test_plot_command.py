"""`kinetrum plot`: plots and curves on the terminal and in files, of one run and of several, declared anew."""

from __future__ import annotations

import csv
import io
import json
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

import numpy as np
import pytest

import kinetrum
from tests.cli.test_commands import Out, run
from tests.support.world import Project


def frost(shift: float) -> tuple[Any, Any]:
    chance = np.random.default_rng(7)
    truth = chance.integers(0, 2, 300)
    return truth, np.clip(truth * shift + chance.random(300) * 0.6, 0, 1)


@pytest.fixture
def plotted(recording: Project) -> Project:
    """Two runs with an evaluation each, the second one better; the first has a table and a metric besides."""
    for shift in (0.2, 0.4):
        with kinetrum.begin("frost-alarm") as begun:
            begun.evaluate(*frost(shift), on="holdout")
            if shift == 0.2:
                begun.plot.table("lows", {"station": ["top", "wall"], "low_c": [-2.5, 1.0], "day": [1, 2]})
                for step in range(50):
                    begun.measure(loss=1 / (step + 1), step=step)
        begun.flush()
    return recording


def test_plots_are_listed(plotted: Project, capsys: Out) -> None:
    lines = run(capsys, "plot", "frost-alarm/1")[1].splitlines()
    assert [line.split()[0] for line in lines[1:]] == [
        "holdout/calibration",
        "holdout/confusion",
        "holdout/precision_recall",
        "holdout/roc",
        "holdout/threshold",
        "lows",
    ]
    assert "area 0." in next(line for line in lines if line.startswith("holdout/roc"))
    assert len(json.loads(run(capsys, "plot", "frost-alarm/1", "--json")[1])) == 6


def test_two_runs_lie_over_one_another_with_their_numbers(plotted: Project, capsys: Out) -> None:
    status, text, _ = run(capsys, "plot", "frost-alarm/1", "holdout/roc", "--with", "frost-alarm/2")
    assert status == 0
    assert "false positive rate" in text
    head, areas = next(
        (lines[at], lines[at + 1])
        for lines in [text.splitlines()]
        for at, line in enumerate(lines)
        if line.endswith("change")
    )
    assert head.split() == ["frost-alarm/1", "frost-alarm/2", "change"]
    name, first, second, change = areas.split()
    assert name == "area"
    assert float(change) == pytest.approx(float(first) - float(second), abs=1e-3)
    assert change[0] in "-−"
    data = json.loads(run(capsys, "plot", "frost-alarm/1", "holdout/roc", "--with", "frost-alarm/2", "--json")[1])
    assert set(data) == {"frost-alarm/1", "frost-alarm/2"}
    lone = run(capsys, "plot", "frost-alarm/1", "lows", "--with", "frost-alarm/2")
    assert "frost-alarm/2 has no plot lows" in lone[2]


def test_a_confusion_matrix_is_a_table(plotted: Project, capsys: Out) -> None:
    text = run(capsys, "plot", "frost-alarm/2", "holdout/confusion")[1]
    rows = [line.split() for line in text.splitlines()]
    assert rows[1] == ["truth", "\\", "prediction", "0", "1"]
    counts = np.array([row[1:] for row in rows[2:4]], float)
    assert counts.sum() == 300
    shares = run(capsys, "plot", "frost-alarm/2", "holdout/confusion", "--share", "row")[1].splitlines()[2].split()[1:]
    assert sum(map(float, shares)) == pytest.approx(1, abs=2e-3)


def test_a_metric_is_drawn_too(plotted: Project, capsys: Out) -> None:
    text = run(capsys, "plot", "frost-alarm/1", "loss", "--y-scale", "log")[1]
    assert "points" in text
    assert run(capsys, "plot", "frost-alarm/1", "nothing")[0] == 3


def test_files_of_every_form(plotted: Project, capsys: Out, tmp_path: Path) -> None:
    for name in ("holdout/roc", "holdout/confusion", "lows", "loss"):
        for form in ("png", "svg", "html", "csv"):
            to = tmp_path / f"{name.replace('/', '-')}.{form}"
            status, _, said = run(capsys, "plot", "frost-alarm/1", name, "-o", str(to))
            assert (status, "bytes" in said) == (0, True)
            raw = to.read_bytes()
            if form == "png":
                assert raw.startswith(b"\x89PNG")
            elif form == "svg":
                assert ElementTree.fromstring(raw).tag.endswith("svg")
            elif form == "html":
                text = raw.decode()
                assert "<script" not in text
                assert "<svg" in text
                # Nothing is fetched: no address but the names of spaces.
                assert 'src="http' not in text
                assert "<link" not in text
            else:
                assert next(csv.reader(io.StringIO(raw.decode())))[0] == "plot"
    status, _, said = run(capsys, "plot", "frost-alarm/1", "loss", "-o", str(tmp_path / "loss.doc"))
    assert (status, "ends in none of .png" in said) == (2, True)


def test_axes_are_chosen_for_once_or_for_everybody(plotted: Project, capsys: Out, tmp_path: Path) -> None:
    chosen = ("--x", "day", "--y", "low_c", "--mark", "points", "--x-name", "day of the month")
    once = json.loads(run(capsys, "plot", "frost-alarm/1", "lows", *chosen, "--json")[1])["frost-alarm/1"]["view"]
    assert (once["x"], once["mark"], once["x_name"]) == ("day", "points", "day of the month")
    kept = json.loads(run(capsys, "plot", "frost-alarm/1", "lows", "--json")[1])["frost-alarm/1"]["view"]
    assert kept["x"] == "station"
    run(capsys, "plot", "frost-alarm/1", "lows", *chosen, "--declare")
    status, told, error = run(capsys, "history", "frost-alarm/1")
    assert (status, error) == (0, "")
    assert "declared a plot anew" in told
    after = json.loads(run(capsys, "plot", "frost-alarm/1", "lows", "--json")[1])["frost-alarm/1"]["view"]
    assert (after["x"], after["mark"]) == ("day", "points")
    status, _, said = run(capsys, "plot", "frost-alarm/1", "lows", "--x", "nobody")
    assert (status, "there are station, low_c, day" in said) == (2, True)


def test_empty_and_constant_plots_are_drawn(recording: Project, capsys: Out, tmp_path: Path) -> None:
    with kinetrum.begin("frost-alarm") as begun:
        begun.plot.roc("one-class", [1, 1], [0.4, 0.9])
        begun.plot.table("flat", {"day": [1, 2, 3], "low_c": [5, 5, 5]})
        begun.plot.table("empty", {"day": [], "low_c": []})
        begun.plot.table("odd", {"day": [1, 2], "low_c": [float("nan"), float("inf")]})
        begun.plot.table("odd-names", {"$\\frac{$": ["$x$", "<b>"], "€ & $y": [1, 2]}, title="$\\nothing$ <script>")
        begun.plot.confusion("many", list(range(200)), [(at * 7) % 200 for at in range(200)])
    begun.flush()
    for name in ("one-class/roc", "flat", "empty", "odd", "odd-names", "many/confusion"):
        status, text, _ = run(capsys, "plot", "frost-alarm/1", name)
        assert status == 0
        assert run(capsys, "plot", "frost-alarm/1", name, "-o", str(tmp_path / "x.png"))[0] == 0
        assert run(capsys, "plot", "frost-alarm/1", name, "-o", str(tmp_path / "x.html"))[0] == 0
        assert "<script" not in (tmp_path / "x.html").read_text()
        if name == "one-class/roc":
            assert "takes both that class and others" in text
        if name == "many/confusion":
            assert "200 classes; the most frequent confusions" in text
