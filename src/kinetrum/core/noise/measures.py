"""What two models are compared by on the same rows, under the names that `evaluate` gives them."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence

import numpy as np
from numpy.typing import NDArray

from kinetrum.core.noise.difference import CONFIDENCE
from kinetrum.core.noise.rows import (
    Floats,
    RowsDifference,
    compare_areas,
    interval_of,
    mcnemar,
    resampled_sums,
)

LOWER = frozenset({"mae", "rmse", "mse", "log_loss", "brier"})
# Told where nobody asks for others.
USUAL = ("accuracy", "recall", "precision", "mae", "rmse")
_CLASSES_LIMIT = 50
Values = dict[str, Floats]


def those_of(found: Sequence[RowsDifference], names: Iterable[str]) -> list[RowsDifference]:
    """Return the usual measures and those of names."""
    wanted = {*USUAL, *names}
    return [one for one in found if one.measure in wanted]


def compare_classes(
    truth: NDArray[np.object_], left: NDArray[np.object_], right: NDArray[np.object_], positive: object | None,
    confidence: float = CONFIDENCE,
) -> list[RowsDifference]:  # fmt: skip
    """Compare predicted classes of n rows: accuracy by McNemar, all else that counts of rows tell by the bootstrap.

    `positive` is the class of two that recall, precision, specificity, F1 and Matthews' correlation are of; None leaves
    them out. The balanced accuracy is over up to 50 classes.
    """
    left_right, right_right = left == truth, right == truth
    only_left, only_right, p = mcnemar(left_right, right_right)
    if positive is not None:
        is_true = truth == positive
        columns = [
            is_true,
            left == positive,
            (left == positive) & is_true,
            right == positive,
            (right == positive) & is_true,
        ]
        found = _compare([left_right, right_right, *columns], _of_two_classes, confidence)
    else:
        classes = sorted({str(one) for one in truth})
        per_class = [truth == one for one in classes] if len(classes) <= _CLASSES_LIMIT else []
        columns = [*per_class, *(is_true & left_right for is_true in per_class),
                   *(is_true & right_right for is_true in per_class)]  # fmt: skip
        found = _compare([left_right, right_right, *columns], _of_many_classes, confidence)
    return [_by_mcnemar(one, only_left, only_right, p < 1 - confidence) if one.measure == "accuracy" else one
            for one in found]  # fmt: skip


def compare_scores(
    truth: NDArray[np.bool_], left: Floats, right: Floats, confidence: float = CONFIDENCE
) -> list[RowsDifference]:
    """Compare scores of the positive class of n rows: the area under the ROC curve, and losses of probabilities."""
    one, two, low, high, above = compare_areas(truth, left, right, confidence)
    found = [_difference("roc_auc", len(truth), one, two, (low, high, above), "DeLong")] if np.isfinite(one) else []
    if all(bool(((score >= 0) & (score <= 1)).all()) for score in (left, right)):
        columns = [each for score in (left, right) for each in (_log_losses(truth, score), (score - truth) ** 2)]
        found += _compare(columns, _of_losses, confidence)
    return found


def compare_numbers(truth: Floats, left: Floats, right: Floats, confidence: float = CONFIDENCE) -> list[RowsDifference]:
    """Compare predicted numbers of n rows: mean absolute and mean squared error, its root, and the share explained."""
    # Around its mean, so that the squares lose no digits.
    centred = truth - truth.mean()
    columns = [
        np.abs(left - truth),
        np.abs(right - truth),
        (left - truth) ** 2,
        (right - truth) ** 2,
        centred,
        centred**2,
    ]
    return _compare(columns, _of_numbers, confidence)


def _compare(
    columns: list[NDArray[np.bool_]] | list[Floats], measures: Callable[[Floats, int], tuple[Values, Values]],
    confidence: float,
) -> list[RowsDifference]:  # fmt: skip
    """Compare by measures that are functions of sums over rows: on all rows, and on each resample of them."""
    table = np.stack([np.asarray(column, dtype=np.float64) for column in columns], axis=1)
    rows = len(table)
    with np.errstate(invalid="ignore", divide="ignore"):
        left, right = measures(table.sum(axis=0, keepdims=True), rows)
        drawn_left, drawn_right = measures(resampled_sums(table), rows)
        return [
            _difference(name, rows, float(left[name][0]), float(right[name][0]),
                        interval_of(drawn_left[name] - drawn_right[name], confidence), "paired bootstrap")
            for name in left if np.isfinite(left[name][0] - right[name][0])
        ]  # fmt: skip


def _difference(
    name: str, rows: int, left: float, right: float, interval: tuple[float, float, float], method: str
) -> RowsDifference:
    low, high, above = interval
    return RowsDifference(
        name, name not in LOWER, rows, left, right, left - right, low, high, above, low > 0 or high < 0, method
    )


def _by_mcnemar(found: RowsDifference, only_left: int, only_right: int, beyond: bool) -> RowsDifference:
    return RowsDifference(
        **{**vars(found), "beyond": beyond, "method": "McNemar", "only_left_right": only_left,
           "only_right_right": only_right}
    )  # fmt: skip


def _of_two_classes(sums: Floats, rows: int) -> tuple[Values, Values]:
    left_right, right_right, true, *sides = sums.T
    said_left, hit_left, said_right, hit_right = sides
    return (
        {"accuracy": left_right / rows, **_of_positive(true, said_left, hit_left, rows)},
        {"accuracy": right_right / rows, **_of_positive(true, said_right, hit_right, rows)},
    )


def _of_positive(true: Floats, said: Floats, hit: Floats, rows: int) -> Values:
    """Return measures of one class of two: `true` rows are of it, of `said` the model says so, `hit` are both."""
    rest = rows - true
    spared = rest - said + hit
    recall, specificity = hit / true, spared / rest
    return {
        "recall": recall, "precision": hit / said, "f1": 2 * hit / (true + said), "specificity": specificity,
        "balanced_accuracy": (recall + specificity) / 2,
        "mcc": (rows * hit - true * said) / np.sqrt(true * rest * said * (rows - said)),
    }  # fmt: skip


def _of_many_classes(sums: Floats, rows: int) -> tuple[Values, Values]:
    left, right = ({"accuracy": sums[:, at] / rows} for at in (0, 1))
    true, hit_left, hit_right = np.split(sums[:, 2:], 3, axis=1)
    if true.shape[1]:
        # A class that a resample left out counts in none of its means.
        left["balanced_accuracy"] = np.nanmean(hit_left / true, axis=1)
        right["balanced_accuracy"] = np.nanmean(hit_right / true, axis=1)
    return left, right


def _of_losses(sums: Floats, rows: int) -> tuple[Values, Values]:
    means = sums / rows
    return ({"log_loss": means[:, 0], "brier": means[:, 1]}, {"log_loss": means[:, 2], "brier": means[:, 3]})


def _log_losses(truth: NDArray[np.bool_], score: Floats) -> Floats:
    least = np.finfo(np.float64).eps
    return np.asarray(-np.log(np.clip(np.where(truth, score, 1 - score), least, 1 - least)))


def _of_numbers(sums: Floats, rows: int) -> tuple[Values, Values]:
    one, two, squares_one, squares_two, centred, squares = sums.T
    spread = squares - centred**2 / rows
    return tuple(
        {"mae": errors / rows, "rmse": np.sqrt(squared / rows), "mse": squared / rows, "r2": 1 - squared / spread}
        for errors, squared in ((one, squares_one), (two, squares_two))
    )  # type: ignore[return-value]
