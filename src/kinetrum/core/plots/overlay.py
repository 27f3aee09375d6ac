"""Plots laid over one another: their series with names that tell them apart, and their numbers side by side."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

from kinetrum.core.base.values import Value, show
from kinetrum.core.plots.plot import Plot

SERIES_LIMIT = 200
Named = tuple[str, Plot]


@dataclass(frozen=True)
class DrawnSeries:
    """One line or cloud: `x` may hold texts, `y` holds numbers; places without a number are left out.

    `of` is the place among the plots of the one that it belongs to.
    """

    name: str
    x: tuple[Value, ...]
    y: tuple[float, ...]
    of: int = 0


@dataclass(frozen=True)
class SaidNumber:
    """A number that plots say of themselves: one value per plot, None where a plot does not say it."""

    name: str
    values: tuple[float | None, ...]

    @property
    def change(self) -> float | None:
        """The first less the last, where both say it: as in comparisons of runs, the last is the baseline."""
        first, last = self.values[0], self.values[-1]
        return None if first is None or last is None or len(self.values) < 2 else first - last


def series_of(plots: Sequence[Named]) -> list[DrawnSeries]:
    """Return the series of plots, named by what differs: the plot, the column drawn, the group; at most 200."""
    drawn: list[DrawnSeries] = []
    for of, (label, plot) in enumerate(plots):
        groups = _groups(plot)
        for column in plot.view.y:
            for group, places in groups:
                parts = [label] * (len(plots) > 1) + [column] * (len(plot.view.y) > 1) + [group] * (group != "")
                drawn.append(_series(plot, column, places, " ".join(parts) or column, of))
    return drawn[:SERIES_LIMIT]


def places_of(plots: Sequence[Named]) -> list[str]:
    """Return the texts that stand along x, in the order of the rows; empty where x holds numbers."""
    values = [value for _, plot in plots for value in plot.columns[plot.view.x]]
    bars = any(plot.view.mark == "bars" for _, plot in plots)
    if not bars and not any(isinstance(value, str) for value in values):
        return []
    return list(dict.fromkeys(show(value) for value in values))


def numbers_of(plots: Sequence[Named]) -> list[SaidNumber]:
    """Return every number that one of the plots says, in the order in which they come."""
    names = dict.fromkeys(name for _, plot in plots for name in plot.numbers)
    return [SaidNumber(name, tuple(plot.numbers.get(name) for _, plot in plots)) for name in names]


def _groups(plot: Plot) -> list[tuple[str, list[int]]]:
    rows = range(plot.rows)
    if plot.view.group is None:
        return [("", list(rows))]
    places: dict[str, list[int]] = {}
    for at in rows:
        places.setdefault(str(plot.columns[plot.view.group][at]), []).append(at)
    return list(places.items())


def _series(plot: Plot, column: str, places: Sequence[int], name: str, of: int) -> DrawnSeries:
    x, y = plot.columns[plot.view.x], plot.columns[column]
    places_kept = [at for at in places if _drawable(y[at]) and (isinstance(x[at], str) or _drawable(x[at]))]
    return DrawnSeries(name, tuple(x[at] for at in places_kept), tuple(float(str(y[at])) for at in places_kept), of)


def _drawable(value: Value) -> bool:
    return isinstance(value, int | float) and not isinstance(value, bool) and math.isfinite(value)
