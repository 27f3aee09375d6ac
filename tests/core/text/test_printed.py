"""Printed output as lines: what a terminal would show in the end, however the text is cut into pieces."""

from __future__ import annotations

import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from kinetrum.core.text.printed_lines import LINE_LIMIT, Fold, cleaned, plain, without_overwritten

UP, ERASE = "\x1b[A", "\x1b[K"
pieces = st.lists(
    st.sampled_from(
        [
            "a",
            "bc",
            " ",
            "\n",
            "\ra\n",
            "plain\n",
            "\r",
            "\r\n",
            UP,
            "\x1b[2A",
            "\x1b[B",
            ERASE,
            "\x1b[2K",
            "\x08",
            "\x1b[32m",
            "\x1b[0m",
            "\x1b]0;title\x07",
            "ü",
            "✓",
            "\t",
            "\x1b[",
            "\x1b",
        ]
    ),
    max_size=40,
)


def lines_of(*texts: str) -> list[str]:
    fold = Fold("stdout")
    done = [line.text for text in texts for line in fold.feed(text, 1)]
    return done + [line.text for line in fold.finish()]


@pytest.mark.parametrize(
    ("text", "lines"),
    [
        ("one\ntwo\n", ["one", "two"]),
        ("no end", ["no end"]),
        ("dos\r\nlines\r\n", ["dos", "lines"]),
        ("1 %\r50 %\r100 %\ndone\n", ["100 %", "done"]),
        ("longer line\rshort\n", ["short"]),
        ("wait...\r", ["wait..."]),
        ("abc\x08\x08d\n", ["ad"]),
        (f"gone\r{ERASE}here\n", ["here"]),
        ("\x1b[31mred\x1b[0m\n", ["\x1b[31mred\x1b[0m"]),
        ("\x1b]0;a title\x07text\x1b[?25l\n", ["text"]),
        ("a\x00b\x07c\n", ["a�b�c"]),
        ("trailing   \n", ["trailing"]),
        ("\n\n", ["", ""]),
        ("", []),
    ],
)
def test_lines_as_a_terminal_shows_them(text: str, lines: list[str]) -> None:
    assert lines_of(text) == lines


def test_nested_bars_end_as_two_lines() -> None:
    text = "".join(f"\router {outer}/3\n\rinner {inner}/4{UP}" for outer in range(4) for inner in range(5))
    assert lines_of("begin\n" + text + "\n\nend\n")[-3:] == ["outer 3/3", "inner 4/4", "end"]


def test_bars_as_a_library_draws_them() -> None:
    """An outer bar, an inner one that is cleared at the end, and what is printed after them, in pieces and whole."""
    text = "\router: 0%\n\rinner: 0%" + UP
    for at in (50, 100):
        text += f"\n\rinner: {at}%{UP}\router: {at}%"
    text += f"\n\r        \r{UP}\router: 100%\n"
    pieces_of_it = [text[start : start + 5] for start in range(0, len(text), 5)]
    for texts in ([text], pieces_of_it):
        assert lines_of(*texts, "plain\n", "more\n") == ["outer: 100%", "plain", "more"]
        assert lines_of(*texts) == ["outer: 100%"]


def test_plain_text_releases_the_bar_above_it() -> None:
    fold = Fold("stderr")
    assert fold.feed("\r10 %\r100 %\n", 1) == []
    assert [line.text for line in fold.pending()] == ["100 %"]
    assert [line.text for line in fold.feed("done\n", 2)] == ["100 %", "done"]
    assert fold.feed("next", 3) == []
    assert [line.text for line in fold.feed(" line\nand another\n", 4)] == ["next line", "and another"]


def test_a_bar_of_ten_thousand_steps_is_one_line() -> None:
    assert lines_of("".join(f"\r{at} of 10000" for at in range(10_001)) + "\n") == ["10000 of 10000"]


def test_a_line_of_a_hundred_megabytes_is_cut_and_counted() -> None:
    fold = Fold("stdout")
    for _ in range(100):
        assert fold.feed("x" * 1_000_000, 1) == []
    (line,) = fold.feed("\n", 1)
    assert line.text.startswith("x" * LINE_LIMIT)
    assert line.text.endswith("99,992,000 more characters")
    assert len(line.text) < LINE_LIMIT + 100


def test_a_line_keeps_the_time_at_which_its_text_began() -> None:
    fold = Fold("stderr")
    fold.feed("be", 5)
    (line,) = fold.feed("gin\n", 9)
    assert (line.at, line.stream) == (5, "stderr")
    fold.feed("old\rnew", 20)
    assert fold.pending()[0].at == 20


@settings(max_examples=500, deadline=None)
@given(pieces, st.lists(st.integers(0, 120), max_size=6))
@example(["\x1b[", "\x1b[", "a"], [3])
@example(["\x1b]0;title\x07", "\x1b", "\n", "a"], [12])
@example(["\x1b", "\x1b]0;title\x07"], [2])
@example(["plain\n", "\x1b[A", "\x1b[32m", "\n", "\n"], [14])
@example(["plain\n", "\x1b[B", "a"], [6])
def test_cutting_a_text_anywhere_changes_nothing(parts: list[str], cuts: list[int]) -> None:
    text = "".join(parts)
    places = sorted({0, len(text), *(cut for cut in cuts if cut < len(text))})
    cut_up = [text[start:end] for start, end in zip(places, places[1:], strict=False)]
    assert lines_of(*cut_up) == lines_of(text)


@given(pieces, pieces)
def test_dropping_what_was_overwritten_changes_nothing(before: list[str], after: list[str]) -> None:
    first, second = "".join(before), "".join(after)
    assert lines_of(first, without_overwritten(second)) == lines_of(first, second)


@given(pieces, pieces)
def test_going_on_from_a_state_changes_nothing(before: list[str], after: list[str]) -> None:
    first, second = "".join(before), "".join(after)
    fold = Fold("stdout")
    done = fold.feed(first, 1)
    fold = Fold.from_state(fold.state())
    done += fold.feed(second, 1) + fold.finish()
    assert [line.text for line in done] == lines_of(first, second)


@given(st.binary(max_size=300))
def test_any_bytes_give_lines_without_controls(raw: bytes) -> None:
    for text in lines_of(raw.decode("utf-8", "replace")):
        rest = plain(text)
        assert not [sign for sign in rest if sign < " " and sign != "\t"]


def test_colours_are_taken_out_for_searching() -> None:
    assert plain("\x1b[1;31mbad\x1b[0m news") == "bad news"
    assert cleaned("x\x1bz") == "x�z"
