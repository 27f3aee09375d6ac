"""Drawing kept plots: on the terminal, and as PNG, SVG, CSV or an HTML file that needs nothing else."""

from __future__ import annotations

import csv
import html
import io
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, cast

from kinetrum.core.base.errors import InvalidInput, NotFound
from kinetrum.core.base.values import JsonObject
from kinetrum.core.plots import Plot
from kinetrum.core.plots.matrices import matrix_of
from kinetrum.core.plots.overlay import Named, numbers_of, series_of
from kinetrum.core.rows.tables import no_formula

if TYPE_CHECKING:
    from contextlib import AbstractContextManager

    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

FORMS = (".png", ".svg", ".html", ".csv")
_COLOURS = ("#2582dc", "#ed5f18", "#2d7864", "#d36a96", "#6335be", "#7f934b", "#294d5e", "#764a12")
_DASHES: tuple[object, ...] = ("solid", (0, (7, 3)), (0, (2, 2.5)), (0, (8, 3, 2, 3)))
_CELLS_WRITTEN = 20
_CLASSES_NAMED = 25


def _as_texts() -> AbstractContextManager[None]:
    """Names of strangers are texts, also with dollar signs in them, never formulas."""
    import matplotlib

    return matplotlib.rc_context({"text.parse_math": False})


def save_plots(plots: Sequence[Named], to: str | Path, title: str = "") -> Path:
    """Write plots laid over one another to a file, in the form that its ending tells: .png, .svg, .html or .csv.

    `plots` are (name, plot) pairs of one kind. Raises InvalidInput for another ending, NotFound where the package
    that draws is not installed.
    """
    path = Path(to)
    if path.suffix.lower() not in FORMS:
        raise InvalidInput(f"{path.name} ends in none of {', '.join(FORMS)}.", field="output")
    if path.suffix.lower() == ".csv":
        path.write_text(_as_csv(plots), encoding="utf-8")
    elif path.suffix.lower() == ".html":
        path.write_text(_as_html(plots, title), encoding="utf-8")
    else:
        _save(draw_figure(plots, title), path, path.suffix[1:].lower())
    return path


def _save(figure: Figure, to: Path | io.StringIO, form: str) -> None:
    # Some names are only made when the figure is drawn.
    with _as_texts():
        figure.savefig(to, format=form, dpi=150)


def draw_figure(plots: Sequence[Named], title: str = "") -> Figure:
    """Draw plots laid over one another; matrices stand side by side."""
    try:
        plain = _as_texts()
    except ModuleNotFoundError:
        raise NotFound("Drawing takes matplotlib: pip install 'kinetrum[plot]'.", field="output") from None
    with plain:
        return _drawn(plots, title)


def _drawn(plots: Sequence[Named], title: str) -> Figure:
    from matplotlib.figure import Figure

    view = plots[0][1].view
    matrices = view.mark == "matrix"
    figure = Figure(figsize=(6.0 * len(plots) if matrices else 8.0, 5.0), layout="constrained")
    figure.suptitle(view.title or title, fontsize=11)
    if matrices:
        # One scale for all, so that equal tones are equal numbers.
        most = max((max(map(max, matrix_of(plot)[1]), default=0.0) for _, plot in plots), default=0.0) or 1.0
        for axes, (name, plot) in zip(figure.subplots(1, len(plots), squeeze=False)[0], plots, strict=True):
            _draw_matrix(axes, name if len(plots) > 1 else "", plot, most)
    else:
        _draw_series(figure.subplots(), plots)
    return figure


