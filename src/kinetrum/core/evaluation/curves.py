"""Ranked scores: the areas under the ROC and the precision-recall curve, with ties and weights."""

from __future__ import annotations

import math

import numpy as np

from kinetrum.core.evaluation.inputs import Numbers


def ranked_counts(positive: Numbers, scores: Numbers, weights: Numbers) -> tuple[Numbers, Numbers, Numbers]:
    """Return (false positives, true positives, threshold) at every distinct score, the highest first.

    Rows with equal scores are counted together, so that the order of the input does not matter.
    """
    order = np.argsort(-scores, kind="stable")
    scores, positive, weights = scores[order], positive[order], weights[order]
    last = np.append(np.flatnonzero(np.diff(scores)), len(scores) - 1)
    true = np.cumsum(positive * weights)[last]
    false = np.cumsum((1 - positive) * weights)[last]
    return false, true, scores[last]


def roc_auc(positive: Numbers, scores: Numbers, weights: Numbers) -> float:
    """Area under the ROC curve by trapezoids; NaN where only one class is there.

    Source: Fawcett, An introduction to ROC analysis, Pattern Recognition Letters 27 (2006).
    """
    false, true, _ = ranked_counts(positive, scores, weights)
    if not true[-1] or not false[-1]:
        return math.nan
    x, y = np.append(0.0, false / false[-1]), np.append(0.0, true / true[-1])
    return float(np.sum(np.diff(x) * (y[1:] + y[:-1])) / 2)


def average_precision(positive: Numbers, scores: Numbers, weights: Numbers) -> float:
    """Precision averaged over the steps of recall; NaN where no row is positive.

    Source: Manning, Raghavan, Schütze, Introduction to Information Retrieval, section 8.4 (2008).
    """
    false, true, _ = ranked_counts(positive, scores, weights)
    if not true[-1]:
        return math.nan
    flagged = true + false
    precision = np.divide(true, flagged, out=np.zeros_like(true), where=flagged > 0)
    return float(np.sum(np.diff(np.append(0.0, true / true[-1])) * precision))
