"""Two tables of predictions on the same rows: whose are better, and whether by more than noise."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray
from pyarrow import compute as pc

from kinetrum.core.base.errors import InvalidInput, TooLarge
from kinetrum.core.rows.joining import row_key
from kinetrum.core.rows.selecting import PREDICTION, TRUTH, is_regression, texts_of
from kinetrum.core.statistics.noise.difference import CONFIDENCE
from kinetrum.core.statistics.noise.measures import compare_classes, compare_numbers, compare_scores, is_known
from kinetrum.core.statistics.noise.verdict import RowsVerdict

SCORE = "score"
ROWS_LIMIT = 400_000
Floats = NDArray[np.float64]


def judge_predictions(
    left: pa.Table, right: pa.Table, key: str | None, confidence: float = CONFIDENCE
) -> list[RowsVerdict]:
    """Compare the predictions of two tables on the rows that both have, joined by a key.

    Of two classes the one that scores are of, else the later in order, is that of recall and precision, as in
    `evaluate`; where both tables have scores of it, these are compared too. A class that is missing, as truth or as
    prediction, is right nowhere. Intervals hold with `confidence` (0 to 1). Raises InvalidInput where a table has no
    truths and predictions, where no row is in both, where the truths of a row differ, or where a predicted number is
    missing: no error can be told of it, and leaving the row out would favour who left it out.
    """
    left, right, left_out = _joined(left, right, key)
    if is_regression(left) and is_regression(right):
        verdicts = compare_numbers(*_numbers(left, right), confidence)
    else:
        verdicts = _compare_classes(left, right, confidence)
    return [replace(verdict, left_out=left_out) for verdict in verdicts]


def _joined(left: pa.Table, right: pa.Table, key: str | None) -> tuple[pa.Table, pa.Table, int]:
    """Return the rows that both tables have, in one order, and how many only the right one has."""
    for table in (left, right):
        if not {TRUTH, PREDICTION} <= set(table.column_names):
            raise InvalidInput("A table of predictions has the columns truth and prediction.", field="rows")
    chosen = row_key(left, right, key)
    places = pc.index_in(texts_of(left[chosen]), value_set=texts_of(right[chosen]))
    there = pc.is_valid(places)
    all_right = right.num_rows
    left, right = left.filter(there), right.take(pc.drop_null(places))
    if left.num_rows == 0:
        raise InvalidInput("No row is in both tables.", field="rows")
    if left.num_rows > ROWS_LIMIT:
        raise TooLarge(f"{left.num_rows:,} rows are in both; up to {ROWS_LIMIT:,} are judged.", field="rows")
    if not texts_of(left[TRUTH]).equals(texts_of(right[TRUTH])):
        raise InvalidInput("The truths of both tables differ: they are not of the same data.", field="rows")
    return left, right, all_right - left.num_rows


def _numbers(left: pa.Table, right: pa.Table) -> tuple[Floats, Floats, Floats]:
    """Return truths and both predictions of the rows that have a truth."""
    truth, one, two = (
        np.asarray(pc.cast(column, pa.float64()).to_numpy(zero_copy_only=False))
        for column in (left[TRUTH], left[PREDICTION], right[PREDICTION])
    )
    known = np.isfinite(truth)
    if not known.any():
        raise InvalidInput("No row has a truth.", field="rows")
    for side, predicted in (("left", one), ("right", two)):
        missing = int(np.count_nonzero(known & ~np.isfinite(predicted)))
        if missing:
            raise InvalidInput(
                f"The {side} table has no finite prediction in {missing:,} of {int(known.sum()):,} rows; the error "
                "over all rows cannot be told.",
                field="rows",
            )
    return truth[known], one[known], two[known]


def _compare_classes(left: pa.Table, right: pa.Table, confidence: float) -> list[RowsVerdict]:
    truths, one, two = (
        np.asarray(texts_of(column).to_pylist(), dtype=object)
        for column in (left[TRUTH], left[PREDICTION], right[PREDICTION])
    )
    classes = sorted({text for column in (truths, one, two) for text in column if text is not None})
    if len(classes) != 2:
        return compare_classes(truths, one, two, None, confidence)
    scores = [_scores(table) for table in (left, right)]
    scored = {_scored(classes, predicted, score) for predicted, score in zip((one, two), scores, strict=True)} - {None}
    agreed = scored.pop() if len(scored) == 1 else None
    positive = agreed or classes[-1]
    verdicts = compare_classes(truths, one, two, positive, confidence)
    known = is_known(truths)
    # Scores that are missing in some rows are not compared: the rows without them may be the hard ones.
    if agreed and all(score is not None and np.isfinite(score[known]).all() for score in scores) and known.any():
        ours, theirs = (score[known] for score in scores if score is not None)
        verdicts += compare_scores((truths == positive)[known], ours, theirs, confidence)
    return verdicts


def _scores(table: pa.Table) -> NDArray[np.float64] | None:
    if SCORE not in table.column_names or not pa.types.is_floating(table[SCORE].type):
        return None
    return np.asarray(pc.cast(table[SCORE], pa.float64()).to_numpy(zero_copy_only=False))


def _scored(classes: list[str], predicted: NDArray[np.object_], scores: NDArray[np.float64] | None) -> str | None:
    """Return the class of two that scores are of: the one that high ones predict; None without scores."""
    if scores is None:
        return None
    means = [scores[(predicted == one) & np.isfinite(scores)] for one in classes]
    return classes[0] if all(map(len, means)) and means[0].mean() > means[1].mean() else classes[-1]
