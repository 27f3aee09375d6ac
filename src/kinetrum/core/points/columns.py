"""Points of one series as three equally long columns, and the order in which they are kept."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

Steps = NDArray[np.int64]
Times = NDArray[np.int64]
Numbers = NDArray[np.float64]


@dataclass(frozen=True)
class Points:
    """`n` points of one series: step (whole number), time (microseconds since 1970, UTC), value."""

    steps: Steps
    times: Times
    values: Numbers

    def __len__(self) -> int:
        return len(self.steps)

    def cut(self, selection: Any) -> Points:
        """Return the points that a slice, mask or index array selects."""
        return Points(self.steps[selection], self.times[selection], self.values[selection])


def points_of(steps: Any, times: Any, values: Any) -> Points:
    """Build Points from anything array-like."""
    return Points(
        np.ascontiguousarray(steps, dtype=np.int64),
        np.ascontiguousarray(times, dtype=np.int64),
        np.ascontiguousarray(values, dtype=np.float64),
    )


def no_points() -> Points:
    """Return an empty set of points."""
    return points_of([], [], [])


def merge(parts: Iterable[Points]) -> Points:
    """Unite sets of points: ordered by (step, time, value bits), each distinct point once.

    The result depends on the set of points alone, never on the order or number of arrivals.
    """
    filled = [part for part in parts if len(part)]
    if not filled:
        return no_points()
    steps = np.concatenate([part.steps for part in filled])
    times = np.concatenate([part.times for part in filled])
    values = np.concatenate([part.values for part in filled])
    if not (np.diff(steps) > 0).all():
        bits = values.view(np.uint64)
        order = np.lexsort((bits, times, steps))
        steps, times, values, bits = steps[order], times[order], values[order], bits[order]
        fresh = np.ones(len(steps), dtype=bool)
        fresh[1:] = (np.diff(steps) != 0) | (np.diff(times) != 0) | (bits[1:] != bits[:-1])
        steps, times, values = steps[fresh], times[fresh], values[fresh]
    return Points(steps, times, values)


def shown(points: Points) -> Points:
    """Keep, of merged points, the latest of every step: what charts and aggregates see."""
    if not len(points):
        return points
    last_of_step = np.ones(len(points), dtype=bool)
    last_of_step[:-1] = points.steps[1:] != points.steps[:-1]
    return points if last_of_step.all() else points.cut(last_of_step)


def split(points: Points, size: int) -> list[Points]:
    """Cut merged points into chunks of about `size`, never between two points of one step."""
    pieces, start, total = [], 0, len(points)
    while start < total:
        end = min(start + size, total)
        if end < total:
            step = points.steps[end - 1]
            left = int(np.searchsorted(points.steps, step, side="left"))
            end = left if left > start else int(np.searchsorted(points.steps, step, side="right"))
        pieces.append(points.cut(slice(start, end)))
        start = end
    return pieces
