"""`media`, `rows` and `track --plot`: what runs kept, in the terminal and to files."""

from __future__ import annotations

import json
import sys
from pathlib import Path

import numpy as np
import pytest

import kinetrum
from tests.cli.test_commands import Out, run
from tests.support.world import Project


def shown(capsys: Out, *arguments: str) -> str:
    status, out, err = run(capsys, *arguments)
    assert status == 0, err
    return out


@pytest.fixture
def kept(recording: Project) -> Project:
    """Two runs with images by step, a report and predictions row by row."""
    truth = np.array([0, 1, 1, 0])
    for shift in (0.0, 0.6):
        with kinetrum.begin("frost-alarm") as begun:
            for epoch in begun.progress(range(2)):
                begun.media.image(
                    "maps", np.full((4, 4), epoch / 2), caption=f"epoch {epoch}\x1b[31m", boxes=[(0, 0, 1, 1)]
                )
            begun.media.text("report", "all \x1b[31mwell\nsecond line")
            begun.evaluate(truth, np.array([0.1, 0.4, 0.9, 0.3]) + shift * (truth - 0.5), on="held", rows=list("abcd"))
        begun.flush()
    return recording


def test_media_are_listed_shown_and_saved(kept: Project, capsys: Out, tmp_path: Path) -> None:
    listed = shown(capsys, "media", "frost-alarm/1")
    assert "maps" in listed
    assert "0 to 1" in listed
    found = shown(capsys, "media", "frost-alarm/1", "maps")
    assert "maps@2, image at step 1" in found
    assert "epoch 1" in found
    assert "\x1b[31m" not in found
    assert shown(capsys, "media", "frost-alarm/1", "report").splitlines()[-2:] == ["all  [31mwell", "second line"]
    shown(capsys, "media", "frost-alarm/1", "maps", "--step", "0", "-o", str(tmp_path / "out"))
    assert (tmp_path / "out" / "001.png").is_file()
    assert json.loads(shown(capsys, "media", "frost-alarm/1", "--json"))[0]["name"]


def test_rows_of_runs_and_of_two(kept: Project, capsys: Out, tmp_path: Path) -> None:
    found = shown(capsys, "rows", "frost-alarm/1", "--on", "held", "--wrong")
    assert found.splitlines()[0] == "1 of 4 rows, 1 predicted wrong"
    joined = shown(
        capsys, "rows", "frost-alarm/1", "--with", "frost-alarm/2", "--on", "held", "--outcome", "newly right"
    )
    assert joined.splitlines()[0] == "1 of 4 rows, joined by row, 1 newly right, 3 both right"
    assert "newly right" in joined.splitlines()[2]
    path = tmp_path / "rows.csv"
    run(
        capsys,
        "rows",
        "frost-alarm-held-predictions@1",
        "--where",
        "score > 0.3",
        "--sort",
        "score:desc",
        "--csv",
        str(path),
    )
    assert path.read_text().splitlines() == ["row,truth,prediction,score", "c,1,1,0.9", "b,1,0,0.4"]
    found = json.loads(shown(capsys, "rows", "frost-alarm-held-predictions@1", "--json", "--limit", "1"))
    assert (found["total"], len(found["rows"])) == (4, 1)
    for wrong in (["--key", "row"], ["--where", "scor > 1"]):
        assert run(capsys, "rows", "frost-alarm-held-predictions@1", *wrong)[0] == 2


def test_a_curve_that_a_script_writes_becomes_a_plot(recording: Project, capsys: Out, tmp_path: Path) -> None:
    path = tmp_path / "roc.json"
    script = f'open({str(path)!r}, \'w\').write(\'{{"fpr": [0, 1], "tpr": [0.5, 1], "area": 0.75}}\')'
    shown(
        capsys,
        "track",
        "-e",
        "frost-alarm",
        "--plot",
        f"held/roc={path}:fpr,tpr",
        "--plot",
        str(tmp_path / "no.csv"),
        "--",
        sys.executable,
        "-c",
        script,
    )
    plot = shown(capsys, "plot", "frost-alarm/1", "held/roc", "--json")
    (found,) = json.loads(plot).values()
    assert (found["view"]["x"], found["view"]["y"], found["numbers"]) == ("fpr", ["tpr"], {"area": 0.75})
    assert "no.csv was not written" in shown(capsys, "show", "frost-alarm/1")
