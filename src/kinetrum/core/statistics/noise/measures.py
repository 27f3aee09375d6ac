"""What two models are compared by on the same rows, under the names that `evaluate` gives them."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from kinetrum.core.statistics.noise.areas import compare_areas
from kinetrum.core.statistics.noise.difference import CONFIDENCE
from kinetrum.core.statistics.noise.losses import mean_interval
from kinetrum.core.statistics.noise.shares import Pairs, mean_share_interval, share_interval
from kinetrum.core.statistics.noise.swaps import RATIOS, Counts, ratio_interval, ratio_values
from kinetrum.core.statistics.noise.verdict import Interval, RowsVerdict, verdict_of

# Told where nobody asks for others.
USUAL = ("accuracy", "recall", "precision", "mae", "rmse")
_CLASSES_LIMIT = 50
Floats = NDArray[np.float64]
Bools = NDArray[np.bool_]


def select_measures(verdicts: Sequence[RowsVerdict], names: Iterable[str]) -> list[RowsVerdict]:
    """Return the verdicts on the usual measures and on those of names."""
    wanted = {*USUAL, *names}
    return [verdict for verdict in verdicts if verdict.measure in wanted]


def compare_classes(
    truth: NDArray[np.object_],
    left: NDArray[np.object_],
    right: NDArray[np.object_],
    positive: object | None,
    confidence: float = CONFIDENCE,
) -> list[RowsVerdict]:
    """Compare predicted classes of n rows.

    `positive` is the class of two that recall, precision, specificity, F1 and Matthews' correlation are of; None leaves
    them out. The balanced accuracy is over up to 50 classes. A truth or a prediction of None is right nowhere.
    """
    known = is_known(truth)
    left_right, right_right = (left == truth) & known, (right == truth) & known
    accuracy = _pairs(left_right, right_right, np.ones(len(truth), dtype=bool))
    verdicts = [
        _with_counts(
            verdict_of(
                "accuracy",
                len(truth),
                (float(left_right.mean()), float(right_right.mean())),
                share_interval(accuracy, confidence),
                confidence,
                len(truth),
            ),
            accuracy,
        )
    ]
    if positive is not None:
        verdicts += _of_two_classes(truth == positive, left == positive, right == positive, known, confidence)
    classes = sorted({str(one) for one in truth[known]})
    of_class = (
        [truth == one for one in classes] if positive is None else [truth == positive, known & (truth != positive)]
    )
    if len(classes) in range(2, _CLASSES_LIMIT + 1):
        verdicts.append(_balanced(left_right, right_right, of_class, confidence))
    return verdicts


def is_known(values: NDArray[np.object_]) -> Bools:
    """Tell of each value whether there is one."""
    return np.array([value is not None for value in values], dtype=bool)


def _pairs(left_right: Bools, right_right: Bools, among: Bools) -> Pairs:
    return Pairs(
        int(among.sum()), int((left_right & ~right_right & among).sum()), int((right_right & ~left_right & among).sum())
    )


def _with_counts(verdict: RowsVerdict, pairs: Pairs) -> RowsVerdict:
    return replace(verdict, only_left_right=pairs.only_left, only_right_right=pairs.only_right)


def _balanced(left_right: Bools, right_right: Bools, of_class: Sequence[Bools], confidence: float) -> RowsVerdict:
    """Compare the means over classes of the share that is right."""
    values = tuple(float(np.mean([right[rows].mean() for rows in of_class])) for right in (left_right, right_right))
    interval = mean_share_interval([_pairs(left_right, right_right, rows) for rows in of_class], confidence)
    rarest = min(int(rows.sum()) for rows in of_class)
    return verdict_of("balanced_accuracy", len(left_right), (values[0], values[1]), interval, confidence, rarest)


def _of_two_classes(is_true: Bools, left: Bools, right: Bools, known: Bools, confidence: float) -> list[RowsVerdict]:
    """Compare what one class of two is measured by; a row without a truth is of neither."""
    is_false = known & ~is_true
    verdicts = []
    for name, rows, ours, theirs in (("recall", is_true, left, right), ("specificity", is_false, ~left, ~right)):
        count = int(rows.sum())
        if count:
            values = float(ours[rows].mean()), float(theirs[rows].mean())
            interval = share_interval(_pairs(ours, theirs, rows), confidence)
            verdicts.append(verdict_of(name, len(is_true), values, interval, confidence, count))
    counts = _counts(is_true, is_false, left, right)
    for name, ratio in RATIOS.items():
        values = ratio_values(ratio, counts)
        if np.isfinite(values[0] - values[1]):
            interval = ratio_interval(ratio, counts, confidence)
            verdicts.append(verdict_of(name, len(is_true), values, interval, confidence, ratio.counted(counts)))
    return verdicts


def _counts(is_true: Bools, is_false: Bools, left: Bools, right: Bools) -> Counts:
    sides = [
        [int((one & rows).sum()) for one in (left & right, left & ~right, right & ~left)]
        for rows in (is_true, is_false)
    ]
    true = int(is_true.sum())
    return Counts(true + int(is_false.sum()), true, *sides[0], *sides[1])


def compare_scores(truth: Bools, left: Floats, right: Floats, confidence: float = CONFIDENCE) -> list[RowsVerdict]:
    """Compare scores of the positive class of n rows: the area under the ROC curve, and losses of probabilities."""
    rarer = min(int(truth.sum()), int((~truth).sum()))
    one, two, interval = compare_areas(truth, left, right, confidence)
    verdicts = []
    if np.isfinite(one):
        verdicts.append(verdict_of("roc_auc", len(truth), (one, two), interval, confidence, rarer))
    if all(bool(((score >= 0) & (score <= 1)).all()) for score in (left, right)):
        verdicts.append(_of_losses("log_loss", _log_losses(truth, left), _log_losses(truth, right), confidence))
        verdicts.append(_of_losses("brier", (left - truth) ** 2, (right - truth) ** 2, confidence))
    return verdicts


def compare_numbers(truth: Floats, left: Floats, right: Floats, confidence: float = CONFIDENCE) -> list[RowsVerdict]:
    """Compare predicted numbers of n rows: mean absolute and mean squared error, its root, and the share explained.

    Root and share rise and fall with the mean squared error: their intervals are its own on their scales, so that the
    three never contradict one another. Truths are taken as given.
    """
    absolute = _of_losses("mae", np.abs(left - truth), np.abs(right - truth), confidence)
    squared = _of_losses("mse", (left - truth) ** 2, (right - truth) ** 2, confidence)
    roots = float(np.sqrt(squared.left)), float(np.sqrt(squared.right))
    verdicts = [absolute, _scaled("rmse", squared, roots, 1 / sum(roots) if sum(roots) else 0.0), squared]
    spread = float(np.mean((truth - truth.mean()) ** 2))
    if spread > 0:
        shares = 1 - squared.left / spread, 1 - squared.right / spread
        verdicts.append(_scaled("r2", squared, shares, -1 / spread))
    return verdicts


def _of_losses(name: str, left: Floats, right: Floats, confidence: float) -> RowsVerdict:
    interval = mean_interval(left - right, confidence)
    return verdict_of(name, len(left), (float(left.mean()), float(right.mean())), interval, confidence, len(left))


def _scaled(name: str, verdict: RowsVerdict, values: tuple[float, float], scale: float) -> RowsVerdict:
    """Return the verdict on what is another measure on a scale of its own, turned round where that is below zero."""
    if verdict.low is None or verdict.high is None or verdict.probability is None:
        return verdict_of(name, verdict.rows, values, None, verdict.confidence, verdict.rows)
    low, high = sorted((verdict.low * scale, verdict.high * scale))
    probability = verdict.probability if scale >= 0 else 1 - verdict.probability
    interval = Interval(low, high, probability, verdict.method)
    return verdict_of(name, verdict.rows, values, interval, verdict.confidence, verdict.rows)


def _log_losses(truth: Bools, score: Floats) -> Floats:
    least = np.finfo(np.float64).eps
    return np.asarray(-np.log(np.clip(np.where(truth, score, 1 - score), least, 1 - least)))
