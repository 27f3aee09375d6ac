"""Matrices of plots: classes, and cells as counts or shares."""

from __future__ import annotations

from kinetrum.core.plots.plot import Plot


def matrix_of(plot: Plot) -> tuple[list[str], list[list[float]]]:
    """Return the classes of a matrix and its cells, truth down and prediction across, as the view's share tells."""
    view = plot.view
    truth, guess = plot.columns[view.group or "truth"], plot.columns[view.x]
    names = list(dict.fromkeys([*map(str, truth), *map(str, guess)]))
    place = {name: at for at, name in enumerate(names)}
    cells = [[0.0] * len(names) for _ in names]
    for down, across, count in zip(truth, guess, plot.columns[view.y[0]], strict=True):
        cells[place[str(down)]][place[str(across)]] += float(str(count))
    if view.share == "row":
        cells = [[cell / (sum(row) or 1.0) for cell in row] for row in cells]
    elif view.share == "column":
        totals = [sum(row[at] for row in cells) or 1.0 for at in range(len(names))]
        cells = [[cell / totals[at] for at, cell in enumerate(row)] for row in cells]
    return names, cells
