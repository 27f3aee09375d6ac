"""What may stand where somebody is writing a query."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from kinetrum.core.query.completing import expected
from kinetrum.core.query.parse import TEXT_LIMIT

CASES = {
    "": ("test", 0, "", None),
    "re": ("test", 0, "re", None),
    "recall ": ("comparison", 7, "", "recall"),
    "recall >": ("value", 8, "", "recall"),
    "recall >= ": ("value", 10, "", "recall"),
    "learner = fo": ("value", 10, "fo", "learner"),
    'learner = "ad': ("value", 10, "ad", "learner"),
    "recall >= 0.9 ": ("joint", 14, "", None),
    "recall >= 0.9 a": ("joint", 14, "a", None),
    "recall > 1 and ": ("test", 15, "", None),
    "not l": ("test", 4, "l", None),
    "has ": ("name", 4, "", None),
    "min(lo": ("metric", 4, "lo", None),
    "learner in {a, b": ("value", 15, "b", "learner"),
    "used ni": ("artifact", 5, "ni", None),
    "started within ": ("span", 15, "", "started"),
    "name like ": ("pattern", 10, "", "name"),
    "(depth = 3 or lea": ("test", 14, "lea", None),
    "x y z ": ("nothing", 6, "", None),
    '"two words" ': ("comparison", 12, "", "two words"),
}


@pytest.mark.parametrize(("text", "what"), CASES.items())
def test_what_is_expected(text: str, what: tuple[str, int, str, str | None]) -> None:
    found = expected(text)
    assert (found.what, found.at, found.begun, found.subject and found.subject.name) == what


@pytest.mark.parametrize(
    ("text", "scope", "begun"),
    [
        ("param:de", "param", "de"),
        ("has plot:r", "plot", "r"),
        ("depth = 3 and label:", "label", ""),
    ],
)
def test_scopes_that_were_begun(text: str, scope: str, begun: str) -> None:
    found = expected(text)
    assert (found.scope, found.begun) == (scope, begun)


@given(st.text(max_size=60) | st.text(alphabet="ab=<>()\"'[]{}.,: andornthsuedlikewi", max_size=40))
def test_nothing_that_is_written_breaks_it(text: str) -> None:
    found = expected(text)
    assert 0 <= found.at <= len(text)


def test_texts_without_end_are_left_alone() -> None:
    assert expected("a" * (TEXT_LIMIT + 1)).what == "nothing"
