"""The verdict on two sets of predictions for the same rows, and the smallest number of rows that allows one."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from enum import StrEnum

from kinetrum.core.base.values import Finite, FiniteOrNull

LOWER = frozenset({"mae", "rmse", "mse", "log_loss", "brier"})
"""Measures of which a lower value is better; of all others it is a higher one."""


class Outcome(StrEnum):
    """What the rows say of the left model beside the right one."""

    BETTER = "better"
    WORSE = "worse"
    WITHIN_NOISE = "within noise"
    TOO_FEW = "too few to tell"


@dataclass(frozen=True)
class Interval:
    """An interval of a difference, left less right, and the test that it comes from.

    `probability`: that the left is the higher.
    """

    low: float
    high: float
    probability: float
    method: str


@dataclass(frozen=True)
class RowsVerdict:
    """A measure of two models over the same rows, left less right: values, interval, outcome.

    `low`, `high` and `probability` are None where the rows are too few to tell; `needed` is then how many rows of the
    kind that counts would allow a verdict, and `counted` how many there are. `confidence` (0 to 1) is that of the
    interval. `method` names the test that both interval and outcome come from. `only_left_right` and
    `only_right_right` count rows that one model alone has right, where the measure is accuracy. `left_out` counts
    rows that only the right model predicted.
    """

    measure: str
    higher_is_better: bool
    rows: int
    left: Finite
    right: Finite
    change: Finite
    low: FiniteOrNull
    high: FiniteOrNull
    probability: FiniteOrNull
    confidence: float
    method: str
    outcome: Outcome
    needed: int | None = None
    counted: int | None = None
    only_left_right: int | None = None
    only_right_right: int | None = None
    left_out: int = 0

    @property
    def beyond(self) -> bool:
        """True where a difference was told from noise."""
        return self.outcome in {Outcome.BETTER, Outcome.WORSE}


def percent(confidence: float) -> str:
    """Write a confidence (0 to 1) as people read it: 95 %, 99.99 %."""
    return f"{100 * confidence:.6g} %"


def too_few(verdict: RowsVerdict) -> str:
    """Say that the rows that count are too few to tell."""
    return "1 row is too few to tell" if verdict.counted == 1 else f"{verdict.counted or 0:,} rows are too few to tell"


def fewest_rows(confidence: float) -> int:
    """Return how many rows a verdict at a confidence (0 to 1) takes: 6 at 95 %, 8 at 99 %, 15 at 99.99 %.

    With n rows, two equally good models differ in the same direction on all of them with probability 2^(1 - n). No test
    that assumes nothing of the distribution can tell anything with fewer rows than make that rarer than promised.
    Source: Dixon and Mood, The statistical sign test, JASA 41, 1946.
    """
    # Rounded first: 1 - 0.95 is a little over 0.05, and 1 - 0.9375 is exactly 1/16.
    return 1 + math.ceil(round(-math.log2(1 - confidence), 9))


def verdict_of(
    measure: str, rows: int, values: tuple[float, float], interval: Interval | None, confidence: float, counted: int
) -> RowsVerdict:
    """Return the verdict on a measure; an `interval` of None says that `counted` rows are too few to tell."""
    left, right = values
    higher = measure not in LOWER
    verdict = RowsVerdict(
        measure,
        higher,
        rows,
        left,
        right,
        left - right,
        None,
        None,
        None,
        confidence,
        "none",
        Outcome.TOO_FEW,
        fewest_rows(confidence),
        counted,
    )
    if interval is None:
        return verdict
    outcome = Outcome.WITHIN_NOISE
    if interval.low > 0 or interval.high < 0:
        outcome = Outcome.BETTER if (interval.low > 0) == higher else Outcome.WORSE
    return replace(
        verdict,
        low=interval.low,
        high=interval.high,
        probability=interval.probability,
        method=interval.method,
        outcome=outcome,
        needed=None,
    )
