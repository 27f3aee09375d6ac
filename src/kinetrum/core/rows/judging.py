"""Two tables of predictions on the same rows: whose are better, and whether by more than noise."""

from __future__ import annotations

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray
from pyarrow import compute as pc

from kinetrum.core.errors import InvalidInput, TooLarge
from kinetrum.core.noise.difference import CONFIDENCE
from kinetrum.core.noise.measures import compare_classes, compare_numbers, compare_scores
from kinetrum.core.noise.rows import ROWS_LIMIT, RowsDifference
from kinetrum.core.rows.joining import row_key
from kinetrum.core.rows.selecting import PREDICTION, TRUTH, is_regression, texts_of

SCORE = "score"


def judge_predictions(
    left: pa.Table, right: pa.Table, key: str | None, confidence: float = CONFIDENCE
) -> list[RowsDifference]:
    """Compare the predictions of two tables on the rows that both have, joined by a key.

    Of two classes the one that scores are of, else the later in order, is that of recall and precision, as in
    `evaluate`; where both tables have scores of it, these are compared too. Intervals hold with `confidence`. Raises
    InvalidInput where a table has no truths and predictions, where no row is in both, or
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
    if len(classes) != 2:
        return compare_classes(truths, one, two, None, confidence)
    scores = [_scores(table) for table in (left, right)]
    scored = {_scored(classes, said, score) for said, score in zip((one, two), scores, strict=True)} - {None}
    agreed = scored.pop() if len(scored) == 1 else None
    positive = agreed or classes[-1]
    found = compare_classes(truths, one, two, positive, confidence)
    if agreed and scores[0] is not None and scores[1] is not None:
        whole = np.isfinite(scores[0]) & np.isfinite(scores[1])
        if whole.any():
            found += compare_scores((truths == positive)[whole], scores[0][whole], scores[1][whole], confidence)
    return found


def _scores(table: pa.Table) -> NDArray[np.float64] | None:
    if SCORE not in table.column_names or not pa.types.is_floating(table[SCORE].type):
        return None
    return np.asarray(pc.cast(table[SCORE], pa.float64()).to_numpy(zero_copy_only=False))


def _scored(classes: list[str], said: NDArray[np.object_], scores: NDArray[np.float64] | None) -> str | None:
    """Return the class of two that scores are of: the one that high ones predict; None without scores."""
    if scores is None:
        return None
    means = [scores[(said == one) & np.isfinite(scores)] for one in classes]
    return classes[0] if all(map(len, means)) and means[0].mean() > means[1].mean() else classes[-1]