def _draw_series(axes: Axes, plots: Sequence[Named]) -> None:
    view = plots[0][1].view
    drawn_series = series_of(plots)
    # Before anything is drawn: a scale that is set later takes names of places away again.
    axes.set_xscale(view.x_scale if view.mark != "bars" else "linear")
    axes.set_yscale(view.y_scale)
    axes.set_axisbelow(True)
    for at, series in enumerate(drawn_series):
        look: JsonObject = {"color": _COLOURS[at % 8], "label": series.name}
        x = cast("list[float]", list(series.x))
        if view.mark == "points":
            axes.scatter(x, series.y, s=9, alpha=0.6, **look)
        elif view.mark == "bars":
            # Side by side: the series share the room of each place.
            names = list(dict.fromkeys(str(value) for one in drawn_series for value in one.x))
            width = 0.8 / len(drawn_series)
            places = [names.index(str(value)) - 0.4 + width * (at + 0.5) for value in series.x]
            axes.bar(places, series.y, width, **look)
            axes.set_xticks(range(len(names)), names, rotation=45 if len(names) > 10 else 0)
        else:
            dashes = _DASHES[at // 8 % 4] if len(drawn_series) > 8 else _DASHES[at % 4]
            steps: JsonObject = {"drawstyle": "steps-post"} if view.mark == "steps" else {}
            # A line of one point would be invisible.
            mark = "o" if len(series.y) < 3 else None
            axes.plot(x, series.y, linewidth=1.5, linestyle=dashes, marker=mark, markersize=4, **steps, **look)
    if view.diagonal:
        axes.axline((0, 0), slope=1, color="#b4bcb8", linewidth=1, zorder=0)
    axes.set_xlabel(view.x_name or view.x)
    axes.set_ylabel(view.y_name or (view.y[0] if len(view.y) == 1 else ""))
    axes.spines[["top", "right"]].set_visible(False)
    axes.grid(color="#dde1de", linewidth=0.6)
    if not drawn_series or not any(series.y for series in drawn_series):
        axes.text(0.5, 0.5, plots[0][1].note or "There is nothing to draw.", ha="center", transform=axes.transAxes)
    elif 1 < len(drawn_series) <= 20:
        axes.legend(fontsize=8, frameon=False)


def _draw_matrix(axes: Axes, name: str, plot: Plot, most: float) -> None:
    names, cells = matrix_of(plot)
    if cells:
        axes.imshow(cells, cmap="Blues", vmin=0, vmax=most)
    if len(names) <= _CELLS_WRITTEN:
        for down, row in enumerate(cells):
            for across, cell in enumerate(row):
                tone = "white" if cell > most / 2 else "black"
                axes.text(across, down, f"{cell:.3g}", ha="center", va="center", color=tone, fontsize=8)
    shown = range(0, len(names), -(-len(names) // _CLASSES_NAMED) or 1)
    axes.set_xticks(shown, [names[at] for at in shown], rotation=90 if len(shown) > 6 else 0, fontsize=8)
    axes.set_yticks(shown, [names[at] for at in shown], fontsize=8)
    axes.set_xlabel(plot.view.x_name or plot.view.x)
    axes.set_ylabel(plot.view.y_name or "truth")
    axes.set_title(name, fontsize=10)


def _as_csv(plots: Sequence[Named]) -> str:
    text = io.StringIO()
    table = csv.writer(text, lineterminator="\n")
    names = list(dict.fromkeys(name for _, plot in plots for name in plot.columns))
    table.writerow(["plot", *map(no_formula, names)])
    for label, plot in plots:
        columns = [plot.columns.get(name, [None] * plot.rows) for name in names]
        table.writerows([no_formula(label), *map(_csv_cell, row)] for row in zip(*columns, strict=True))
    return text.getvalue()


def _csv_cell(value: object) -> object:
    return no_formula(value) if isinstance(value, str) else value


def as_svg(plots: Sequence[Named], title: str) -> str:
    """Draw plots laid over one another as an SVG element."""
    picture = io.StringIO()
    _save(draw_figure(plots, title), picture, "svg")
    svg = picture.getvalue()
    return svg[svg.index("<svg") :]


def _as_html(plots: Sequence[Named], title: str) -> str:
    """One file with the picture, the numbers and the notes; nothing in it runs, and nothing is fetched."""
    svg = as_svg(plots, title)
    heads = "".join(f"<th>{html.escape(label)}</th>" for label, _ in plots)
    rows = "".join(
        f"<tr><td>{html.escape(line.name)}</td>"
        + "".join(f"<td>{'' if value is None else f'{value:.6g}'}</td>" for value in line.values)
        + "</tr>"
        for line in numbers_of(plots)
    )
    notes = "".join(f"<p>{html.escape(f'{label}: {plot.note}')}</p>" for label, plot in plots if plot.note)
    return (
        f'<!doctype html><html lang="en"><meta charset="utf-8"><title>{html.escape(title)}</title>'
        "<style>body{font:14px sans-serif;margin:2em;color:#1a2125}td,th{padding:2px 12px;text-align:right}"
        "td:first-child{text-align:left}svg{max-width:100%;height:auto}</style>"
        f"<h1>{html.escape(title)}</h1>{svg}<table><tr><th></th>{heads}</tr>{rows}</table>{notes}</html>\n"
    )


def draw_on_terminal(plots: Sequence[Named], width: int, height: int, coloured: bool) -> str:
    """Draw plots with characters; raises NotFound where the package that draws is not installed."""
    try:
        import plotext
    except ModuleNotFoundError:
        raise NotFound("Drawing on the terminal takes plotext: pip install 'kinetrum[plot]'.") from None
    view = plots[0][1].view
    plotext.clear_figure()
    plotext.theme("clear" if not coloured else "pro")
    plotext.plotsize(width, height)
    for series in series_of(plots)[:8]:
        if view.mark == "bars" or any(isinstance(value, str) for value in series.x):
            plotext.bar([str(value) for value in series.x], list(series.y), label=series.name)
        elif view.mark == "points":
            plotext.scatter(list(series.x), list(series.y), label=series.name)
        elif series.y:
            plotext.plot(list(series.x), list(series.y), label=series.name)
    plotext.xlabel(view.x_name or view.x)
    plotext.ylabel(view.y_name or view.y[0])
    plotext.xscale(view.x_scale)
    plotext.yscale(view.y_scale)
    text: str = plotext.build()
    return text if coloured else plotext.uncolorize(text)
