"""Routes for plots: kept, listed, read over several runs, declared anew."""

from __future__ import annotations

import json
from typing import Annotated, Any

from fastapi import Query

from kinetrum.actions.recording import plots
from kinetrum.core.base.errors import InvalidInput
from kinetrum.core.base.values import show, to_json
from kinetrum.core.plots import read_plot, write_plot
from kinetrum.core.plots.matrices import matrix_of
from kinetrum.core.plots.overlay import DrawnSeries
from kinetrum.service.http.access import SignedIn
from kinetrum.service.http.routers import make_router
from kinetrum.storage.runs.plots import PlotRow
from kinetrum.wire import plots as wire

router = make_router(prefix="/projects/{project}", tags=["plots"])
_PLOTS = "/experiments/{experiment}/runs/{run}/plots"


def _listed(row: PlotRow) -> dict[str, Any]:
    return {
        "name": row.name,
        "kind": row.kind,
        "step": row.step,
        "rows": row.row_count,
        "recorded_at": row.recorded_at,
        "view": row.view,
        "declared": row.declared,
        "numbers": row.numbers,
        "note": row.note,
    }


@router.post(_PLOTS, status_code=204)
def add_plot(actor: SignedIn, project: str, experiment: str, run: str, body: wire.NewPlot) -> None:
    """Keep a plot of a run as data; under a name and step that it has already, the later one is shown."""
    plot = read_plot(body.model_dump(include={"kind", "columns", "view", "numbers", "note"}))
    plots.add_plot(actor, project, experiment, run, plots.NewPlot(body.id, body.name, body.step, body.at, plot))


@router.get(_PLOTS)
def list_plots(actor: SignedIn, project: str, experiment: str, run: str) -> list[wire.PlotListed]:
    """List the plots of a run without their columns, by name and step."""
    return [wire.PlotListed(**_listed(row)) for row in plots.list_plots(actor, project, experiment, run)]


@router.patch(_PLOTS)
def declare_view(actor: SignedIn, project: str, experiment: str, run: str, body: wire.NewView) -> list[wire.PlotListed]:
    """Declare anew how a plot is drawn, at all its steps; nothing is recorded again."""
    plots_of_run = plots.declare_view(actor, project, experiment, run, body.name, body.view)
    return [wire.PlotListed(**_listed(row)) for row in plots_of_run]


@router.get("/plots")
def read_plots(
    actor: SignedIn,
    project: str,
    run: Annotated[list[str], Query(description="References of runs, in the order wanted.", max_length=50)],
    name: Annotated[str, Query(max_length=250, description="The plot's name.")],
    step: Annotated[int | None, Query(description="At which step; without it the last.")] = None,
    view: Annotated[str, Query(max_length=4_000, description="Parts of the view to be drawn otherwise, as JSON.")] = "",
    columns: Annotated[bool, Query(description="Whether the columns are sent too.")] = True,
) -> wire.Plots:
    """Read the plots of one name of several runs, laid over one another, with what they say in numbers."""
    view_of_plots = plots.read_plots(actor, project, run, name, step, _changes(view))
    return wire.Plots(
        plots=[_kept(one, columns) for one in view_of_plots.plots],
        series=[
            DrawnSeries(
                name=one.name,
                of=one.of,
                y=one.y,
                x=tuple(show(value) if view_of_plots.places else to_json(value) for value in one.x),
            )
            for one in view_of_plots.series
        ],
        places=view_of_plots.places,
        numbers=[
            wire.SaidNumber(
                name=line.name, values=[_number(value) for value in line.values], change=_number(line.change)
            )
            for line in view_of_plots.numbers
        ],
        without=view_of_plots.without,
    )


def _changes(view: str) -> dict[str, Any]:
    if not view:
        return {}
    try:
        changes = json.loads(view)
    except (ValueError, RecursionError) as error:
        raise InvalidInput(f"view is not JSON ({error}).", field="view") from None
    if not isinstance(changes, dict):
        raise InvalidInput("view is an object with the parts of a view that are drawn otherwise.", field="view")
    return changes


def _kept(kept_plot: plots.KeptPlot, columns: bool) -> wire.KeptPlot:
    written = write_plot(kept_plot.plot)
    matrix = None
    if kept_plot.plot.view.mark == "matrix":
        names, cells = matrix_of(kept_plot.plot)
        matrix = wire.Matrix(names=names, cells=cells)
    return wire.KeptPlot(
        **{**_listed(kept_plot.row), "view": written["view"]},
        run=kept_plot.run.reference,
        run_name=kept_plot.run.name,
        column_names=list(kept_plot.plot.columns),
        columns=written["columns"] if columns else {},
        matrix=matrix,
    )


def _number(value: float | None) -> Any:
    return None if value is None else to_json(value)
