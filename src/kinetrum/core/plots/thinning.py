"""Thinning of what has more points than can be told apart, each way with a bound that is said."""

from __future__ import annotations

import itertools

import numpy as np
from numpy.typing import NDArray

from kinetrum.core.evaluation.inputs import Numbers

PARTS = 1_000
Places = NDArray[np.intp]


def thin_rising(x: Numbers, y: Numbers, parts: int = PARTS) -> Places:
    """Return which points of a curve that never falls to keep: none left out is further than 1/parts of the ranges.

    Between two points that are kept, all others lie in a box of at most that width and height.
    """
    if len(x) <= 2 * parts:
        return np.arange(len(x))
    cells = [np.floor((line - line[0]) / (line[-1] - line[0] or 1.0) * parts).astype(np.int64) for line in (x, y)]
    changed = np.flatnonzero((np.diff(cells[0]) != 0) | (np.diff(cells[1]) != 0))
    # The last one before and the first one behind each border, so that no line is drawn across a jump.
    return np.unique(np.concatenate([[0], changed, changed + 1, [len(x) - 1]]))


def thin_extremes(lines: list[Numbers], parts: int = PARTS) -> Places:
    """Return which points of lines over one axis to keep: of each stretch the first, the last, the highest and lowest.

    `lines` share their places; stretches hold equally many points, so no peak is lost and each point that is left
    out stands among len/parts neighbours of which four of each line are kept.
    """
    count = len(lines[0])
    if count <= 4 * parts:
        return np.arange(count)
    starts = np.unique(np.linspace(0, count, parts + 1).astype(np.intp))
    places = [starts[:-1], starts[1:] - 1]
    for line in lines:
        for begin, end in itertools.pairwise(starts.tolist()):
            part = line[begin:end]
            places.append(
                np.array([begin + np.nanargmin(part), begin + np.nanargmax(part)])
                if not np.isnan(part).all()
                else np.array([begin])
            )
    return np.unique(np.concatenate(places))


def gather_points(x: Numbers, y: Numbers, weights: Numbers, parts: int = 200) -> tuple[Numbers, Numbers, Numbers, str]:
    """Gather points of a cloud in cells of a grid where there are many; returns x, y, the weight there, and a note.

    A point is moved by at most half a cell: 1/(2 parts) of the range of each axis.
    """
    if len(x) <= 5_000:
        return x, y, weights, ""
    edges = [
        np.linspace(line.min(), line.max() or 1.0, parts + 1)
        if line.min() < line.max()
        else np.array([line.min() - 0.5, line.max() + 0.5])
        for line in (x, y)
    ]
    table, _, _ = np.histogram2d(x, y, bins=edges, weights=weights)
    across, up = np.nonzero(table)
    middle = [(edge[:-1] + edge[1:]) / 2 for edge in edges]
    note = (
        f"{len(x):,} points gathered in {len(across):,} cells; none is moved by more than 1/{2 * parts} of the range."
    )
    return middle[0][across], middle[1][up], table[across, up], note
