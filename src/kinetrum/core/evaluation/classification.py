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
    given: NDArray[Any],
    weights: Numbers,
    classes: Any,
    positive: Any,
    threshold: float | None,
    takes_scores: bool = False,
) -> Classified:
    """Make sense of labels or scores; raises InvalidInput where they do not fit the classes.

    With `takes_scores`, numbers for two classes are scores also where each equals the label of a class.
    """
    labels = given.ndim == 1 and _are_labels(truth, given)
    if takes_scores and labels and given.dtype.kind in "fiu" and len(_classes(truth, given, classes, positive)) == 2:
        labels = False
    found = _classes(truth, given if labels else None, classes, positive)
    index = {label: at for at, label in enumerate(found)}
    actual = np.array([index[label] for label in truth.tolist()], np.int64)
    if labels and threshold is None:
        return Classified(found, actual, np.array([index[label] for label in given.tolist()], np.int64), weights)
    if given.dtype.kind not in "fiub":
        raise InvalidInput(f"y_score holds {given.dtype.kind!r} values; numbers or labels are needed.", field="y_score")
    scores = _score_table(given.astype(np.float64), found)
    probable = bool((scores >= 0).all() and (scores <= 1).all())
    if len(found) == 2:
        limit = threshold if threshold is not None else (0.5 if probable else 0.0)
        chosen = (scores[:, 1] >= limit if threshold is not None else scores[:, 1] > limit).astype(np.int64)
        return Classified(found, actual, chosen, weights, scores, probable, limit)
    return Classified(found, actual, scores.argmax(axis=1), weights, scores, probable)


def _are_labels(truth: NDArray[Any], given: NDArray[Any]) -> bool:
    """Tell labels from scores: texts, values that truths have too, or whole numbers for more than two classes."""
    if given.dtype.kind in "USb" or bool(np.isin(given, truth).all()):
        return True
    return is_whole(given) and len(np.unique(truth)) > 2


def _classes(truth: NDArray[Any], labels: NDArray[Any] | None, classes: Any, positive: Any) -> list[Any]:
    try:
        seen = sorted(set(truth.tolist()) | (set(labels.tolist()) if labels is not None else set()))
    except TypeError:
        raise InvalidInput(
            "The truths are texts and the predictions numbers, or the other way round; both are of one kind.",
            field="y_score",
        ) from None
    found = seen if classes is None else list(plain_array(classes).tolist())
    missing = [label for label in seen if label not in found]
    if missing or len(set(found)) != len(found):
        raise InvalidInput(f"The classes {found} lack {missing} or name one twice.", field="classes")
    if len(found) == 1 and classes is None and found[0] in (0, 1):
        found = [type(found[0])(0), type(found[0])(1)]
    if positive is not None:
        if len(found) != 2 or positive not in found:
            raise InvalidInput(f"{positive!r} is not one of two classes; they are {found}.", field="positive")
        found = [label for label in found if label != positive] + [positive]
    return found


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


def confusion(found: Classified) -> Numbers:
    """Return weighted counts, a row per true class and a column per predicted one."""
    size = len(found.classes)
    flat = np.bincount(found.truth * size + found.predicted, weights=found.weights, minlength=size * size)
    return flat.astype(np.float64).reshape(size, size)


def classification_results(found: Classified) -> dict[str, float]:
    """Return the results by name; with two classes of the positive one, with more averaged over the classes."""
    table = confusion(found)
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
    if len(found.classes) == 2:
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
    if found.scores is not None:
        results |= _score_results(found)
    return results


def _mean(values: list[float], used: list[int]) -> float:
    return sum(values[at] for at in used) / len(used)


def _matthews(table: Numbers) -> float:
    true, predicted, total = table.sum(axis=1), table.sum(axis=0), table.sum()
    covariance = float(np.trace(table) * total - true @ predicted)
    spread = float(total**2 - predicted @ predicted) * float(total**2 - true @ true)
    return covariance / math.sqrt(spread) if spread > 0 else 0.0


def _score_results(found: Classified) -> dict[str, float]:
    assert found.scores is not None
    columns = range(1, 2) if len(found.classes) == 2 else range(len(found.classes))
    areas, precisions = [], []
    for at in columns:
        is_class = (found.truth == at).astype(np.float64)
        areas.append(roc_auc(is_class, found.scores[:, at], found.weights))
        precisions.append(average_precision(is_class, found.scores[:, at], found.weights))
    binary = len(found.classes) == 2
    results = {
        "roc_auc" if binary else "roc_auc_macro": float(np.mean(areas)),
        "average_precision" if binary else "average_precision_macro": float(np.mean(precisions)),
    }
    if found.probabilities:
        results["log_loss"] = _log_loss(found)
        if binary:
            miss = found.scores[:, 1] - (found.truth == 1)
            results["brier"] = float(np.average(miss**2, weights=found.weights))
    return results


def _log_loss(found: Classified) -> float:
    assert found.scores is not None
    least = np.finfo(np.float64).eps
    chosen = found.scores / found.scores.sum(axis=1, keepdims=True)
    likely = np.clip(chosen, least, 1 - least)[np.arange(len(found.truth)), found.truth]
    return float(np.average(-np.log(likely), weights=found.weights))
