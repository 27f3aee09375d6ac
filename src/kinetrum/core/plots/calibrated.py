"""Calibration: whether of what was given a probability of p a share of p came true.

Reliability diagrams: Murphy and Winkler, Applied Statistics 26 (1977); the expected calibration error is that of
Naeini, Cooper, Hauskrecht (AAAI 2015).
"""

from __future__ import annotations

import numpy as np

from kinetrum.core.base.errors import InvalidInput
from kinetrum.core.evaluation.classification import Classified
from kinetrum.core.evaluation.inputs import Numbers
from kinetrum.core.plots.plot import Plot, PlotView

BINS, BINS_LIMIT = 10, 1_000


def calibration_plot(classified: Classified, bins: int = BINS, by: str = "width") -> Plot:
    """Return the share that came true over the probability given, in bins of equal `width` or equal `count`.

    The positive of two classes is shown. Empty bins are left out. Raises InvalidInput where there are no
    probabilities of two classes.
    """
    if classified.scores is None or not classified.probabilities or len(classified.classes) != 2:
        raise InvalidInput("A calibration takes probabilities (0 to 1) of two classes.", field="y_score")
    if isinstance(bins, bool) or not isinstance(bins, int) or not 1 <= bins <= BINS_LIMIT:
        raise InvalidInput(f"bins is {bins!r}; it is a whole number from 1 to {BINS_LIMIT}.", field="bins")
    scores, came = classified.scores[:, 1], (classified.truth == 1).astype(float)
    places = np.searchsorted(_edges(scores, bins, by)[1:-1], scores)
    weight = np.bincount(places, weights=classified.weights, minlength=bins)
    filled = weight > 0
    mean = np.bincount(places, weights=scores * classified.weights, minlength=bins)[filled] / weight[filled]
    true = np.bincount(places, weights=came * classified.weights, minlength=bins)[filled] / weight[filled]
    columns = {"probability": mean.tolist(), "share_true": true.tolist(), "rows": weight[filled].tolist()}
    miss = np.abs(mean - true)
    numbers = {
        "expected_calibration_error": float(np.average(miss, weights=weight[filled])),
        "largest_calibration_error": float(miss.max()),
        "brier": float(np.average((scores - came) ** 2, weights=classified.weights)),
    }
    view = PlotView(
        "line", "probability", ("share_true",), None, "", "probability given", "share that came true", diagonal=True
    )
    return Plot("calibration", columns, view, numbers, f"{bins} bins of equal {by}; empty ones are left out.")


def _edges(scores: Numbers, bins: int, by: str) -> Numbers:
    if by == "width":
        return np.linspace(0.0, 1.0, bins + 1)
    if by == "count":
        return np.asarray(np.percentile(scores, np.linspace(0, 1, bins + 1) * 100))
    raise InvalidInput(f"by is {by!r}; bins have equal width or equal count.", field="by")
