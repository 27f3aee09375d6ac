"""Tables for people: long texts are cut, numbers never; in a pipe everything is there."""

from __future__ import annotations

import pytest

from kinetrum.cli import output

LONG = "Answer as the night watch would, " * 8


@pytest.fixture
def lines(monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]) -> object:
    def print_table(width: int | None, heads: list[str], *rows: list[str], keep: int = 1) -> list[str]:
        if width is None:
            monkeypatch.delenv("COLUMNS", raising=False)
        else:
            monkeypatch.setenv("COLUMNS", str(width))
        output.print_table(heads, rows, keep=keep)
        return capsys.readouterr().out.splitlines()

    return print_table


def test_a_long_text_is_cut_and_its_column_stays(lines) -> None:
    found = lines(80, ["parameter", "value"], ["prompt", LONG], ["depth", "5"])
    assert all(len(line) <= 80 for line in found)
    assert found[1].endswith("…") and found[1].startswith("prompt     Answer as")
    assert found[2].split() == ["depth", "5"]


def test_a_text_that_fits_exactly_is_whole_and_one_more_letter_is_cut(lines) -> None:
    head, row = lines(60, ["key", "value"], ["a", "x" * 55])
    assert (head, row) == ("key  value", f"a    {'x' * 55}")
    assert lines(60, ["key", "value"], ["a", "x" * 56])[1] == f"a    {'x' * 54}…"


def test_the_widest_gives_first(lines) -> None:
    _, row = lines(80, ["a", "b", "value"], ["x" * 60, "y" * 30, "3.5"])
    one, two, value = row.split()
    assert (one.endswith("…"), two, value, len(row)) == (True, "y" * 30, "3.5", 80)


def test_numbers_are_hidden_whole_rather_than_cut(lines) -> None:
    heads = ["run", *[f"m{at}" for at in range(9)]]
    found = lines(60, heads, ["frost-alarm/12", *["0.123456"] * 9])
    assert found[1].split() == ["frost-alarm/12", *["0.123456"] * 4]
    assert found[2] == "5 columns hidden for width: m4, m5, m6, m7, m8"


def test_names_are_not_cut_where_columns_are_hidden_anyway(lines) -> None:
    found = lines(60, ["run", "name", "a", "b"], ["e/1", "n" * 30, "1" * 20, "2" * 20])
    assert found[1].split()[1] == "n" * 30


def test_wide_letters_count_twice(lines) -> None:
    _, row = lines(40, ["key", "value"], ["a", "霜" * 30])
    assert row == f"a    {'霜' * 17}…"


def test_in_a_pipe_nothing_is_cut_or_hidden(lines) -> None:
    _, row = lines(
        None, ["parameter", "value", *[f"m{at}" for at in range(40)]], ["prompt", LONG.strip(), *["0.5"] * 40]
    )
    assert LONG.strip() in row and row.count("0.5") == 40


def test_a_table_without_rows_has_its_heads(lines) -> None:
    assert lines(20, ["key", "value"]) == ["key  value"]


def test_a_narrow_terminal_shows_a_value_before_names(
    monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    heads = ["run", "name", "status", "started", "recall", "learner"]
    rows = [["frost-alarm/33", "two workers, two thresholds", "finished", "today 19:48", "0.9661", "boost"]]
    shown = {}
    for width in (200, 70, 50, 30, 20):
        monkeypatch.setenv("COLUMNS", str(width))
        output.print_table(heads, rows, spare=3)
        lines = capsys.readouterr().out.splitlines()
        assert all(len(line) <= max(width, 24) for line in lines), width
        shown[width] = lines[0].split()
    assert shown[200] == heads
    assert shown[70] == ["run", "name", "status", "recall", "learner"] or shown[70][:4] == [
        "run",
        "name",
        "status",
        "recall",
    ]
    assert shown[50][-1] == "recall"
    assert shown[30] == ["run", "recall"]
    assert shown[20][0] == "run"


def test_sentences_are_broken_between_words_on_a_terminal_alone(
    monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    text = "Version 5 would replace version 3 on production: better recall on held-out."
    monkeypatch.delenv("COLUMNS", raising=False)
    output.say(text)
    assert capsys.readouterr().out == f"{text}\n"
    monkeypatch.setenv("COLUMNS", "40")
    output.say(text, indent="  ")
    lines = capsys.readouterr().out.splitlines()
    assert all(len(line) <= 40 for line in lines)
    assert " ".join(line.strip() for line in lines) == text
    assert lines[1].startswith("  ")
    output.say("x" * 90)
    assert capsys.readouterr().out == "x" * 90 + "\n"
