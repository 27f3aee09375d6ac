"""Plots from truths and predictions, by kind."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from kinetrum.core.base.errors import InvalidInput
from kinetrum.core.evaluation.classification import Classified, read_classes
from kinetrum.core.evaluation.inputs import Numbers, column, same_rows, weights_of
from kinetrum.core.plots.calibrated import BINS, calibration_plot
from kinetrum.core.plots.classified import confusion_plot, precision_recall_plot, roc_plot, threshold_plot
from kinetrum.core.plots.plot import Plot
from kinetrum.core.plots.predicted import predicted_plot, residual_plot

_OF_CLASSES: dict[str, Callable[[Classified], Plot]] = {
    "confusion": confusion_plot,
    "roc": roc_plot,
    "precision_recall": precision_recall_plot,
    "threshold": threshold_plot,
}
_OF_NUMBERS: dict[str, Callable[[Numbers, Numbers, Numbers], Plot]] = {
    "predicted": predicted_plot,
    "residuals": residual_plot,
}
PLOT_KINDS = (*_OF_CLASSES, "calibration", *_OF_NUMBERS)


def make_plot(  # noqa: PLR0913
    kind: str,
    y_true: Any,
    y_score: Any,
    *,
    classes: Any = None,
    positive: Any = None,
    threshold: float | None = None,
    weights: Any = None,
    bins: int = BINS,
    by: str = "width",
) -> Plot:
    """Make a plot of truths (n) and predictions (n labels, scores or numbers, or n x k scores of k classes).

    `kind` is one of PLOT_KINDS. `classes`, `positive`, `threshold`, `weights` are those of `evaluate`; `bins` and `by`
    (width or count) those of a calibration. Raises InvalidInput that names the argument which does not fit.
    """
    if kind not in PLOT_KINDS:
        raise InvalidInput(f"Unknown kind of plot {kind!r}. Choose one of: {', '.join(PLOT_KINDS)}.", field="kind")
    truth, predicted = column(y_true, "y_true"), column(y_score, "y_score")
    same_rows(truth, predicted)
    if truth.ndim != 1:
        raise InvalidInput("y_true has one value a row.", field="y_true")
    weighed = weights_of(weights, len(truth))
    if kind in _OF_NUMBERS:
        if predicted.ndim != 1 or truth.dtype.kind not in "fiub" or predicted.dtype.kind not in "fiub":
            raise InvalidInput(f"A plot of kind {kind} takes one number a row.", field="y_score")
        return _OF_NUMBERS[kind](truth.astype(float), predicted.astype(float), weighed)
    classified = read_classes(truth, predicted, weighed, classes, positive, threshold, takes_scores=kind != "confusion")
    if kind == "calibration":
        return calibration_plot(classified, bins, by)
    return _OF_CLASSES[kind](classified)
