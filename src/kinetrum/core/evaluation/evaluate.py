"""Evaluation in one call: finds out what kind of task it is, unless told, and computes its results."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kinetrum.core.errors import InvalidInput
from kinetrum.core.evaluation.classification import classification_results, read_classes
from kinetrum.core.evaluation.inputs import column, is_whole, same_rows, weights_of
from kinetrum.core.evaluation.ranking import ranking_results, split_queries
from kinetrum.core.evaluation.regression import regression_results

KINDS = ("classification", "regression", "ranking")


@dataclass(frozen=True)
class Evaluation:
    """Results by name, and per row what was true, predicted and scored, for a table of predictions."""

    kind: str
    results: dict[str, float | int]
    columns: dict[str, list[Any]] = field(default_factory=dict)


def evaluate(
    y_true: Any, y_score: Any, *, kind: str | None = None, classes: Any = None, positive: Any = None,
    threshold: float | None = None, weights: Any = None, groups: Any = None,
) -> Evaluation:  # fmt: skip
    """Evaluate predictions against truths.

    `y_true`: n labels or numbers. `y_score`: n labels, n scores of the positive class, a table of n x k scores
    with a column per class, or n numbers. `kind` is found out where it is not given: groups make a ranking;
    truths with fractions, or more than two different numbers with predictions that have fractions, make a
    regression; all else is a classification. `classes` names the columns of scores (sorted labels without it),
    `positive` the class that matters of two (the later one without it). `threshold` cuts scores of two classes
    (above 0.5 for probabilities, above 0 for others without it). `weights`: n numbers of zero or more.

    Raises InvalidInput that says which argument does not fit.
    """
    truth, given = column(y_true, "y_true"), column(y_score, "y_score")
    same_rows(truth, given)
    chosen = kind or _kind(truth, given, groups)
    if chosen not in KINDS:
        raise InvalidInput(f"{kind!r} is no kind of task; {', '.join(KINDS)} are.", field="kind")
    if chosen == "ranking":
        if weights is not None:
            raise InvalidInput("A ranking takes no weights.", field="weights")
        return _ranking(truth, given, groups)
    if truth.ndim != 1:
        raise InvalidInput("y_true has one value a row.", field="y_true")
    if chosen == "regression":
        return _regression(truth, given, weights)
    return _classification(truth, given, classes, positive, threshold, weights)


def _kind(truth: NDArray[Any], given: NDArray[Any], groups: Any) -> str:
    if groups is not None or truth.ndim == 2:
        return "ranking"
    if not is_whole(truth) and truth.dtype.kind == "f":
        return "regression"
    if given.ndim == 2 or truth.dtype.kind not in "fiu" or len(np.unique(truth)) <= 2:
        return "classification"
    return "classification" if is_whole(given) else "regression"


def _ranking(truth: NDArray[Any], given: NDArray[Any], groups: Any) -> Evaluation:
    queries = split_queries(_numbers(truth, "y_true"), _numbers(given, "y_score"), groups)
    results: dict[str, float | int] = {**ranking_results(queries), "queries": len(queries)}
    if truth.ndim == 2:
        return Evaluation("ranking", results)
    columns = {"truth": truth.tolist(), "score": given.tolist()}
    if groups is not None:
        columns["group"] = np.asarray(groups).tolist()
    return Evaluation("ranking", results, columns)


def _numbers(given: NDArray[Any], name: str) -> NDArray[Any]:
    if given.dtype.kind not in "fiub":
        raise InvalidInput(f"{name} holds texts; numbers are needed.", field=name)
    return given


def _regression(truth: NDArray[Any], given: NDArray[Any], weights: Any) -> Evaluation:
    if given.ndim != 1:
        raise InvalidInput("y_score has one number a row for a regression.", field="y_score")
    actual, predicted = _numbers(truth, "y_true").astype(float), _numbers(given, "y_score").astype(float)
    results = regression_results(actual, predicted, weights_of(weights, len(actual)))
    return Evaluation(
        "regression", {**results, "rows": len(actual)}, {"truth": actual.tolist(), "prediction": predicted.tolist()}
    )


def _classification(
    truth: NDArray[Any], given: NDArray[Any], classes: Any, positive: Any, threshold: float | None, weights: Any
) -> Evaluation:
    found = read_classes(truth, given, weights_of(weights, len(truth)), classes, positive, threshold)
    results: dict[str, float | int] = {**classification_results(found), "rows": len(truth)}
    if found.threshold is not None:
        results["threshold"] = found.threshold
    columns: dict[str, list[Any]] = {
        "truth": truth.tolist(),
        "prediction": [found.classes[at] for at in found.predicted.tolist()],
    }
    if found.scores is not None:
        if len(found.classes) == 2:
            columns["score"] = found.scores[:, 1].tolist()
        else:
            columns |= {f"score:{label}": found.scores[:, at].tolist() for at, label in enumerate(found.classes)}
    return Evaluation("classification", results, columns)
