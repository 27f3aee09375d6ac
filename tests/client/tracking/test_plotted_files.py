"""A script's own files of curve points become plots."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from kinetrum.client.tracking.plot_files import PlottedFile
from kinetrum.core.base.errors import InvalidInput


def written(path: Path, text: str, given: str = "") -> PlottedFile:
    file = PlottedFile.named(given or str(path))
    path.write_text(text)
    return file


def test_a_table_and_chosen_columns(tmp_path: Path) -> None:
    path = tmp_path / "lift.csv"
    plot = written(path, "share,lift,note\n0.1,4.5,a\n0.2,3.25,b\n\n").plot()
    assert (plot.view.x, plot.view.y, plot.view.mark) == ("share", ("lift",), "line")
    assert plot.columns["note"] == ["a", "b"]
    path.unlink()
    chosen = written(path, "a,b,c\n1,2,3\n4,5,6\n", f"gain curve={path}:b,c")
    assert (chosen.name, chosen.plot().view.x, chosen.plot().view.y) == ("gain curve", "b", ("c",))


def test_lists_by_name_and_rows_as_objects(tmp_path: Path) -> None:
    data = {"fpr": [0, 0.5, 1], "tpr": [0, 0.75, 1], "area": 0.625, "title": "All stations"}
    plot = written(tmp_path / "roc.json", json.dumps(data)).plot()
    assert (plot.view.title, plot.numbers, plot.rows) == ("All stations", {"area": 0.625}, 3)
    rows = written(tmp_path / "rows.json", '[{"x": 1, "y": 2}, {"x": 3}]').plot()
    assert rows.columns == {"x": [1, 3], "y": [2, None]}


@pytest.mark.parametrize(
    ("text", "said"),
    [("a,b\n1\n", "row 2 has 1 cells"), ("", "at least one column"), ("a,b\nx,y\n", "no column of numbers")],
)
def test_what_is_no_plot_is_told(tmp_path: Path, text: str, said: str) -> None:
    with pytest.raises(InvalidInput, match=said):
        written(tmp_path / "p.csv", text).plot()


@pytest.mark.parametrize("text", ["{", "3", '{"a": [1, 2], "b": [1]}', "[" * 100_000, '{"a": [{}], "b": [1]}'])
def test_json_that_is_no_plot_is_told(tmp_path: Path, text: str) -> None:
    with pytest.raises(InvalidInput, match="holds no plot"):
        written(tmp_path / "p.json", text).plot()


def test_a_file_from_before_is_not_of_this_run(tmp_path: Path) -> None:
    path = tmp_path / "p.csv"
    path.write_text("a,b\n1,2\n")
    with pytest.raises(InvalidInput, match="lies there from before"):
        PlottedFile.named(str(path)).plot()
    with pytest.raises(InvalidInput, match="was not written"):
        PlottedFile.named(str(tmp_path / "none.csv")).plot()
