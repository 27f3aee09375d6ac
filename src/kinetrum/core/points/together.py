"""Curves of several runs as one: their mean and the band between the lowest and the highest, step by step."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kinetrum.core.points.columns import Points, shown

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Band:
    """Steps in order, and over the runs that have reached each: their mean, lowest, highest and number."""

    steps: NDArray[np.int64]
    mean: Floats
    low: Floats
    high: Floats
    runs: NDArray[np.int64]


def band_of(curves: Sequence[Points], width: int) -> Band:
    """Lay curves over one another: at most `width` steps, each run between its first and its last.

    Between its points a run's value lies on the straight line from one to the next. Where a run has NaN or infinity, it
    has no value up to its next number; it counts for nothing there.
    """
    plain = [shown(points) for points in curves if len(points)]
    if not plain:
        none = np.empty(0)
        return Band(none.astype(np.int64), none, none, none, none.astype(np.int64))
    steps = np.unique(np.concatenate([points.steps for points in plain]))
    if len(steps) > width:
        steps = steps[np.unique(np.linspace(0, len(steps) - 1, width).round().astype(np.intp))]
    table = np.vstack([_at(points, steps) for points in plain])
    counts = np.count_nonzero(~np.isnan(table), axis=0)
    there = counts > 0
    steps, table, counts = steps[there], table[:, there], counts[there]
    return (
        Band(
            steps.astype(np.int64),
            np.nansum(table, axis=0) / counts,
            np.nanmin(table, axis=0),
            np.nanmax(table, axis=0),
            counts.astype(np.int64),
        )
        if len(steps)
        else band_of([], width)
    )


def _at(points: Points, steps: NDArray[np.int64]) -> Floats:
    finite = np.where(np.isfinite(points.values), points.values, np.nan)
    values = np.interp(steps, points.steps, finite, left=np.nan, right=np.nan)
    return np.asarray(values, dtype=np.float64)
