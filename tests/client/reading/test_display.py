"""How records show themselves in a notebook."""

from __future__ import annotations

import re
from html.parser import HTMLParser
from pathlib import Path

import pytest

import kinetrum
from kinetrum.client.display.html import html_table, moment
from kinetrum.client.reading import run_table
from tests.support.world import Project


class Cells(HTMLParser):
    """Texts of the cells of all tables, row by row, and how each is aligned."""

    def __init__(self, text: str) -> None:
        super().__init__()
        self.rows: list[list[str]] = []
        self.sides: list[list[str]] = []
        self.feed(text)

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        if tag == "tr":
            self.rows.append([])
            self.sides.append([])
        elif tag in ("th", "td"):
            self.rows[-1].append("")
            self.sides[-1].append(str(dict(attrs)["style"]).removeprefix("text-align: "))

    def handle_data(self, data: str) -> None:
        if self.rows and self.rows[-1]:
            self.rows[-1][-1] += data


@pytest.fixture
def runs(recording: Project) -> Project:
    for number in range(6):
        with kinetrum.begin(
            "frost-alarm",
            params={"depth": 3 + number // 3, "learner": "<b>boost</b>"},
            seed=number % 3,
            name=f"try {number}",
            goals={"recall": {"direction": "higher", "unit": "%"}},
        ) as run:
            run.result(recall=80 + number + number // 3, verdict="fine & good")
    run.flush()
    return recording


def test_cells_stand_by_what_they_hold_and_are_only_text() -> None:
    cells = Cells(html_table(["name", "value", "both"], [["<img src=x>", "−0.5 %", "1"], ["12b", "–", "x y"]]))
    assert cells.rows == [["name", "value", "both"], ["<img src=x>", "−0.5 %", "1"], ["12b", "–", "x y"]]
    assert cells.sides[0] == ["left", "right", "right"]
    assert html_table([], []) == "<table><tr></tr></table>"


def test_moments_of_today_and_of_before() -> None:
    assert moment(None) == ""
    assert re.fullmatch(r"\d{1,2} \w{3} 2001", moment("2001-05-03T12:00:00Z"))


def test_a_run_a_table_and_groups(runs: Project, monkeypatch: pytest.MonkeyPatch) -> None:
    table = kinetrum.runs(experiment="frost-alarm", sort="number:asc")
    shown = table[1]._repr_html_()
    assert "try 1 finished, begun today" in shown and "by A Contributor" in shown
    cells = Cells(shown)
    assert ["learner", "<b>boost</b>"] in cells.rows and ["recall", "81"] in cells.rows
    cells = Cells(table._repr_html_())
    assert cells.rows[0][:4] == ["run", "name", "status", "started_at"]
    assert [row[0] for row in cells.rows[1:]] == [f"frost-alarm/{number}" for number in range(1, 7)]
    assert cells.rows[1][3].startswith("today ")
    cells = Cells(table.groups(columns=["recall", "learner"])._repr_html_())
    assert cells.rows[0] == ["runs", "latest run", "recall", "learner"]
    assert cells.rows[1:] == [
        ["×3", "frost-alarm/3", "81 ± 1", "<b>boost</b>"],
        ["×3", "frost-alarm/6", "85 ± 1", "<b>boost</b>"],
    ]
    cells = Cells(table.groups("depth", ["recall"])._repr_html_())
    assert [row[:2] for row in cells.rows] == [["depth", "runs"], ["3", "×3"], ["4", "×3"]]
    monkeypatch.setattr(run_table, "_SHOWN", 4)
    shown = table._repr_html_()
    assert "4 of 6 runs" in shown and len(Cells(shown).rows) == 5


def test_a_part_of_a_table_reads_no_more_than_that(runs: Project, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(run_table, "_PAGE", 2)
    table = kinetrum.runs(experiment="frost-alarm", sort="number:asc")
    assert [run.number for run in table[1:3]] == [2, 3]
    assert len(table._rows) == 4
    assert [run.number for run in table[-2:]] == [5, 6]
    table = kinetrum.runs(experiment="frost-alarm", sort="number:asc")
    assert (table[3].number, len(table._rows)) == (4, 4)
    assert [run.number for run in table[:-4]] == [1, 2]
    table = kinetrum.runs(experiment="frost-alarm", sort="number:asc")
    assert [run.number for run in table[1::2]] == [2, 4, 6]
    with pytest.raises(IndexError):
        table[6]


def test_changes_have_their_sign_and_unit(runs: Project) -> None:
    cells = Cells(kinetrum.compare(["frost-alarm/1", "frost-alarm/4"])._repr_html_())
    recall = next(row for row in cells.rows if row[0] == "recall")
    assert recall[1:] == ["81 ± 1 (3)", "85 ± 1 (3)", "−4 %", "worse"]


def test_a_model_its_version_and_a_review(recording: Project, tmp_path: Path) -> None:
    (tmp_path / "net.bin").write_bytes(b"net")
    kinetrum.register(
        tmp_path / "net.bin", as_model="frost-alarm", origin="a shelf", metrics={"recall": 0.5, "verdict": "<i>"}
    )
    model = kinetrum.model("frost-alarm")
    model[1].promote("development")
    cells = Cells(model.refresh()._repr_html_())
    assert cells.rows[0] == ["stage", "version", "since", ""]
    assert [row[:2] for row in cells.rows[1:]] == [["production", "–"], ["staging", "–"], ["development", "1"]]
    assert cells.rows[3][2].startswith("today ")
    shown = model[1]._repr_html_()
    assert "frost-alarm@1</b> pending, on development" in shown
    assert Cells(shown).rows[1:] == [["recall", "0.5"], ["verdict", "<i>"]]
    review = model[1].beside("production")
    assert review.sentence.replace("'", "&#x27;") in review._repr_html_()
