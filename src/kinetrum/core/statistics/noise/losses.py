"""Means over rows: the mean of paired differences, exactly under 20 rows and by Student's t from there on."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from kinetrum.core.statistics.noise.verdict import Interval, fewest_rows

Floats = NDArray[np.float64]
EXACT_ROWS = 20
"""From so many rows on the mean of differences is near enough to normal for Student's t."""


def mean_interval(differences: Floats, confidence: float) -> Interval | None:
    """Return the interval of the mean of n paired differences, None where n rows are too few to tell.

    Under 20 rows it inverts Fisher's test of all 2^n flips of signs, which takes the differences of two equally good
    models to be symmetric and nothing else: its ends are means of subsets. From 20 rows on it is Student's paired t.
    Both are too sure where a few rows differ by far more than the others, so the interval reaches as far as Hall's,
    which is corrected for skewness. Sources: Fisher, The Design of Experiments, 1935; Hartigan, Using subsample values
    as typical values, JASA 64, 1969; Student, The probable error of a mean, Biometrika 6, 1908; Hall, On the removal of
    skewness by transformation, Journal of the Royal Statistical Society B 54, 1992.
    """
    rows = len(differences)
    if rows < fewest_rows(confidence):
        return None
    mean, deviation = float(differences.mean()), float(differences.std(ddof=1))
    if deviation <= 1e-14 * abs(mean):
        # Every row differs by the same.
        return Interval(mean, mean, 0.5 if mean == 0 else float(mean > 0), "paired t")
    if rows < EXACT_ROWS:
        symmetric = _flipped(differences, confidence)
    else:
        symmetric = _paired_t(rows, mean, deviation, confidence)
    low, high = _unskewed(differences, mean, deviation, confidence)
    return replace(symmetric, low=min(symmetric.low, low), high=max(symmetric.high, high))


def _flipped(differences: Floats, confidence: float) -> Interval:
    sums, sizes = np.zeros(1), np.zeros(1)
    for difference in differences:
        sums = np.concatenate([sums, sums + difference])
        sizes = np.concatenate([sizes, sizes + 1])
    # What differs by less than its digits can tell is equal: 0.1 + 0.2 must not be above 0.3.
    smallest = 1e-12 * float(np.abs(differences).sum())
    means = np.sort(np.where(np.abs(sums) <= smallest, 0.0, sums)[1:] / sizes[1:])
    cut = int((1 - confidence) / 2 * 2 ** len(differences) + 1e-9)
    above = (np.count_nonzero(means > 0) + np.count_nonzero(means == 0) / 2) / len(means)
    return Interval(float(means[cut - 1]), float(means[-cut]), float(above), "exact test of flipped signs")


def _paired_t(rows: int, mean: float, deviation: float, confidence: float) -> Interval:
    from scipy.special import stdtr, stdtrit

    error = deviation / math.sqrt(rows)
    reach = float(stdtrit(rows - 1, 0.5 + confidence / 2)) * error
    return Interval(mean - reach, mean + reach, float(stdtr(rows - 1, mean / error)), "paired t")


def _unskewed(differences: Floats, mean: float, deviation: float, confidence: float) -> tuple[float, float]:
    """Return Hall's interval of a mean, by the cubic transformation that takes skewness out of Student's t."""
    from scipy.special import stdtrit

    rows = len(differences)
    skewness = float(np.mean((differences - mean) ** 3)) / float(differences.std()) ** 3
    reach = float(stdtrit(rows - 1, 0.5 + confidence / 2)) / math.sqrt(rows)
    if abs(skewness) < 1e-9:
        return mean - reach * deviation, mean + reach * deviation
    ends = [
        mean - deviation * 3 / skewness * (float(np.cbrt(1 + skewness * (end - skewness / (6 * rows)))) - 1)
        for end in (reach, -reach)
    ]
    return min(ends), max(ends)
