"""Plots of runs: kept, listed, read, declared anew, and laid over one another."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from kinetrum.actions.context import Actor, enter
from kinetrum.actions.search.references import find_run, run_to_write, runs_named
from kinetrum.core.base.errors import InvalidInput, NotFound, TooLarge
from kinetrum.core.base.ids import id_bytes
from kinetrum.core.base.permissions import Act
from kinetrum.core.base.values import check_key
from kinetrum.core.plots import Plot, redeclare
from kinetrum.core.plots.overlay import DrawnSeries, SaidNumber, numbers_of, places_of, series_of
from kinetrum.storage.db.clock import from_micros
from kinetrum.storage.db.database import snapshot, transaction
from kinetrum.storage.live import events
from kinetrum.storage.people import journal
from kinetrum.storage.runs import plots, runs
from kinetrum.storage.runs.plots import PlotRow
from kinetrum.storage.runs.runs import Run

PLOTS_LIMIT, PLOTS_BYTES, OVERLAY_LIMIT = 5_000, 512 * 1024**2, 50


@dataclass(frozen=True)
class Overlaid:
    """Plots laid over one another: as series and as numbers; `without` names the runs that have none."""

    plots: list[KeptPlot]
    series: list[DrawnSeries]
    places: list[str]
    numbers: list[SaidNumber]
    without: list[str]


@dataclass(frozen=True)
class KeptPlot:
    """A plot of a run: what it is, and its data."""

    run: Run
    row: PlotRow
    plot: Plot


@dataclass(frozen=True)
class NewPlot:
    """A plot to keep under a name and, where it belongs to one, a step."""

    uid: str
    name: str
    step: int | None
    at: int
    plot: Plot


@transaction
def add_plot(
    actor: Actor,
    project: str,
    experiment: str,
    run_ref: str,
    new: NewPlot,
) -> None:
    """Keep a plot of a run under a name. Sent again under the same id, nothing changes."""
    _, run = run_to_write(actor, project, experiment, run_ref)
    check_key(new.name, "plot")
    count, size = plots.count_plots(run.run_id)
    if count >= PLOTS_LIMIT or size >= PLOTS_BYTES:
        raise TooLarge(
            f"{run.reference} has {count:,} plots of {size:,} bytes already, up to {PLOTS_LIMIT:,} plots and "
            f"{PLOTS_BYTES:,} bytes are kept; keep fewer steps of them.",
            field="plot",
        )
    drawn, declared = _as_declared(run, new.name, new.plot)
    if plots.add_plot(run.run_id, id_bytes(new.uid), new.name, new.step, from_micros(new.at), drawn, declared):
        events.tell_run(run.run_id)
    runs.sign_of_life(run.run_id)


def _as_declared(run: Run, name: str, plot: Plot) -> tuple[Plot, bool]:
    """Draw a further step as somebody declared the earlier ones, where the columns allow it."""
    earlier = [row for row in plots.plots_of_runs([run.run_id], name) if row.declared]
    if not earlier:
        return plot, False
    try:
        return redeclare(plot, earlier[-1].view), True
    except InvalidInput:
        return plot, False


@snapshot
def list_plots(actor: Actor, project: str, experiment: str, run_ref: str) -> list[PlotRow]:
    """Return the plots of a run without their columns, by name and step."""
    place = enter(actor, project)
    return plots.plots_of_runs([find_run(place, experiment, run_ref).run_id])


@snapshot
def read_plots(
    actor: Actor,
    project: str,
    references: Sequence[str],
    name: str,
    step: int | None = None,
    changes: Mapping[str, Any] | None = None,
) -> Overlaid:
    """Return the plots of one name of several runs, laid over one another.

    Of each run the plot at `step`; without one the plot of the highest step, or the one without a step. `changes` of
    the view hold for this drawing only.
    """
    if not 1 <= len(references) <= OVERLAY_LIMIT:
        raise InvalidInput(f"{len(references)} runs were named; 1 to {OVERLAY_LIMIT} are laid over.", field="run")
    place = enter(actor, project)
    named = runs_named(place, list(references))
    by_run: dict[int, list[PlotRow]] = {}
    for row in plots.plots_of_runs([run.run_id for run in named], name):
        by_run.setdefault(row.run_id, []).append(row)
    kept_plots, without = [], []
    for run in named:
        chosen = _at_step(by_run.get(run.run_id, []), step)
        if chosen is None:
            without.append(run.reference)
        else:
            plot = plots.read_kept(chosen.plot_id)
            kept_plots.append(KeptPlot(run, chosen, redeclare(plot, changes) if changes else plot))
    if not kept_plots:
        there = sorted({row.name for row in plots.plots_of_runs([run.run_id for run in named])})
        hint = f"; there are {', '.join(there[:12])}" if there else ""
        at = f" at step {step}" if step is not None else ""
        raise NotFound(f"None of {', '.join(without[:5])} has a plot {name!r}{at}{hint}.", field="name")
    # Drawn as the first one is, so that what is laid over one another has the same axes.
    pairs = [(kept_plot.run.reference, kept_plot.plot) for kept_plot in kept_plots]
    matrix = kept_plots[0].plot.view.mark == "matrix"
    return Overlaid(
        kept_plots, [] if matrix else series_of(pairs), [] if matrix else places_of(pairs), numbers_of(pairs), without
    )


def _at_step(rows: Sequence[PlotRow], step: int | None) -> PlotRow | None:
    if step is None:
        return rows[-1] if rows else None
    return next((row for row in rows if row.step == step), None)


@transaction
def declare_view(
    actor: Actor, project: str, experiment: str, run_ref: str, name: str, changes: Mapping[str, Any]
) -> list[PlotRow]:
    """Declare anew how a run's plot is drawn, at all its steps; the journal keeps what was declared before."""
    place = enter(actor, project, Act.RECORD)
    run = find_run(place, experiment, run_ref)
    rows = plots.plots_of_runs([run.run_id], name)
    if not rows:
        raise NotFound(f"{run.reference} has no plot {name!r}.", field="name")
    before = rows[-1].view
    for row in rows:
        plots.set_view(row.plot_id, redeclare(plots.read_kept(row.plot_id), changes))
    plot_rows = plots.plots_of_runs([run.run_id], name)
    if plot_rows[-1].view != before:
        journal.append(
            place.project_id,
            actor.person_id,
            "declared a plot anew",
            run.subject,
            journal.Change(_parted(name, before, plot_rows[-1].view), _parted(name, plot_rows[-1].view, before)),
            source=actor.source,
        )
        events.tell_run(run.run_id)
    return plot_rows


def _parted(name: str, view: Mapping[str, Any], other: Mapping[str, Any]) -> dict[str, Any]:
    """Return the parts of a view that another one has otherwise, each under the plot's name: `roc x`."""
    return {f"{name} {part}": value for part, value in view.items() if value != other[part]}
