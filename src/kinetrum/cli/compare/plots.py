"""`kinetrum plot`: kept plots and curves of metrics, on the terminal or to a file, of one run or several."""

from __future__ import annotations

import argparse
import shutil
from pathlib import Path
from typing import TYPE_CHECKING

from kinetrum.cli import output
from kinetrum.cli.arguments import add_common
from kinetrum.cli.output import number, paint, signed
from kinetrum.cli.parser import Commands
from kinetrum.core.base.errors import InvalidInput, NotFound

if TYPE_CHECKING:
    from kinetrum.client.reading.recorded_run import RecordedRun
    from kinetrum.core.plots import Plot

_VIEW = ("x", "y", "group", "mark", "title", "x_name", "y_name", "x_scale", "y_scale", "share")
_CLASSES_SHOWN = 20


def add_commands(commands: Commands) -> None:
    """Add this group to the parser."""
    plot = commands.add_parser("plot", help="draw a kept plot or a metric's curve, of one run or several")
    plot.add_argument("ref", metavar="RUN", help="frost-alarm/24")
    plot.add_argument(
        "name", nargs="?", metavar="NAME", help="holdout/roc, or a metric; without it the plots are listed"
    )
    plot.add_argument(
        "--with", dest="others", action="append", default=[], metavar="RUN", help="lay another run over it"
    )
    plot.add_argument("--step", type=int, help="at which step; without it the last")
    plot.add_argument("-o", "--output", metavar="FILE", help="write it to a .png, .svg, .html or .csv file")
    plot.add_argument("--x", metavar="COLUMN", help="which column lies along x")
    plot.add_argument("--y", action="append", metavar="COLUMN", help="which columns are drawn; may be given again")
    plot.add_argument("--group", metavar="COLUMN", help="a series for each value of it")
    plot.add_argument("--mark", choices=["line", "steps", "points", "bars", "matrix"])
    plot.add_argument("--title")
    plot.add_argument("--x-name", metavar="TEXT", help="what stands at the axis, with the unit")
    plot.add_argument("--y-name", metavar="TEXT")
    plot.add_argument("--x-scale", choices=["linear", "log"])
    plot.add_argument("--y-scale", choices=["linear", "log"])
    plot.add_argument("--share", choices=["count", "row", "column"], help="cells of a matrix: counts, or shares")
    plot.add_argument("--declare", action="store_true", help="keep the choice: the plot is drawn so for everybody")
    add_common(plot, _plot)


def run_of(reference: str, project: str | None) -> RecordedRun:
    """Return the run that a reference names; raises InvalidInput where it names something else."""
    from kinetrum.client.reading.recorded_run import RecordedRun
    from kinetrum.client.reading.run_table import open as open_reference

    run = open_reference(reference, project=project)
    if not isinstance(run, RecordedRun):
        raise InvalidInput(f"{reference} is not a run; plots and media belong to runs.", field="ref")
    return run


def _plot(arguments: argparse.Namespace) -> int:
    run = run_of(arguments.ref, arguments.project)
    if arguments.name is None:
        return _list(run, arguments.json)
    changes = {name: value for name in _VIEW if (value := getattr(arguments, name)) is not None}
    if arguments.declare:
        run.plots.declare(arguments.name, **changes)
    plots = _chosen(run, arguments, changes)
    if arguments.json:
        from kinetrum.core.plots import write_plot

        output.print_json({label: write_plot(plot) for label, plot in plots})
        return 0
    if arguments.output:
        from kinetrum.client.display.plot_drawing import save_plots

        path = save_plots(
            plots, Path(arguments.output), f"{arguments.name} of {' and '.join(label for label, _ in plots)}"
        )
        output.note(f"{path}: {path.stat().st_size:,} bytes.")
        return 0
    _show(plots)
    return 0


