"""Results where a row may have several labels at once.

Definitions are those of Tsoumakas, Katakis, Vlahavas, Mining Multi-label Data (in: Data Mining and Knowledge Discovery
Handbook, 2010): micro averages count all rows and labels together, macro averages give each label the same weight.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kinetrum.core.base.arrays import plain_array
from kinetrum.core.base.errors import InvalidInput
from kinetrum.core.evaluation.curves import average_precision, roc_auc
from kinetrum.core.evaluation.inputs import Numbers, is_binary, share

NO_LABEL = "(none)"


@dataclass(frozen=True)
class Labelled:
    """Which labels each row has and was given: n rows by k labels; `scores` where scores were given."""

    names: list[str]
    truth: NDArray[np.bool_]
    predicted: NDArray[np.bool_]
    weights: Numbers
    scores: Numbers | None = None
    threshold: float | None = None


def read_labels(
    truth: NDArray[Any], predicted: NDArray[Any], weights: Numbers, classes: Any, threshold: float | None
) -> Labelled:
    """Make sense of labels or scores of several labels; raises InvalidInput where they do not fit together."""
    if truth.ndim != 2 or not is_binary(truth):
        raise InvalidInput(
            "y_true is a table of zeros and ones for a multilabel task, a column per label.", field="y_true"
        )
    if predicted.shape != truth.shape or predicted.dtype.kind not in "fiub":
        raise InvalidInput(
            f"y_true has {truth.shape[1]} labels a row; y_score has as many scores, zeros or ones a row, and not the "
            f"shape {predicted.shape}.",
            field="y_score",
        )
    names = [str(at) for at in range(truth.shape[1])] if classes is None else list(map(str, plain_array(classes)))
    if len(names) != truth.shape[1] or len(set(names)) != len(names):
        raise InvalidInput(f"There are {truth.shape[1]} labels; classes names each of them once.", field="classes")
    has = truth.astype(np.bool_)
    if is_binary(predicted) and threshold is None:
        return Labelled(names, has, predicted.astype(np.bool_), weights)
    scores = predicted.astype(np.float64)
    if threshold is not None:
        return Labelled(names, has, scores >= threshold, weights, scores, threshold)
    limit = 0.5 if bool(((scores >= 0) & (scores <= 1)).all()) else 0.0
    return Labelled(names, has, scores > limit, weights, scores, limit)


def multilabel_results(labelled: Labelled) -> dict[str, float]:
    """Return the results by name, rows weighted."""
    weights = labelled.weights[:, None]
    hit = ((labelled.truth & labelled.predicted) * weights).sum(axis=0)
    support, flagged = (labelled.truth * weights).sum(axis=0), (labelled.predicted * weights).sum(axis=0)
    precisions = [share(float(h), float(f)) for h, f in zip(hit, flagged, strict=True)]
    recalls = [share(float(h), float(s)) for h, s in zip(hit, support, strict=True)]
    f1 = [share(2 * float(h), float(s + f)) for h, s, f in zip(hit, support, flagged, strict=True)]
    wrong = labelled.truth != labelled.predicted
    results = {
        "exact_match": float(np.average(~wrong.any(axis=1), weights=labelled.weights)),
        "hamming_loss": float(np.average(wrong.mean(axis=1), weights=labelled.weights)),
        "precision_micro": share(float(hit.sum()), float(flagged.sum())),
        "recall_micro": share(float(hit.sum()), float(support.sum())),
        "f1_micro": share(2 * float(hit.sum()), float(support.sum() + flagged.sum())),
        "precision_macro": float(np.mean(precisions)),
        "recall_macro": float(np.mean(recalls)),
        "f1_macro": float(np.mean(f1)),
    }
    return results | _score_results(labelled) if labelled.scores is not None else results


def _score_results(labelled: Labelled) -> dict[str, float]:
    """Return areas, averaged over the labels that some rows have and others have not: of the rest there is none."""
    assert labelled.scores is not None
    usable = [at for at in range(len(labelled.names)) if 0 < int(labelled.truth[:, at].sum()) < len(labelled.truth)]
    if not usable:
        return {}
    columns = [(labelled.truth[:, at].astype(np.float64), labelled.scores[:, at]) for at in usable]
    return {
        "roc_auc_macro": float(np.mean([roc_auc(truth, score, labelled.weights) for truth, score in columns])),
        "average_precision_macro": float(
            np.mean([average_precision(truth, score, labelled.weights) for truth, score in columns])
        ),
    }


def label_sets(names: list[str], has: NDArray[np.bool_]) -> list[str]:
    """Write each row's labels as one text, in the order of the names."""
    return [" + ".join(name for name, is_set in zip(names, row, strict=True) if is_set) or NO_LABEL for row in has]
