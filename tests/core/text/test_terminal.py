"""What is printed on a terminal does not steer it."""

from __future__ import annotations

import json

import pytest
from hypothesis import given
from hypothesis import strategies as st

from kinetrum.core.text.terminal import MARK, escaped_in_json, without_steering

STEERING = {*range(0x20), *range(0x7F, 0xA0), 0x61C, 0x200E, 0x200F, *range(0x202A, 0x202F), *range(0x2066, 0x206A)}
ALLOWED = {ord("\n"), ord("\t")}


@pytest.mark.parametrize(
    ("text", "shown"),
    [
        ("plain\ttext\nof two lines", "plain\ttext\nof two lines"),
        ("Zürich 夜 🙂", "Zürich 夜 🙂"),
        ("\x1b[2Jcleared", f"{MARK}cleared"),
        ("\x1b]0;title\x07after", f"{MARK}after"),
        ("\x1b]52;c;aGk=\x1b\\after", f"{MARK}after"),
        ("\x9d52;c;aGk=\x9cafter", f"{MARK}after"),
        ("\x9b2Jcleared", f"{MARK}cleared"),
        ("over\rwritten", f"over{MARK}written"),
        ("a line of CSV\r\n", "a line of CSV\r\n"),
        ("bell\x07 back\x08", f"bell{MARK} back{MARK}"),
        ("good\u202edab", f"good{MARK}dab"),
        ("\u2066isolated\u2069", f"{MARK}isolated{MARK}"),
        ("ends in \x1b", f"ends in {MARK}"),
        # Our own styles stay, and are ended where they were not.
        ("\x1b[1mbold\x1b[0m", "\x1b[1mbold\x1b[0m"),
        ("\x1b[31mleft on", "\x1b[31mleft on\x1b[0m"),
        # What hides text is none of ours.
        ("\x1b[8mhidden\x1b[0m", f"{MARK}hidden\x1b[0m"),
    ],
)
def test_what_steers_is_marked(text: str, shown: str) -> None:
    assert without_steering(text) == shown


def test_printed_output_keeps_its_colours() -> None:
    assert without_steering("\x1b[38;5;208morange", every_style=True) == "\x1b[38;5;208morange\x1b[0m"
    assert without_steering("\x1b[38;5;208morange\x1b[2J", every_style=True) == f"\x1b[38;5;208morange{MARK}\x1b[0m"


@given(st.text(alphabet=st.sampled_from("a[]0;m?\\2J\x1b\x9b\x9d\x07\n\t\r\u202e\x00é"), max_size=40))
def test_nothing_that_steers_is_left(text: str) -> None:
    shown = without_steering(text)
    for style in ("\x1b[0m", "\x1b[1m", "\x1b[2m", "\x1b[31m", "\x1b[36m"):
        shown = shown.replace(style, "")
    assert not {ord(c) for c in shown.replace("\r\n", "\n")} & (STEERING - ALLOWED)
    assert without_steering(shown) == shown


@given(st.text(max_size=30))
def test_json_says_the_same(text: str) -> None:
    written = escaped_in_json(json.dumps({"text": text}, ensure_ascii=False, indent=2))
    assert json.loads(written) == {"text": text}
    assert not {ord(c) for c in written} & (STEERING - ALLOWED)
