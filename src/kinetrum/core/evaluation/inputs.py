"""What is evaluated: truths, predictions as labels or scores, weights; checked before anything is computed."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from kinetrum.core.base.arrays import plain_array
from kinetrum.core.base.errors import InvalidInput

Numbers = NDArray[np.float64]
ROW_LIMIT = 50_000_000


def column(values: Any, name: str) -> NDArray[Any]:
    """Return a one- or two-dimensional array; lists, series and frames of other libraries are taken."""
    try:
        array = plain_array(values)
    except ValueError:
        # Rows of different lengths.
        array = np.empty(0, dtype=object)
    if array.dtype == object:
        array = np.asarray(array.tolist()) if len(array) else array
    if array.dtype == object or array.ndim not in {1, 2}:
        raise InvalidInput(
            f"{name} is a list of numbers or labels, or a table with a column per class; this is a "
            f"{type(values).__name__} of {array.ndim} dimensions.",
            field=name,
        )
    if array.ndim == 2 and array.shape[1] == 1:
        array = array[:, 0]
    if len(array) == 0:
        raise InvalidInput(f"{name} is empty; at least one row is needed.", field=name)
    if len(array) > ROW_LIMIT:
        raise InvalidInput(f"{name} has {len(array)} rows; at most {ROW_LIMIT} are evaluated.", field=name)
    if array.dtype.kind == "f" and not np.isfinite(array).all():
        at = int(np.argwhere(~np.isfinite(array.reshape(len(array), -1)).all(axis=1))[0, 0])
        raise InvalidInput(f"{name} is {array[at]} in row {at}; every row needs a finite number.", field=name)
    return array


def weights_of(weights_given: Any, rows: int) -> Numbers:
    """Return one weight per row, ones without any; raises InvalidInput for negative or missing ones."""
    if weights_given is None:
        return np.ones(rows)
    weights = plain_array(weights_given).astype(np.float64)
    if weights.shape != (rows,):
        raise InvalidInput(f"There are {rows} rows and {weights.size} weights; one each is needed.", field="weights")
    if not np.isfinite(weights).all() or (weights < 0).any() or weights.sum() == 0:
        raise InvalidInput("Weights are finite numbers of zero or more, not all zero.", field="weights")
    return weights


def same_rows(truth: NDArray[Any], predicted: NDArray[Any]) -> None:
    """Refuse columns of different lengths."""
    if len(truth) != len(predicted):
        raise InvalidInput(
            f"There are {len(truth)} truths and {len(predicted)} predictions; one each is needed.", field="y_score"
        )


def is_whole(values: NDArray[Any]) -> bool:
    """Tell whether numbers are all whole."""
    return values.dtype.kind in "iub" or (values.dtype.kind == "f" and bool((values == np.floor(values)).all()))


def is_binary(values: NDArray[Any]) -> bool:
    """Tell whether values are all zero or one, or true and false."""
    return values.dtype.kind == "b" or (values.dtype.kind in "iuf" and bool(np.isin(values, (0, 1)).all()))


def share(part: float, whole: float) -> float:
    """Return part / whole, 0 where there is nothing to divide by."""
    return part / whole if whole else 0.0
