"""Routes for plots: kept, listed, read over several runs, declared anew."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import APIRouter, Query

from kinetrum.actions import plotting
from kinetrum.core.plots import read_plot, write_plot
from kinetrum.service.access import SignedIn
from kinetrum.storage.plots import PlotRow
from kinetrum.wire import plots as wire

router = APIRouter(prefix="/projects/{project}", tags=["plots"])
_PLOTS = "/experiments/{experiment}/runs/{run}/plots"


def _listed(row: PlotRow) -> dict[str, Any]:
    return {
        "name": row.name, "kind": row.kind, "step": row.step, "rows": row.row_count, "recorded_at": row.recorded_at,
        "view": row.view, "declared": row.declared, "numbers": row.numbers, "note": row.note,
    }  # fmt: skip


@router.post(_PLOTS, status_code=204)
def add_plot(actor: SignedIn, project: str, experiment: str, run: str, body: wire.NewPlot) -> None:
    """Keep a plot of a run as data; under a name and step that it has already, the later one is shown."""
    plot = read_plot(body.model_dump(include={"kind", "columns", "view", "numbers", "note"}))
    plotting.add_plot(actor, project, experiment, run, body.id, body.name, body.step, body.at, plot)


@router.get(_PLOTS)
def list_plots(actor: SignedIn, project: str, experiment: str, run: str) -> list[wire.PlotListed]:
    """List the plots of a run without their columns, by name and step."""
    return [wire.PlotListed(**_listed(row)) for row in plotting.list_plots(actor, project, experiment, run)]


@router.patch(_PLOTS)
def declare_view(
    actor: SignedIn, project: str, experiment: str, run: str, body: wire.NewView
) -> list[wire.PlotListed]:  # fmt: skip
    """Declare anew how a plot is drawn, at all its steps; nothing is recorded again."""
    found = plotting.declare_view(actor, project, experiment, run, body.name, body.view)
    return [wire.PlotListed(**_listed(row)) for row in found]


@router.get("/plots")
def read_plots(
    actor: SignedIn, project: str,
    run: Annotated[list[str], Query(description="References of runs, in the order wanted.", max_length=50)],
    name: Annotated[str, Query(max_length=250, description="The plot's name.")],
    step: Annotated[int | None, Query(description="At which step; without it the last.")] = None,
) -> wire.Plots:  # fmt: skip
    """Read the plots of one name of several runs with their columns, to be laid over one another."""
    kept, without = plotting.read_plots(actor, project, run, name, step)
    return wire.Plots(
        plots=[
            wire.KeptPlot(**_listed(found.row), run=found.run.reference, run_name=found.run.name,
                          columns=write_plot(found.plot)["columns"])
            for found in kept
        ],
        without=without,
    )  # fmt: skip
