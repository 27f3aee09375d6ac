"""Shares of rows that two models have right: accuracy, recall, specificity, and their mean over classes."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass

from kinetrum.core.noise.verdict import Interval, fewest_rows


@dataclass(frozen=True)
class Pairs:
    """Rows that both models judged: how many, and how many one model alone has right."""

    rows: int
    only_left: int
    only_right: int

    @property
    def change(self) -> float:
        """The share that the left has right, less that of the right."""
        return (self.only_left - self.only_right) / self.rows


def share_interval(pairs: Pairs, confidence: float) -> Interval | None:
    """Return the interval of a difference of two paired shares, None where the rows are too few to tell.

    It inverts Tango's score test with the continuity correction of Edwards, so that it leaves out zero exactly where
    McNemar's corrected test tells the two apart. Sources: Tango, Equivalence test and confidence interval for the
    difference in proportions for the paired-sample design, Statistics in Medicine 17, 1998; Edwards, Note on the
    "correction for continuity" in testing the significance of the difference between correlated proportions,
    Psychometrika 13, 1948.
    """
    from scipy.special import ndtr, ndtri

    if pairs.rows < fewest_rows(confidence):
        return None
    reach = float(ndtri(0.5 + confidence / 2))
    low, high = _lowest(pairs, reach), -_lowest(Pairs(pairs.rows, pairs.only_right, pairs.only_left), reach)
    apart = pairs.only_left + pairs.only_right
    score = (pairs.only_left - pairs.only_right) / math.sqrt(apart) if apart else 0.0
    return Interval(low, high, float(ndtr(score)), "Tango's score test")


def _lowest(pairs: Pairs, reach: float) -> float:
    """Return the lowest difference that the corrected score does not reject."""

    def excess(difference: float) -> float:
        gap = pairs.only_left - pairs.only_right - pairs.rows * difference - 1
        return gap - reach * math.sqrt(max(0.0, pairs.rows * _variance(pairs, difference)))

    return _root(excess, -1.0, pairs.change)


def _variance(pairs: Pairs, difference: float) -> float:
    """Return the variance of a row's difference where the true one is `difference`, by Tango's constrained estimate."""
    a = 2 * pairs.rows
    b = -pairs.only_left - pairs.only_right + (2 * pairs.rows - pairs.only_left + pairs.only_right) * difference
    c = -pairs.only_right * difference * (1 - difference)
    right_alone = (math.sqrt(max(0.0, b * b - 4 * a * c)) - b) / (2 * a)
    return 2 * right_alone + difference * (1 - difference)


def _root(falling: Callable[[float], float], low: float, high: float) -> float:
    """Return where a falling function is zero; `low` where it is below zero already there."""
    if falling(low) <= 0:
        return low
    for _ in range(60):
        middle = (low + high) / 2
        low, high = (middle, high) if falling(middle) > 0 else (low, middle)
    return (low + high) / 2


def mean_share_interval(classes: Sequence[Pairs], confidence: float) -> Interval | None:
    """Return the interval of a difference of means over classes of shares, None where a class has too few rows.

    The intervals of the classes are put together by the squares of their arms. Source: Zou and Donner, Construction of
    confidence limits about effect measures: a general approach, Statistics in Medicine 27, 2008.
    """
    from scipy.special import ndtr, ndtri

    found = [share_interval(pairs, confidence) for pairs in classes]
    known = [interval for interval in found if interval is not None]
    if len(known) < len(found) or not known:
        return None
    change = sum(pairs.change for pairs in classes) / len(classes)
    below, above = (
        math.sqrt(sum((pairs.change - end) ** 2 for pairs, end in zip(classes, ends, strict=True))) / len(classes)
        for ends in ([interval.low for interval in known], [interval.high for interval in known])
    )
    error = (below + above) / 2 / float(ndtri(0.5 + confidence / 2))
    return Interval(change - below, change + above, float(ndtr(change / error)), "Tango's score test, class by class")
