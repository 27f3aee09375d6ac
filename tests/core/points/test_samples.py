"""Samples over time: columns are checked, joined by time, and thinned without losing a peak."""

from __future__ import annotations

import math
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from kinetrum.core.base import errors
from kinetrum.core.base.samples import COLUMNS_LIMIT, SAMPLES_LIMIT, Samples, check_samples, joined, thinned


def test_columns_that_fit_are_taken_as_they_are() -> None:
    samples: dict[str, Any] = {"at": [1, 2], "cpu_percent": [0.5, None], "memory_bytes": [7, math.nan]}
    assert check_samples(samples) is samples


@pytest.mark.parametrize(
    ("samples", "told"),
    [
        (None, "columns"),
        ([], "columns"),
        ({"at": 5}, "columns"),
        ({}, "'at'"),
        ({"at": []}, "'at'"),
        ({"at": [1.5]}, "'at'"),
        ({"at": [True]}, "'at'"),
        ({"at": [-1]}, "'at'"),
        ({"at": [2**60]}, "'at'"),
        ({"at": [None]}, "'at'"),
        ({"at": [1], "cpu": []}, "0 samples, 'at' has 1"),
        ({"at": [1], "cpu": ["5"]}, "not a number"),
        ({"at": [1], "cpu": [True]}, "not a number"),
        ({"at": [1], "cpu": [[1]]}, "not a number"),
    ],
)
def test_columns_that_do_not_fit_are_refused(samples: Any, told: str) -> None:
    with pytest.raises(errors.InvalidInput, match=told):
        check_samples(samples)


def test_too_much_at_once_is_refused() -> None:
    with pytest.raises(errors.TooLarge):
        check_samples({"at": list(range(SAMPLES_LIMIT + 1))})
    with pytest.raises(errors.TooLarge):
        check_samples({"at": [1]} | {f"c{number}": [1] for number in range(COLUMNS_LIMIT)})


def test_blocks_are_put_together_by_time() -> None:
    blocks: list[Samples] = [{"at": [5, 7], "cpu": [0.5, 0.7]}, {"at": [6], "gpu": [1.0]}]
    assert joined(blocks) == {"at": [5, 6, 7], "cpu": [0.5, None, 0.7], "gpu": [None, 1.0, None]}
    assert joined([]) == {}


@given(st.lists(st.floats(0, 100), min_size=1, max_size=300), st.integers(1, 50))
def test_thinning_keeps_the_peaks_and_the_end(values: list[float], width: int) -> None:
    samples: Samples = {"at": list(range(len(values))), "cpu": list(values)}
    found = thinned(samples, width)
    assert len(found["at"]) <= width
    assert len(found["cpu"]) == len(found["at"])
    assert max(value for value in found["cpu"] if value is not None) == max(values)
    assert found["at"][-1] == len(values) - 1
