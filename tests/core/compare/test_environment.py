"""Comparing surroundings, thinning samples, guessing an end."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from kinetrum.core.base.samples import joined, thinned
from kinetrum.core.compare.environment import (
    PackageChange,
    changes,
    code_change,
    code_state,
    expected_end,
    text_difference,
)


@pytest.mark.parametrize(
    ("code", "texts", "state"),
    [
        ({}, {}, None),
        ({}, {"packages": "a"}, None),
        ({}, {"script": "a"}, "unversioned"),
        ({"entry": "train.py"}, {"script": "a"}, "unversioned"),
        ({"entry": "train.py"}, {}, "unversioned"),
        ({"commit": "4f", "changed_files": 0, "untracked_code": []}, {"packages": "a"}, "clean"),
        ({"commit": "4f", "changed_files": 1, "untracked_code": []}, {}, "changed"),
        ({"commit": "4f", "changed_files": 0, "untracked_code": ["a.py"]}, {}, "changed"),
        ({"commit": "4f", "changed_files": 0}, {"difference": "a"}, "changed"),
        ({"commit": "4f", "changed_files": 0}, {"script": "a"}, "changed"),
        ({"commit": None, "changed_files": 0}, {}, "changed"),
    ],
)
def test_whether_code_can_be_had_again(code: dict[str, object], texts: dict[str, str], state: str | None) -> None:
    assert code_state(code, texts) == state


def test_only_what_differs_is_named() -> None:
    here, there = {"numpy": "2.1", "scipy": "1.0", "new": "1"}, {"numpy": "2.0", "scipy": "1.0", "old": "3"}
    assert changes(here, there) == [
        PackageChange("new", "1", None),
        PackageChange("numpy", "2.1", "2.0"),
        PackageChange("old", None, "3"),
    ]


@pytest.mark.parametrize(
    ("here", "there", "texts_here", "texts_there", "word"),
    [
        ({"commit": "a"}, {"commit": "a"}, {}, {}, "same"),
        ({"commit": "a"}, {"commit": "b"}, {}, {}, "other commit"),
        ({"commit": "a"}, {"commit": "a"}, {"difference": "1"}, {}, "other uncommitted changes"),
        ({"commit": "a"}, {"commit": "a"}, {"difference": "1"}, {"difference": "1"}, "same"),
        ({}, {}, {"script": "1"}, {"script": "2"}, "other uncommitted changes"),
        ({}, {}, {"script": "1"}, {"script": "1"}, "same"),
        (None, None, {}, {}, "unknown"),
        ({"commit": "a"}, None, {}, {}, "unknown"),
    ],
)
def test_whether_the_code_was_the_same(here, there, texts_here, texts_there, word) -> None:  # type: ignore[no-untyped-def]
    assert code_change(here, there, texts_here, texts_there) == word


def test_the_difference_of_two_texts_names_both() -> None:
    found = text_difference("a\nb\n", "a\nc\n", "e/1", "e/2")
    assert found is not None
    assert found.splitlines()[:2] == ["--- e/1", "+++ e/2"]
    assert "-b" in found
    assert text_difference("same", "same", "x", "y") is None
    assert text_difference("a\n" * 30_000, "b", "x", "y") is None


@pytest.mark.parametrize(
    ("done", "total", "since", "at", "end"),
    [
        (10, 40, 0, 100, 400),
        (40, 40, 0, 100, 100),
        (0, 40, 0, 100, None),
        (5, None, 0, 9, None),
        (5, 10, 9, 9, None),
        (11, 10, 0, 9, None),
    ],
)
def test_the_end_at_the_pace_so_far(done: int, total: int | None, since: int, at: int, end: int | None) -> None:
    assert expected_end(done, total, since, at) == end


def test_blocks_of_samples_are_put_in_order_and_gaps_stay_empty() -> None:
    found = joined([{"at": [30, 40], "cpu": [3.0, 4.0]}, {"at": [10], "cpu": [1.0], "gpu": [9.0]}])
    assert found == {"at": [10, 30, 40], "cpu": [1.0, 3.0, 4.0], "gpu": [9.0, None, None]}
    assert joined([]) == {}


@given(st.lists(st.floats(0, 100), min_size=1, max_size=400), st.integers(10, 60))
def test_thinning_keeps_the_peak_and_the_width(values: list[float], width: int) -> None:
    found = thinned({"at": list(range(len(values))), "cpu": list(values)}, width)
    assert len(found["at"]) <= width
    assert max(value for value in found["cpu"] if value is not None) == max(values)
    assert found["at"][-1] == len(values) - 1
