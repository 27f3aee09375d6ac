"""Curves reduced to what a chart can show, without losing a peak or a dip."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from kinetrum.core.points.columns import Points, shown

ROLLUP_SIZE = 256
_MINI = np.dtype([("step", "<i8"), ("time", "<i8"), ("low", "<f8"), ("high", "<f8")])


def rollup(points: Points) -> bytes:
    """Return lowest and highest value for every 256 shown points, 32 bytes each."""
    seen = shown(points)
    starts = np.arange(0, len(seen), ROLLUP_SIZE)
    mini = np.empty(len(starts), dtype=_MINI)
    mini["step"], mini["time"] = seen.steps[starts], seen.times[starts]
    mini["low"] = np.fmin.reduceat(seen.values, starts)
    mini["high"] = np.fmax.reduceat(seen.values, starts)
    return mini.tobytes()


def from_rollups(rows: list[bytes]) -> Points:
    """Lay rollups out as points: the low and the high of each, at its first step."""
    mini = np.frombuffer(b"".join(rows), dtype=_MINI)
    return Points(
        np.repeat(mini["step"], 2),
        np.repeat(mini["time"], 2),
        np.column_stack((mini["low"], mini["high"])).reshape(-1),
    )


def reduce(points: Points, width: int) -> Points:
    """Reduce to at most `2 * width + 2` points: per pixel column the lowest and the highest, in their order.

    The first and the last point always stay. A column in which every value is NaN stays one NaN.
    """
    count = len(points)
    if count <= 2 * width:
        return points
    first, last = int(points.steps[0]), int(points.steps[-1])
    span = max(last - first, 1)
    column = ((points.steps - first).astype(np.float64) * (width / span)).astype(np.int64)
    np.clip(column, 0, width - 1, out=column)
    starts = np.flatnonzero(np.diff(column, prepend=-1))
    keep = np.unique(np.concatenate((_extremes(points.values, starts), [0, count - 1])))
    return points.cut(keep)


def _extremes(values: NDArray[np.float64], starts: NDArray[np.int64]) -> NDArray[np.int64]:
    """Return the indices of the lowest and highest value of each stretch that begins at `starts`."""
    ends = np.append(starts[1:], len(values))
    low, high = np.fmin.reduceat(values, starts), np.fmax.reduceat(values, starts)
    stretch = np.repeat(np.arange(len(starts)), ends - starts)
    places = [starts[np.isnan(low)]]
    for level in (low, high):
        hits = np.flatnonzero(values == level[stretch])
        _, first_hit = np.unique(stretch[hits], return_index=True)
        places.append(hits[first_hit])
    return np.concatenate(places)


def sketch(points: Points, size: int = 48) -> list[tuple[int, float]]:
    """Return at most `size` shown points, evenly taken, with the last: the thin line of a table cell."""
    seen = shown(points)
    if not len(seen):
        return []
    picks = np.unique(np.linspace(0, len(seen) - 1, min(size, len(seen))).round().astype(np.int64))
    return [(int(seen.steps[i]), float(seen.values[i])) for i in picks]
