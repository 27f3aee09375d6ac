"""Precision, F1 and Matthews' correlation of two models on the same rows: every swap of the two models' answers."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kinetrum.core.statistics.noise.verdict import Interval, fewest_rows

Floats = NDArray[np.float64]
_SWAPS_LIMIT = 1_000_000
# What is left of a binomial distribution beyond so many of its standard deviations is below 10^-12.
_DEVIATIONS = 7.5


@dataclass(frozen=True)
class Counts:
    """Rows by truth and by which models call them positive, for one class of two.

    `both_true`, `left_true`, `right_true`: positive rows that both, only the left, only the right calls positive;
    `both_false`, `left_false`, `right_false`: the same of negative rows. `true`: all positive rows.
    """

    rows: int
    true: int
    both_true: int
    left_true: int
    right_true: int
    both_false: int
    left_false: int
    right_false: int


@dataclass(frozen=True)
class Ratio:
    """A measure of one class of two, as a function of hits, answers, positive rows and rows, with its gradient.

    `counted` says how many rows tell of it.
    """

    value: Callable[[Floats, Floats, np.float64, np.float64], Floats]
    gradient: Callable[[Floats, Floats, np.float64, np.float64], tuple[Floats, Floats, Floats]]
    counted: Callable[[Counts], int]
    widest: float


def _precision(hits: Floats, positives: Floats, true: np.float64, rows: np.float64) -> Floats:
    return hits / positives


def _f1(hits: Floats, positives: Floats, true: np.float64, rows: np.float64) -> Floats:
    return 2 * hits / (true + positives)


def _correlation(hits: Floats, positives: Floats, true: np.float64, rows: np.float64) -> Floats:
    return np.asarray((rows * hits - true * positives) / np.sqrt(true * (rows - true) * positives * (rows - positives)))


def _of_precision(hits: Floats, positives: Floats, true: np.float64, rows: np.float64) -> tuple[Floats, Floats, Floats]:
    return 1 / positives, -hits / positives**2, np.zeros_like(positives)


def _of_f1(hits: Floats, positives: Floats, true: np.float64, rows: np.float64) -> tuple[Floats, Floats, Floats]:
    slope = -2 * hits / (true + positives) ** 2
    return 2 / (true + positives), slope, slope


def _of_correlation(
    hits: Floats, positives: Floats, true: np.float64, rows: np.float64
) -> tuple[Floats, Floats, Floats]:
    above = rows * hits - true * positives
    below = np.sqrt(true * (rows - true) * positives * (rows - positives))
    by_said = -true / below - above / (2 * below) * (1 / positives - 1 / (rows - positives))
    by_true = -positives / below - above / (2 * below) * (1 / true - 1 / (rows - true))
    return rows / below, np.asarray(by_said), np.asarray(by_true)


def _answers(counts: Counts) -> int:
    """Return how many rows one of the models calls positive."""
    return (
        counts.both_true
        + counts.left_true
        + counts.right_true
        + counts.both_false
        + counts.left_false
        + counts.right_false
    )


RATIOS: dict[str, Ratio] = {
    "precision": Ratio(_precision, _of_precision, _answers, 1.0),
    "f1": Ratio(_f1, _of_f1, lambda counts: counts.true, 1.0),
    "mcc": Ratio(_correlation, _of_correlation, lambda counts: min(counts.true, counts.rows - counts.true), 2.0),
}


def ratio_values(ratio: Ratio, counts: Counts) -> tuple[float, float]:
    """Return the measure of the left and of the right model; NaN where it is not defined."""
    with np.errstate(invalid="ignore", divide="ignore"):
        left, right, _ = _told(ratio, counts, np.array([counts.left_true]), np.array([counts.left_false]))
    return float(left[0]), float(right[0])


def ratio_interval(ratio: Ratio, counts: Counts, confidence: float) -> Interval | None:
    """Return the interval of a difference of a measure, None where the rows are too few to tell.

    Of two equally good models it does not matter which answer is whose: swapping them row by row gives the
    distribution of the difference over its standard error (by the influence function), counted out over all swaps,
    not drawn. Its critical value, at least that of the normal distribution, makes the interval. Over a million swaps
    that differ it is the normal one alone. Sources: Chung and Romano, Exact and asymptotically robust permutation
    tests, Annals of Statistics 41, 2013; Hampel, The influence curve and its role in robust estimation, JASA 69, 1974.
    """
    from scipy.special import ndtr, ndtri

    if ratio.counted(counts) < fewest_rows(confidence):
        return None
    with np.errstate(invalid="ignore", divide="ignore"):
        left, right, error = _told(ratio, counts, np.array([counts.left_true]), np.array([counts.left_false]))
        critical, method = _critical(ratio, counts, confidence), "exact test of swapped answers"
    normal = float(ndtri(0.5 + confidence / 2))
    if critical is None:
        critical, method = normal, "influence function"
    change, reach = float(left[0] - right[0]), max(critical, normal) * float(error[0])
    # An end on zero is no difference, whatever the last digit says.
    low, high = (0.0 if abs(end) < 1e-12 else end for end in (change - reach, change + reach))
    return Interval(max(-ratio.widest, low), min(ratio.widest, high), float(ndtr(change / float(error[0]))), method)


def _critical(ratio: Ratio, counts: Counts, confidence: float) -> float | None:
    """Return the critical value of the studentised difference over all swaps; None where these are too many."""
    (ours, weights), (theirs, others) = (
        _swaps(counts.left_true + counts.right_true),
        _swaps(counts.left_false + counts.right_false),
    )
    if len(ours) * len(theirs) > _SWAPS_LIMIT:
        return None
    left, right, error = _told(ratio, counts, ours[:, None], theirs[None, :])
    scores = np.abs(left - right) / error
    # Where a swap leaves one model without a value, nothing is told.
    scores = np.where(np.isfinite(scores), scores, 0.0).ravel()
    chance = (weights[:, None] * others[None, :]).ravel()
    order = np.argsort(-scores)
    # The digits of a score must not part equals.
    ordered, beyond = np.round(scores[order], 9), np.cumsum(chance[order])
    at = int(np.searchsorted(beyond, 1 - confidence, side="right"))
    return float(ordered[min(at, len(ordered) - 1)]) + 1e-9


def _swaps(apart: int) -> tuple[Floats, Floats]:
    """Return how many of the rows that differ can fall to the left, and the probability of each."""
    from scipy.stats import binom

    reach = _DEVIATIONS * np.sqrt(apart) / 2 + 1
    counts = np.arange(max(0, int(apart / 2 - reach)), min(apart, int(apart / 2 + reach)) + 1, dtype=np.float64)
    return counts, np.asarray(binom.pmf(counts, apart, 0.5))


def _told(ratio: Ratio, counts: Counts, left_true: Floats, left_false: Floats) -> tuple[Floats, Floats, Floats]:
    """Return the measure of both models and the standard error of its difference, for each swap."""
    left_true, left_false = np.broadcast_arrays(
        np.asarray(left_true, dtype=np.float64), np.asarray(left_false, dtype=np.float64)
    )
    right_true = counts.left_true + counts.right_true - left_true
    right_false = counts.left_false + counts.right_false - left_false
    # As numbers of NumPy: without a row of a class a share of it is not defined, and no error.
    true, rows = np.float64(counts.true), np.float64(counts.rows)
    sides = []
    for alone_true, alone_false in ((left_true, left_false), (right_true, right_false)):
        hits = counts.both_true + alone_true
        positives = hits + counts.both_false + alone_false
        sides.append((ratio.value(hits, positives, true, rows), ratio.gradient(hits, positives, true, rows)))
    (left, (hit_left, said_left, true_left)), (right, (hit_right, said_right, true_right)) = sides
    on_true = true_left - true_right
    left_hit, right_hit = hit_left + said_left, hit_right + said_right
    neither = counts.true - counts.both_true - counts.left_true - counts.right_true
    # Of each kind of row: how many, and by how much one more of it would move the difference.
    kinds = (
        (counts.both_true, left_hit - right_hit + on_true),
        (left_true, left_hit + on_true),
        (right_true, -right_hit + on_true),
        (neither, on_true),
        (counts.both_false, said_left - said_right),
        (left_false, said_left),
        (right_false, -said_right),
    )
    squares = sum(count * move**2 for count, move in kinds)
    total = sum(count * move for count, move in kinds)
    # Half a row more of each kind that differs: that none was seen does not say that there are none.
    unseen = sum(move**2 / 2 for _, move in (kinds[1], kinds[2], kinds[5], kinds[6]))
    return left, right, np.asarray(np.sqrt(squares - total**2 / rows + unseen))