def _list(run: RecordedRun, as_json: bool) -> int:
    rows = run.plots.listed()
    if as_json:
        output.print_json(rows)
        return 0
    if not rows:
        print(f"{run.reference} has no plots.")
        return 0
    table = [
        [
            output.clean(row["name"]),
            row["kind"],
            "" if row["step"] is None else str(row["step"]),
            f"{row['rows']:,}",
            "  ".join(f"{output.clean(key)} {number(value)}" for key, value in list(row["numbers"].items())[:1]),
        ]
        for row in rows
    ]
    output.print_table(["plot", "kind", "step", "rows", "says"], table, keep=2)
    return 0


def _chosen(run: RecordedRun, arguments: argparse.Namespace, changes: dict[str, object]) -> list[tuple[str, Plot]]:
    """Return the plots to draw, as declared or as chosen here; a metric becomes a plot of its points."""
    from kinetrum.client.reading.recorded_plots import curve_plot, overlaid
    from kinetrum.core.plots import redeclare

    references = [arguments.ref, *arguments.others]
    try:
        kept_plots, without = overlaid(run._session, references, arguments.name, arguments.step)
        plots = [(kept_plot.run, kept_plot.as_plot()) for kept_plot in kept_plots]
        for reference in without:
            output.note(f"{reference} has no plot {arguments.name}.")
    except NotFound:
        if arguments.name not in run.metrics:
            raise
        runs = [run, *(run_of(reference, arguments.project) for reference in arguments.others)]
        plots = [(kept_plot.reference, curve_plot(kept_plot, arguments.name)) for kept_plot in runs]
    return [(label, redeclare(plot, changes) if changes else plot) for label, plot in plots]


def _show(plots: list[tuple[str, Plot]]) -> None:
    from kinetrum.client.display.plot_drawing import draw_on_terminal
    from kinetrum.core.plots.overlay import series_of

    title = plots[0][1].view.title
    if title:
        print(paint(output.clean(title), "strong"))
    if plots[0][1].view.mark == "matrix":
        for label, plot in plots:
            _show_matrix(label, plot)
    elif not any(series.y for series in series_of(plots)):
        print("There is nothing to draw.")
    else:
        height = max(12, min(24, shutil.get_terminal_size((100, 24)).lines - 8))
        print(draw_on_terminal(plots, min(output.terminal_width(), 120), height, output.coloured()).rstrip())
    _show_numbers(plots)
    for label, plot in plots:
        if plot.note:
            print(paint(output.clean(f"{label}: {plot.note}"), "quiet"))


def _show_matrix(label: str, plot: Plot) -> None:
    from kinetrum.core.plots.matrices import matrix_of

    names, cells = matrix_of(plot)
    print(paint(label, "strong"))
    rows = [[output.clean(name), *(f"{cell:.3g}" for cell in row)] for name, row in zip(names, cells, strict=True)]
    widest = [max(map(len, column)) + 2 for column in zip(_head(names), *rows, strict=True)]
    if len(names) > _CLASSES_SHOWN or sum(widest) > output.terminal_width():
        pairs = sorted(
            (
                (cells[down][across], names[down], names[across])
                for down in range(len(names))
                for across in range(len(names))
                if down != across and cells[down][across]
            ),
            reverse=True,
        )
        print(f"{len(names)} classes; the most frequent confusions:")
        output.print_table(
            ["truth", "prediction", "rows"],
            [[output.clean(a), output.clean(b), f"{count:g}"] for count, a, b in pairs[:_CLASSES_SHOWN]],
        )
        return
    output.print_table(_head(names), rows, fit=False)


def _head(names: list[str]) -> list[str]:
    return ["truth \\ prediction", *map(output.clean, names)]


def _show_numbers(plots: list[tuple[str, Plot]]) -> None:
    from kinetrum.core.plots.overlay import numbers_of

    numbers = numbers_of(plots)[:40]
    if not numbers:
        return
    print()
    rows = []
    for one in numbers:
        values = ["" if value is None else number(value) for value in one.values]
        rows.append([output.clean(one.name), *values, *([signed(one.change)] if len(plots) == 2 else [])])
    output.print_table(["", *(label for label, _ in plots), *(["change"] if len(plots) == 2 else [])], rows, keep=2)
