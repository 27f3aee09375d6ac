"""Two models on the same rows: McNemar's test, the paired bootstrap, the areas under two curves by DeLong."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kinetrum.core.noise.difference import CONFIDENCE

RESAMPLES, FEWEST_RESAMPLES = 4_000, 200
ROWS_LIMIT = 400_000
_CELLS, _CELLS_AT_ONCE = 80_000_000, 4_000_000
_SEED = 20_261_127
Floats = NDArray[np.float64]


@dataclass(frozen=True)
class RowsDifference:
    """A measure of two models over the same rows, left less right, with an interval and by which method.

    `probability`: that left is the higher. `only_left_right` and `only_right_right` count rows that one alone has
    right.
    """

    measure: str
    higher_is_better: bool
    rows: int
    left: float
    right: float
    change: float
    low: float
    high: float
    probability: float
    beyond: bool
    method: str
    only_left_right: int | None = None
    only_right_right: int | None = None


def mcnemar(left_right: NDArray[np.bool_], right_right: NDArray[np.bool_]) -> tuple[int, int, float]:
    """Return how many rows only the left has right, only the right, and the exact two-sided p-value.

    `left_right`, `right_right`: n truth values, whether each model has a row right. Source: McNemar, Note on the
    sampling error of the difference between correlated proportions, Psychometrika 12, 1947; the exact binomial form.
    """
    from scipy.special import bdtr

    only_left = int(np.count_nonzero(left_right & ~right_right))
    only_right = int(np.count_nonzero(right_right & ~left_right))
    apart = only_left + only_right
    if apart == 0:
        return 0, 0, 1.0
    return only_left, only_right, min(1.0, 2 * float(bdtr(min(only_left, only_right), apart, 0.5)))


def paired_bootstrap(
    measure: Callable[[NDArray[np.intp]], Floats], rows: int, confidence: float = CONFIDENCE
) -> tuple[float, float, float]:
    """Return the interval of a difference under resampling of rows, and the share of resamples in which it is above 0.

    `measure` takes row numbers (resamples x rows) and returns a difference for each resample. The interval is that of
    percentiles; ties count half. 4,000 resamples are taken of up to 20,000 rows, fewer of more, 200 at least; they are
    the same ones every time, so that a verdict does not change when it is looked at again. Source: Efron and
    Tibshirani, An Introduction to the Bootstrap, 1993, chapter 13.
    """
    found = np.concatenate([measure(drawn) for drawn in _draws(rows)])
    return interval_of(found, confidence)


def interval_of(found: Floats, confidence: float) -> tuple[float, float, float]:
    """Return the interval of resampled differences by percentiles, and the share of them above 0; NaN counts not."""
    found = found[np.isfinite(found)]
    if not len(found):
        return float("nan"), float("nan"), 0.5
    low, high = np.quantile(found, [0.5 - confidence / 2, 0.5 + confidence / 2])
    above = (np.count_nonzero(found > 0) + np.count_nonzero(found == 0) / 2) / len(found)
    return float(low), float(high), float(above)


def resampled_sums(columns: Floats) -> Floats:
    """Return, of n rows x k columns, the sums over each resample (resamples x k): those of `paired_bootstrap`.

    Whatever is a function of sums over rows (a share, a mean, a root of one) is resampled by them all at once.
    """
    rows = len(columns)
    sums = []
    for drawn in _draws(rows):
        # How often each row was drawn, resample by resample.
        places = drawn + np.arange(len(drawn), dtype=np.intp)[:, None] * rows
        times = np.bincount(places.ravel(), minlength=len(drawn) * rows).reshape(len(drawn), rows)
        sums.append(times @ columns)
    return np.concatenate(sums)


def _draws(rows: int) -> Iterator[NDArray[np.intp]]:
    chance = np.random.default_rng(_SEED)
    resamples = max(FEWEST_RESAMPLES, min(RESAMPLES, _CELLS // max(1, rows)))
    at_once = max(1, min(resamples, _CELLS_AT_ONCE // max(1, rows)))
    for start in range(0, resamples, at_once):
        yield chance.integers(0, rows, (min(at_once, resamples - start), rows))


def compare_areas(truth: NDArray[np.bool_], left: Floats, right: Floats, confidence: float) -> tuple[float, ...]:
    """Return the areas under the ROC curves of two scores of n rows, the interval of left less right, P(left higher).

    Source: DeLong, DeLong and Clarke-Pearson, Comparing the areas under two or more correlated receiver operating
    characteristic curves, Biometrics 44, 1988, on ranks as by Sun and Xu, IEEE Signal Processing Letters 21, 2014.
    NaN where a class has fewer than two rows.
    """
    from scipy.stats import norm, rankdata

    positives, negatives = int(truth.sum()), int((~truth).sum())
    if min(positives, negatives) < 2:
        return (float("nan"),) * 5
    above, below = [], []
    for score in (left, right):
        ranks = rankdata(score)
        # Of each row of one class, the share of the other that it is on the right side of; ties count half.
        above.append((ranks[truth] - rankdata(score[truth])) / negatives)
        below.append(1 - (ranks[~truth] - rankdata(score[~truth])) / positives)
    areas = [float(shares.mean()) for shares in above]
    error = float(
        np.sqrt(np.var(above[0] - above[1], ddof=1) / positives + np.var(below[0] - below[1], ddof=1) / negatives)
    )
    change = areas[0] - areas[1]
    if error == 0:
        return areas[0], areas[1], change, change, float(change > 0) if change else 0.5
    reach = float(norm.ppf(0.5 + confidence / 2)) * error
    return areas[0], areas[1], change - reach, change + reach, float(norm.cdf(change / error))
