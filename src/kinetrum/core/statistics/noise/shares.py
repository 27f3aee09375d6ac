"""Shares of rows that two models have right: accuracy, recall, specificity, and their mean over classes."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass

from kinetrum.core.statistics.noise.verdict import Interval, fewest_rows


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

    It inverts Tango's score test, at the normal critical value as far as McNemar's exact test allows for so few rows
    that differ: it leaves out zero exactly where that test tells the two apart. Sources: Tango, Equivalence test and
    confidence interval for the difference in proportions for the paired-sample design, Statistics in Medicine 17, 1998;
    McNemar, Note on the sampling error of the difference between correlated proportions, Psychometrika 12, 1947.
    """
    from scipy.special import ndtr

    if pairs.rows < fewest_rows(confidence):
        return None
    reach = _critical(pairs.only_left + pairs.only_right, confidence)
    low, high = _lowest(pairs, reach), -_lowest(Pairs(pairs.rows, pairs.only_right, pairs.only_left), reach)
    apart = pairs.only_left + pairs.only_right
    score = (pairs.only_left - pairs.only_right) / math.sqrt(apart) if apart else 0.0
    return Interval(low, high, float(ndtr(score)), "Tango's score test")


def _critical(apart: int, confidence: float) -> float:
    """Return how large a score tells two models apart, of which one alone has `apart` rows right."""
    from scipy.special import bdtr, ndtri
    from scipy.stats import binom

    normal = float(ndtri(0.5 + confidence / 2))
    if apart == 0:
        return normal
    # The most rows of the fewer side with which the exact test, two-sided, still tells.
    fewer = int(binom.ppf((1 - confidence) / 2, apart, 0.5))
    while fewer >= 0 and 2 * float(bdtr(fewer, apart, 0.5)) > (1 - confidence) * (1 + 1e-9):
        fewer -= 1
    # How far apart both sides may be untold, and how far they must be to be told: the two differ by one row.
    untold, discordant = apart - 2 * (fewer + 1), apart - 2 * fewer
    critical = max(normal, untold / math.sqrt(apart) * (1 + 1e-9))
    return min(critical, discordant / math.sqrt(apart) * (1 - 1e-9)) if fewer >= 0 else critical


def _lowest(pairs: Pairs, reach: float) -> float:
    """Return the lowest difference that the score does not reject."""

    def excess(difference: float) -> float:
        gap = pairs.only_left - pairs.only_right - pairs.rows * difference
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

    shares = [share_interval(pairs, confidence) for pairs in classes]
    known = [interval for interval in shares if interval is not None]
    if len(known) < len(shares) or not known:
        return None
    change = sum(pairs.change for pairs in classes) / len(classes)
    below, above = (
        math.sqrt(sum((pairs.change - end) ** 2 for pairs, end in zip(classes, ends, strict=True))) / len(classes)
        for ends in ([interval.low for interval in known], [interval.high for interval in known])
    )
    error = (below + above) / 2 / float(ndtri(0.5 + confidence / 2))
    return Interval(change - below, change + above, float(ndtr(change / error)), "Tango's score test, class by class")
