"""Evaluation in one call: finds out what kind of task it is, unless told, and computes its results."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kinetrum.core.base.arrays import plain_array
from kinetrum.core.base.errors import InvalidInput
from kinetrum.core.evaluation.classification import classification_results, read_classes
from kinetrum.core.evaluation.inputs import column, is_binary, is_whole, same_rows, weights_of
from kinetrum.core.evaluation.multilabel import label_sets, multilabel_results, read_labels
from kinetrum.core.evaluation.ranking import ranking_results, split_queries
from kinetrum.core.evaluation.regression import regression_results

TASKS = ("classification", "multilabel", "regression", "ranking")


@dataclass(frozen=True)
class Evaluation:
    """Results by name, and per row what was true, predicted and scored, for a table of predictions.

    `guess` says what was taken for granted about the task, where another reading of the same numbers is as likely.
    """

    task: str
    results: dict[str, float | int]
    columns: dict[str, list[Any]] = field(default_factory=dict)
    guess: str | None = None


def evaluate(  # noqa: PLR0913
    y_true: Any,
    y_score: Any,
    *,
    task: str | None = None,
    classes: Any = None,
    positive: Any = None,
    threshold: float | None = None,
    weights: Any = None,
    groups: Any = None,
) -> Evaluation:
    """Evaluate predictions against truths.

    `y_true`: n labels or numbers, or a table of n x k zeros and ones, one column for each of several labels that a row
    may have at once. `y_score`: n labels, n scores of the positive class, a table of n x k scores with a column per
    class or label, or n numbers. `task` is found out where it is not given: groups, or a table of relevances, make a
    ranking; a table of zeros and ones is multilabel; truths with fractions, or more than two different numbers with
    predictions that have fractions, make a regression; all else is a classification. Where that is a guess, `guess` of
    the answer says so. `classes` names the columns of scores (sorted labels without it), `positive` the class that
    matters of two (the later one without it). `threshold` cuts scores of two classes and of labels (above 0.5 for
    probabilities, above 0 for others without it). `weights`: n numbers of zero or more.

    Raises InvalidInput that says which argument does not fit.
    """
    truth, predicted = column(y_true, "y_true"), column(y_score, "y_score")
    same_rows(truth, predicted)
    chosen, guess = (task, None) if task else _task(truth, predicted, groups)
    if chosen not in TASKS:
        raise InvalidInput(f"Unknown task {task!r}. Choose one of: {', '.join(TASKS)}.", field="task")
    if chosen == "ranking":
        if weights is not None:
            raise InvalidInput("A ranking takes no weights.", field="weights")
        evaluation = _ranking(truth, predicted, groups)
    elif chosen == "multilabel":
        evaluation = _multilabel(truth, predicted, classes, threshold, weights)
    elif truth.ndim != 1:
        raise InvalidInput(f"y_true has one value a row for a {chosen}.", field="y_true")
    elif chosen == "regression":
        evaluation = _regression(truth, predicted, weights)
    else:
        evaluation = _classification(truth, predicted, classes, positive, threshold, weights)
    return replace(evaluation, guess=guess)


def _task(truth: NDArray[Any], predicted: NDArray[Any], groups: Any) -> tuple[str, str | None]:
    """Return what task it seems to be, and what is to be said of the guess."""
    if groups is not None:
        return "ranking", None
    if truth.ndim == 2:
        if not is_binary(truth):
            return "ranking", None
        return "multilabel", (
            "The truths are a table of zeros and ones: taken as several labels a row (multilabel). Say "
            "task='multilabel', or task='ranking' where each row is a query."
        )
    if not is_whole(truth) and truth.dtype.kind == "f":
        return "regression", None
    classes = predicted.ndim == 2 or truth.dtype.kind not in "fiu" or len(np.unique(truth)) <= 2 or is_whole(predicted)
    if not classes:
        return "regression", None
    if truth.dtype.kind != "f":
        return "classification", None
    return "classification", (
        "The truths are whole numbers, given as floats: taken as classes. Say task='classification', or "
        "task='regression' where they are quantities."
    )


def _multilabel(
    truth: NDArray[Any], predicted: NDArray[Any], classes: Any, threshold: float | None, weights: Any
) -> Evaluation:
    labelled = read_labels(truth, predicted, weights_of(weights, len(truth)), classes, threshold)
    results: dict[str, float | int] = {
        **multilabel_results(labelled),
        "labels": len(labelled.names),
        "rows": len(truth),
    }
    if labelled.threshold is not None:
        results["threshold"] = labelled.threshold
    columns: dict[str, list[Any]] = {
        "truth": label_sets(labelled.names, labelled.truth),
        "prediction": label_sets(labelled.names, labelled.predicted),
    }
    if labelled.scores is not None:
        columns |= {f"score:{name}": labelled.scores[:, at].tolist() for at, name in enumerate(labelled.names)}
    return Evaluation("multilabel", results, columns)


def _ranking(truth: NDArray[Any], predicted: NDArray[Any], groups: Any) -> Evaluation:
    queries = split_queries(_numbers(truth, "y_true"), _numbers(predicted, "y_score"), groups)
    results: dict[str, float | int] = {**ranking_results(queries), "queries": len(queries)}
    if truth.ndim == 2:
        return Evaluation("ranking", results)
    columns = {"truth": truth.tolist(), "score": predicted.tolist()}
    if groups is not None:
        columns["group"] = plain_array(groups).tolist()
    return Evaluation("ranking", results, columns)


def _numbers(values: NDArray[Any], name: str) -> NDArray[Any]:
    if values.dtype.kind not in "fiub":
        raise InvalidInput(f"{name} holds texts; numbers are needed.", field=name)
    return values


def _regression(truth: NDArray[Any], forecast: NDArray[Any], weights: Any) -> Evaluation:
    if forecast.ndim != 1:
        raise InvalidInput("y_score has one number a row for a regression.", field="y_score")
    actual, predicted = _numbers(truth, "y_true").astype(float), _numbers(forecast, "y_score").astype(float)
    results = regression_results(actual, predicted, weights_of(weights, len(actual)))
    return Evaluation(
        "regression", {**results, "rows": len(actual)}, {"truth": actual.tolist(), "prediction": predicted.tolist()}
    )


def _classification(
    truth: NDArray[Any], predicted: NDArray[Any], classes: Any, positive: Any, threshold: float | None, weights: Any
) -> Evaluation:
    classified = read_classes(truth, predicted, weights_of(weights, len(truth)), classes, positive, threshold)
    results: dict[str, float | int] = {**classification_results(classified), "rows": len(truth)}
    if classified.threshold is not None:
        results["threshold"] = classified.threshold
    columns: dict[str, list[Any]] = {
        "truth": truth.tolist(),
        "prediction": [classified.classes[at] for at in classified.predicted.tolist()],
    }
    if classified.scores is not None:
        if len(classified.classes) == 2:
            columns["score"] = classified.scores[:, 1].tolist()
        else:
            columns |= {
                f"score:{label}": classified.scores[:, at].tolist() for at, label in enumerate(classified.classes)
            }
    return Evaluation("classification", results, columns)
