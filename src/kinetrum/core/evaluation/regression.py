"""Results of a regression: errors in the unit of the target, and how much of its spread is explained.

Definitions as in Hyndman, Koehler, Another look at measures of forecast accuracy, International Journal of
Forecasting 22 (2006); the coefficient of determination as in Draper, Smith, Applied Regression Analysis.
"""

from __future__ import annotations

import math

import numpy as np

from kinetrum.core.evaluation.inputs import Numbers


def regression_results(truth: Numbers, predicted: Numbers, weights: Numbers) -> dict[str, float]:
    """Return the results by name; `mean_error` is positive where predictions are too high."""
    error = predicted - truth
    mean_square = float(np.average(error**2, weights=weights))
    spread = float(np.sum(weights * (truth - np.average(truth, weights=weights)) ** 2))
    about_mean = error - np.average(error, weights=weights)
    results = {
        "mae": float(np.average(np.abs(error), weights=weights)),
        "rmse": math.sqrt(mean_square),
        "mse": mean_square,
        "mean_error": float(np.average(error, weights=weights)),
        "max_error": float(np.abs(error).max()),
        "r2": _explained(float(np.sum(weights * error**2)), spread, len(truth)),
        "explained_variance": _explained(float(np.sum(weights * about_mean**2)), spread, len(truth)),
    }
    if (weights == weights[0]).all():
        results["median_absolute_error"] = float(np.median(np.abs(error)))
    if (truth != 0).all():
        results["mape"] = float(np.average(np.abs(error / truth), weights=weights))
    return results


def _explained(left: float, spread: float, rows: int) -> float:
    """Return 1 - left / spread; NaN for a single row, and for a constant target 1 where nothing is left, else 0."""
    if rows < 2:
        return math.nan
    if spread == 0:
        return 1.0 if left == 0 else 0.0
    return 1 - left / spread
