"""Two models on the same rows: McNemar's test of right and wrong, and the paired bootstrap of any measure of rows."""

from __future__ import annotations

from collections.abc import Callable
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
    chance = np.random.default_rng(_SEED)
    resamples = max(FEWEST_RESAMPLES, min(RESAMPLES, _CELLS // max(1, rows)))
    at_once = max(1, min(resamples, _CELLS_AT_ONCE // max(1, rows)))
    found = np.concatenate([
        measure(chance.integers(0, rows, (min(at_once, resamples - start), rows)))
        for start in range(0, resamples, at_once)
    ])  # fmt: skip
    found = found[np.isfinite(found)]
    if not len(found):
        return float("nan"), float("nan"), 0.5
    low, high = np.quantile(found, [0.5 - confidence / 2, 0.5 + confidence / 2])
    above = (np.count_nonzero(found > 0) + np.count_nonzero(found == 0) / 2) / len(found)
    return float(low), float(high), float(above)


def compare_classes(
    truth: NDArray[np.object_],
    left: NDArray[np.object_],
    right: NDArray[np.object_],
    positive: object | None,
    confidence: float = CONFIDENCE,
) -> list[RowsDifference]:
    """Compare predicted classes of n rows: accuracy by McNemar, and of two classes recall and precision as well.

    `positive` is the class that recall and precision are of; None leaves them out.
    """
    left_right, right_right = left == truth, right == truth
    found = [_accuracy(left_right, right_right, confidence)]
    if positive is not None:
        is_true, says_left, says_right = truth == positive, left == positive, right == positive
        found.append(_share("recall", says_left & is_true, is_true, says_right & is_true, is_true, confidence))
        found.append(_share("precision", says_left & is_true, says_left, says_right & is_true, says_right, confidence))
    return [one for one in found if np.isfinite(one.change)]


def _accuracy(left_right: NDArray[np.bool_], right_right: NDArray[np.bool_], confidence: float) -> RowsDifference:
    only_left, only_right, p = mcnemar(left_right, right_right)
    gain = left_right.astype(np.float64) - right_right
    low, high, above = paired_bootstrap(lambda rows: gain[rows].mean(axis=1), len(gain), confidence)
    left, right = float(left_right.mean()), float(right_right.mean())
    return RowsDifference(
        "accuracy", True, len(gain), left, right, left - right, low, high, above, p < 1 - confidence, "McNemar",
        only_left, only_right,
    )  # fmt: skip


def _share(
    name: str, left_hits: NDArray[np.bool_], left_of: NDArray[np.bool_], right_hits: NDArray[np.bool_],
    right_of: NDArray[np.bool_], confidence: float,
) -> RowsDifference:  # fmt: skip
    """Compare a share of rows, such as recall: hits of those that count."""

    def shares(rows: NDArray[np.intp]) -> Floats:
        with np.errstate(invalid="ignore", divide="ignore"):
            return np.asarray(
                left_hits[rows].sum(axis=1) / left_of[rows].sum(axis=1)
                - right_hits[rows].sum(axis=1) / right_of[rows].sum(axis=1)
            )

    low, high, above = paired_bootstrap(shares, len(left_hits), confidence)
    with np.errstate(invalid="ignore", divide="ignore"):
        left = float(np.divide(left_hits.sum(), left_of.sum()))
        right = float(np.divide(right_hits.sum(), right_of.sum()))
    beyond = bool(low > 0 or high < 0)
    return RowsDifference(
        name, True, len(left_hits), left, right, left - right, low, high, above, beyond, "paired bootstrap"
    )


def compare_numbers(truth: Floats, left: Floats, right: Floats, confidence: float = CONFIDENCE) -> list[RowsDifference]:
    """Compare predicted numbers of n rows: the mean absolute error, and the root of the mean squared one."""
    errors_left, errors_right = np.abs(left - truth), np.abs(right - truth)
    worse = errors_left - errors_right
    low, high, above = paired_bootstrap(lambda rows: worse[rows].mean(axis=1), len(truth), confidence)
    mae = (float(errors_left.mean()), float(errors_right.mean()))

    def roots(rows: NDArray[np.intp]) -> Floats:
        return np.asarray(
            np.sqrt((errors_left[rows] ** 2).mean(axis=1)) - np.sqrt((errors_right[rows] ** 2).mean(axis=1))
        )

    root_low, root_high, root_above = paired_bootstrap(roots, len(truth), confidence)
    rmse = (float(np.sqrt((errors_left**2).mean())), float(np.sqrt((errors_right**2).mean())))
    return [
        RowsDifference("mae", False, len(truth), *mae, mae[0] - mae[1], low, high, above,
                       low > 0 or high < 0, "paired bootstrap"),
        RowsDifference("rmse", False, len(truth), *rmse, rmse[0] - rmse[1], root_low, root_high, root_above,
                       root_low > 0 or root_high < 0, "paired bootstrap"),
    ]  # fmt: skip
