"""Metrics files: flat, nested, lists, tables, half written, from before."""

from __future__ import annotations

import json
import os
from pathlib import Path
from typing import Any

import pytest

from kinetrum.client.tracking.file_patterns import Files, files_of
from kinetrum.client.tracking.metric_files import HalfWritten, MeasuredFile, read_measured
from kinetrum.core.base.errors import InvalidInput


def rows(found: Any) -> list[tuple[int, dict[str, float]]]:
    return [(row.step, row.values) for row in found.rows]


@pytest.mark.parametrize(
    ("name", "text", "points", "results"),
    [
        ("a.json", '{"recall": 0.9, "verdict": "fine", "none": null}', [], {"recall": 0.9, "verdict": "fine"}),
        ("a.json", '{"test": {"recall": 0.9, "by": {"depth": 1}}}', [], {"test.recall": 0.9, "test.by.depth": 1}),
        ("a.json", '{"loss": [3, 2, 1]}', [(0, {"loss": 3}), (1, {"loss": 2}), (2, {"loss": 1})], {}),
        ("a.json", '[{"epoch": 4, "loss": 2, "on": {"val": 3}}]', [(4, {"loss": 2, "on.val": 3})], {}),
        ("a.json", '{"step": 1, "loss": 2}\n{"step": 2, "loss": 1}\n', [(1, {"loss": 2}), (2, {"loss": 1})], {}),
        ("a.jsonl", '{"loss": 2}\n\n{"loss": NaN}\n', [(0, {"loss": 2}), (1, {"loss": "nan"})], {}),
        ("a.csv", "step,loss\n1,0.5\n2,nan\n3,\n", [(1, {"loss": 0.5}), (2, {"loss": "nan"}), (3, {})], {}),
        ("a.csv", "\ufeffepoch;loss\n1;0.5\n", [(1, {"loss": 0.5})], {}),
        ("a.tsv", "loss\tname\n0.5\tx\n", [(0, {"loss": 0.5})], {}),
        ("a.csv", "step,loss\n", [], {}),
    ],
)
def test_forms(tmp_path: Path, name: str, text: str, points: list[Any], results: dict[str, Any]) -> None:
    path = tmp_path / name
    path.write_text(text)
    found = read_measured(path)
    assert [
        (step, {key: "nan" if value != value else value for key, value in row.items()}) for step, row in rows(found)
    ] == points
    assert found.results == results


@pytest.mark.parametrize(
    ("name", "text", "part"),
    [
        ("a.json", '{"recall": 0.', "not JSON"),
        ("a.json", "5", "neither"),
        ("a.json", '[1, "a"]', "neither"),
        ("a.jsonl", '{"a": 1}\n{"a"\n', "line 2"),
        ("a.jsonl", "5\n", "not an object"),
        ("a.csv", "step,loss\nx,1\n", "row 1: the step 'x'"),
        ("a.csv", "step,loss\n1.5,1\n", "whole number"),
    ],
)
def test_what_cannot_be_read_says_where(tmp_path: Path, name: str, text: str, part: str) -> None:
    path = tmp_path / name
    path.write_text(text)
    with pytest.raises(HalfWritten, match=part):
        read_measured(path)


def test_columns_without_numbers_are_told(tmp_path: Path) -> None:
    path = tmp_path / "a.csv"
    path.write_text("step,loss,note\n1,2,x\n")
    assert read_measured(path).without_numbers == ["note"]


def test_a_table_that_grows_is_read_by_and_by(tmp_path: Path) -> None:
    path = tmp_path / "scores.csv"
    file = MeasuredFile(path)
    assert rows(file.news()) == []
    path.write_text("epoch,loss\n0,1.0\n1,0.")
    assert rows(file.news()) == [(0, {"loss": 1.0})]
    path.write_text("epoch,loss\n0,1.0\n1,0.5\n")
    assert rows(file.news()) == [(1, {"loss": 0.5})]
    assert rows(file.news()) == []
    path.write_text("epoch,loss\n0,1.0\n1,0.5\n2,0.25")
    assert rows(file.news(final=True)) == [(2, {"loss": 0.25})]


def test_an_object_that_is_rewritten_gives_what_changed(tmp_path: Path) -> None:
    path = tmp_path / "scores.json"
    file = MeasuredFile(path)
    path.write_text('{"recall": 0.5')
    assert file.news().results == {}
    path.write_text('{"recall": 0.5, "loss": [1]}')
    found = file.news()
    assert (found.results, rows(found)) == ({"recall": 0.5}, [(0, {"loss": 1.0})])
    path.write_text('{"recall": 0.6, "loss": [1, 2]}')
    found = file.news(final=True)
    assert (found.results, rows(found)) == ({"recall": 0.6}, [(1, {"loss": 2.0})])


def test_a_file_from_before_is_not_of_this_run(tmp_path: Path) -> None:
    path = tmp_path / "scores.json"
    path.write_text('{"recall": 0.1}')
    file = MeasuredFile(path)
    assert file.news().results == {}
    with pytest.raises(InvalidInput, match="from before"):
        file.news(final=True)
    path.write_text('{"recall": 0.25}')
    os.utime(path, (2e9, 2e9))
    assert file.news(final=True).results == {"recall": 0.25}


def test_a_file_that_is_never_written_or_stays_half_written(tmp_path: Path) -> None:
    with pytest.raises(InvalidInput, match="was not written"):
        MeasuredFile(tmp_path / "none.json").news(final=True)
    file = MeasuredFile(tmp_path / "half.json")
    file.path.write_text('{"recall": ')
    assert file.news().results == {}
    with pytest.raises(InvalidInput, match="not JSON"):
        file.news(final=True)


def test_a_step_column_of_ones_own(tmp_path: Path) -> None:
    path = tmp_path / "a.json"
    path.write_text(json.dumps([{"reach": 3, "step": 9, "rmse": 1}]))
    assert rows(read_measured(path, "reach")) == [(3, {"step": 9.0, "rmse": 1.0})]
    with pytest.raises(InvalidInput, match=r"Unknown column 'depth'\. Choose one of: reach, rmse, step"):
        read_measured(path, "depth")


def test_files_by_pattern(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(tmp_path)
    for name in ("out/a/x.bin", "out/b/x.bin", "out/b/y.txt"):
        (tmp_path / name).parent.mkdir(parents=True, exist_ok=True)
        (tmp_path / name).write_text(name)
    assert files_of("net=out/*.bin") == Files("net", "out/*.bin", named=True)
    assert files_of("out/**/*.bin").name == "out"
    assert files_of("model.onnx") == Files("model", "model.onnx", named=False)
    assert [file.path for file in files_of("out/**/*.bin").found()] == ["a/x.bin", "b/x.bin"]
    assert [file.path for file in files_of("out/b").found()] == ["x.bin", "y.txt"]
    assert [file.path for file in files_of("out/b/y.txt").found()] == ["y.txt"]
    assert files_of("nothing/*").found() == []
    later = max(path.stat().st_mtime_ns for path in tmp_path.rglob("*")) + 1
    assert files_of("out/b").found(later) == []
    with pytest.raises(InvalidInput):
        files_of("Name=x")
