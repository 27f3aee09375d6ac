"""Two tables of predictions on the same rows: whose are better, and whether by more than noise."""

from __future__ import annotations

import numpy as np
import pyarrow as pa
from pyarrow import compute as pc

from kinetrum.core.errors import InvalidInput, TooLarge
from kinetrum.core.noise.difference import CONFIDENCE
from kinetrum.core.noise.rows import ROWS_LIMIT, RowsDifference, compare_classes, compare_numbers
from kinetrum.core.rows.joining import row_key
from kinetrum.core.rows.selecting import PREDICTION, TRUTH, is_regression, texts_of


def judge_predictions(
    left: pa.Table, right: pa.Table, key: str | None, confidence: float = CONFIDENCE
) -> list[RowsDifference]:
    """Compare the predictions of two tables on the rows that both have, joined by a key.

    Of two classes the later in order is the one that recall and precision are of, as in `evaluate`. Intervals hold
    with `confidence`. Raises InvalidInput where a table has no truths and predictions, where no row is in both, or
    where the truths of a row differ.
    """
    for table in (left, right):
        if not {TRUTH, PREDICTION} <= set(table.column_names):
            raise InvalidInput("A table of predictions has the columns truth and prediction.", field="rows")
    chosen = row_key(left, right, key)
    ours, theirs = texts_of(left[chosen]), texts_of(right[chosen])
    places = pc.index_in(ours, value_set=theirs)
    there = pc.is_valid(places)
    left, right = left.filter(there), right.take(pc.drop_null(places))
    if left.num_rows == 0:
        raise InvalidInput("No row is in both tables.", field="rows")
    if left.num_rows > ROWS_LIMIT:
        raise TooLarge(f"{left.num_rows:,} rows are in both; up to {ROWS_LIMIT:,} are judged.", field="rows")
    if not texts_of(left[TRUTH]).equals(texts_of(right[TRUTH])):
        raise InvalidInput("The truths of both tables differ: they are not of the same data.", field="rows")
    if is_regression(left) and is_regression(right):
        truth, one, two = (
            pc.cast(column, pa.float64()).to_numpy(zero_copy_only=False)
            for column in (left[TRUTH], left[PREDICTION], right[PREDICTION])
        )
        whole = np.isfinite(truth) & np.isfinite(one) & np.isfinite(two)
        return compare_numbers(truth[whole], one[whole], two[whole], confidence) if whole.any() else []
    truths, one, two = (
        np.asarray(texts_of(column).to_pylist(), dtype=object)
        for column in (left[TRUTH], left[PREDICTION], right[PREDICTION])
    )
    classes = sorted({text for column in (truths, one, two) for text in column if text is not None})
    return compare_classes(truths, one, two, classes[-1] if len(classes) == 2 else None, confidence)
