"""Results of a classification, of two classes or more, from labels or from scores.

Definitions are those of Manning, Raghavan, Schütze, Introduction to Information Retrieval (2008), chapters
8 and 13; Matthews' coefficient for several classes is Gorodkin's (Computational Biology and Chemistry 28,
2004); the Brier score is that of Monthly Weather Review 78 (1950), halved for two classes as is usual.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kinetrum.core.base.arrays import plain_array
from kinetrum.core.base.errors import InvalidInput
from kinetrum.core.evaluation.curves import average_precision, roc_auc
from kinetrum.core.evaluation.inputs import Numbers, is_whole, share


@dataclass(frozen=True)
class Classified:
    """Truth and prediction as indexes into `classes`; `scores` has a column per class where scores were given.

    With two classes the second is the positive one. `probabilities` tells whether scores lie in 0 to 1.
    """

    classes: list[Any]
    truth: NDArray[np.int64]
    predicted: NDArray[np.int64]
    weights: Numbers
    scores: Numbers | None = None
    probabilities: bool = False
    threshold: float | None = None


def read_classes(
    truth: NDArray[Any],
    predicted: NDArray[Any],
    weights: Numbers,
    classes: Any,
    positive: Any,
    threshold: float | None,
    takes_scores: bool = False,
) -> Classified:
    """Make sense of labels or scores; raises InvalidInput where they do not fit the classes.

    With `takes_scores`, numbers for two classes are scores also where each equals the label of a class.
    """
    labels = predicted.ndim == 1 and _are_labels(truth, predicted)
    if (
        takes_scores
        and labels
        and predicted.dtype.kind in "fiu"
        and len(_classes(truth, predicted, classes, positive)) == 2
    ):
        labels = False
    classified = _classes(truth, predicted if labels else None, classes, positive)
    index = {label: at for at, label in enumerate(classified)}
    actual = np.array([index[label] for label in truth.tolist()], np.int64)
    if labels and threshold is None:
        return Classified(
            classified, actual, np.array([index[label] for label in predicted.tolist()], np.int64), weights
        )
    if predicted.dtype.kind not in "fiub":
        raise InvalidInput(
            f"y_score holds {predicted.dtype.kind!r} values; numbers or labels are needed.", field="y_score"
        )
    scores = _score_table(predicted.astype(np.float64), classified)
    probable = bool((scores >= 0).all() and (scores <= 1).all())
    if len(classified) == 2:
        limit = threshold if threshold is not None else (0.5 if probable else 0.0)
        chosen = (scores[:, 1] >= limit if threshold is not None else scores[:, 1] > limit).astype(np.int64)
        return Classified(classified, actual, chosen, weights, scores, probable, limit)
    return Classified(classified, actual, scores.argmax(axis=1), weights, scores, probable)


def _are_labels(truth: NDArray[Any], predicted: NDArray[Any]) -> bool:
    """Tell labels from scores: texts, values that truths have too, or whole numbers for more than two classes."""
    if predicted.dtype.kind in "USb" or bool(np.isin(predicted, truth).all()):
        return True
    return is_whole(predicted) and len(np.unique(truth)) > 2


def _classes(truth: NDArray[Any], labels: NDArray[Any] | None, classes: Any, positive: Any) -> list[Any]:
    try:
        seen = sorted(set(truth.tolist()) | (set(labels.tolist()) if labels is not None else set()))
    except TypeError:
        raise InvalidInput(
            "The truths are texts and the predictions numbers, or the other way round; both are of one kind.",
            field="y_score",
        ) from None
    names = seen if classes is None else list(plain_array(classes).tolist())
    missing = [label for label in seen if label not in names]
    if missing or len(set(names)) != len(names):
        raise InvalidInput(f"The classes {names} lack {missing} or name one twice.", field="classes")
    if len(names) == 1 and classes is None and names[0] in (0, 1):
        names = [type(names[0])(0), type(names[0])(1)]
    if positive is not None:
        if len(names) != 2 or positive not in names:
            raise InvalidInput(f"{positive!r} is not one of two classes; they are {names}.", field="positive")
        names = [label for label in names if label != positive] + [positive]
    return names


def _score_table(scores: Numbers, classes: list[Any]) -> Numbers:
    if scores.ndim == 1:
        if len(classes) != 2:
            raise InvalidInput(
                f"One score a row tells two classes apart, here are {len(classes)}: give a column per class or labels.",
                field="y_score",
            )
        return np.column_stack([1 - scores, scores])
    if scores.shape[1] != len(classes):
        raise InvalidInput(
            f"The scores have {scores.shape[1]} columns and there are {len(classes)} classes ({classes[:8]}); name "
            "the columns with classes=[…].",
            field="y_score",
        )
    return scores


def confusion(classified: Classified) -> Numbers:
    """Return weighted counts, a row per true class and a column per predicted one."""
    size = len(classified.classes)
    flat = np.bincount(
        classified.truth * size + classified.predicted, weights=classified.weights, minlength=size * size
    )
    return flat.astype(np.float64).reshape(size, size)


def classification_results(classified: Classified) -> dict[str, float]:
    """Return the results by name; with two classes of the positive one, with more averaged over the classes."""
    table = confusion(classified)
    total = float(table.sum())
    hit, support, flagged = np.diag(table), table.sum(axis=1), table.sum(axis=0)
    recalls = [share(float(h), float(s)) for h, s in zip(hit, support, strict=True)]
    precisions = [share(float(h), float(f)) for h, f in zip(hit, flagged, strict=True)]
    f1 = [share(2 * float(h), float(s + f)) for h, s, f in zip(hit, support, flagged, strict=True)]
    present = [at for at in range(len(support)) if support[at] > 0]
    results = {
        "accuracy": float(hit.sum()) / total,
        "balanced_accuracy": sum(recalls[at] for at in present) / len(present),
        "mcc": _matthews(table),
    }
    if len(classified.classes) == 2:
        results |= {"precision": precisions[1], "recall": recalls[1], "specificity": recalls[0], "f1": f1[1]}
    else:
        # Classes that are neither true nor predicted anywhere would only pull the means down.
        used = [at for at in range(len(support)) if support[at] > 0 or flagged[at] > 0]
        results |= {
            "precision_macro": _mean(precisions, used),
            "recall_macro": _mean(recalls, used),
            "f1_macro": _mean(f1, used),
            "f1_weighted": sum(f1[at] * float(support[at]) for at in used) / total,
        }
    if classified.scores is not None:
        results |= _score_results(classified)
    return results


def _mean(values: list[float], used: list[int]) -> float:
    return sum(values[at] for at in used) / len(used)


def _matthews(table: Numbers) -> float:
    true, predicted, total = table.sum(axis=1), table.sum(axis=0), table.sum()
    covariance = float(np.trace(table) * total - true @ predicted)
    spread = float(total**2 - predicted @ predicted) * float(total**2 - true @ true)
    return covariance / math.sqrt(spread) if spread > 0 else 0.0


def _score_results(classified: Classified) -> dict[str, float]:
    assert classified.scores is not None
    columns = range(1, 2) if len(classified.classes) == 2 else range(len(classified.classes))
    areas, precisions = [], []
    for at in columns:
        is_class = (classified.truth == at).astype(np.float64)
        areas.append(roc_auc(is_class, classified.scores[:, at], classified.weights))
        precisions.append(average_precision(is_class, classified.scores[:, at], classified.weights))
    binary = len(classified.classes) == 2
    results = {
        "roc_auc" if binary else "roc_auc_macro": float(np.mean(areas)),
        "average_precision" if binary else "average_precision_macro": float(np.mean(precisions)),
    }
    if classified.probabilities:
        results["log_loss"] = _log_loss(classified)
        if binary:
            miss = classified.scores[:, 1] - (classified.truth == 1)
            results["brier"] = float(np.average(miss**2, weights=classified.weights))
    return results


def _log_loss(classified: Classified) -> float:
    assert classified.scores is not None
    least = np.finfo(np.float64).eps
    chosen = classified.scores / classified.scores.sum(axis=1, keepdims=True)
    likely = np.clip(chosen, least, 1 - least)[np.arange(len(classified.truth)), classified.truth]
    return float(np.average(-np.log(likely), weights=classified.weights))
