"""Plots of a regression: predicted against true, and residuals over what was predicted."""

from __future__ import annotations

import numpy as np

from kinetrum.core.evaluation.inputs import Numbers, share
from kinetrum.core.plots.plot import Plot, PlotView
from kinetrum.core.plots.thinning import gather_points


def predicted_plot(truth: Numbers, predicted: Numbers, weights: Numbers) -> Plot:
    """Return predictions over truths; on the diagonal they are equal."""
    x, y, there, note = gather_points(truth, predicted, weights)
    columns = {"truth": x.tolist(), "prediction": y.tolist(), "rows": there.tolist()}
    view = PlotView("points", "truth", ("prediction",), None, "", "truth", "prediction", diagonal=True)
    return Plot("predicted", columns, view, _said(truth, predicted, weights), note)


def residual_plot(truth: Numbers, predicted: Numbers, weights: Numbers) -> Plot:
    """Return residuals (truth less prediction) over predictions."""
    x, y, there, note = gather_points(predicted, truth - predicted, weights)
    columns = {"prediction": x.tolist(), "residual": y.tolist(), "rows": there.tolist()}
    view = PlotView("points", "prediction", ("residual",), None, "", "prediction", "residual: truth less prediction")
    return Plot("residuals", columns, view, _said(truth, predicted, weights), note)


def _said(truth: Numbers, predicted: Numbers, weights: Numbers) -> dict[str, float]:
    residuals = truth - predicted
    middle = float(np.average(truth, weights=weights))
    spread = float(np.average((truth - middle) ** 2, weights=weights))
    squared = float(np.average(residuals**2, weights=weights))
    return {
        "mean_residual": float(np.average(residuals, weights=weights)),
        "mae": float(np.average(np.abs(residuals), weights=weights)),
        "rmse": squared**0.5,
        # Without any spread in the truths there is nothing to explain: 1 where all is hit, else 0.
        "r2": 1 - share(squared, spread) if spread else float(squared == 0),
    }
