"""Routes that compare: runs with one another, their predictions, why they differ, and what moves values over many."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query, Request

from kinetrum.actions.compare import comparison, effects
from kinetrum.actions.search import chart_columns
from kinetrum.service.guard.turns import FILES, in_turn
from kinetrum.service.http.access import SignedIn
from kinetrum.service.http.routers import make_router
from kinetrum.service.http.store import store_of
from kinetrum.service.presenters import comparison_shapes as shapes
from kinetrum.service.routes.search.search_routes import Pareto, QueryText, SortText
from kinetrum.wire import comparison as wire

router = make_router(prefix="/projects/{project}", tags=["comparisons"])
_Two = Annotated[
    list[str], Query(min_length=2, max_length=2, description="A run, and the one that it is compared with.")
]
_On = Annotated[str | None, Query(max_length=300, description="A value; without one that of the first goal.")]


@router.get("/comparison")
def compare_runs(
    actor: SignedIn,
    project: str,
    run: Annotated[list[str], Query(description="References such as frost-alarm/42; 2 to 100.")],
    baseline: Annotated[int, Query(description="Index of the run that changes are measured against.")] = 1,
    each: Annotated[bool, Query(description="Every run for itself, without its replicates.")] = False,
) -> wire.Comparison:
    """Compare runs, with their replicates: what was set differently, what came out differently, and beyond noise."""
    return shapes.comparison(comparison.compare(actor, project, run, baseline, each))


@router.get("/comparison/curves")
def compare_curves(
    actor: SignedIn,
    project: str,
    run: Annotated[list[str], Query(description="References; 1 to 100.")],
    metric: Annotated[str, Query(max_length=250)],
    width: Annotated[int, Query(ge=10, le=4_000)] = 600,
) -> wire.GroupCurves:
    """Read a metric of runs with their replicates: of each group the mean, the lowest and the highest by step."""
    curves = comparison.group_curves(actor, project, run, metric, width)
    return wire.GroupCurves(metric=metric, curves=[shapes.group_curve(*one) for one in curves])


@router.get("/comparison/reasons")
def read_reasons(actor: SignedIn, project: str, run: _Two, on: _On = None) -> effects.Why:
    """Order what differs between two runs by how likely it made the difference of a value."""
    return effects.read_reasons(actor, project, run[0], run[1], on)


@router.get("/comparison/rows", dependencies=[in_turn(FILES)])
def compare_rows(actor: SignedIn, project: str, request: Request, run: _Two) -> list[effects.JudgedRows]:
    """Compare two runs on the rows whose predictions both kept: values, interval and outcome of each measure."""
    return effects.read_judged_rows(actor, store_of(request), project, run[0], run[1])


@router.get("/experiments/{experiment}/effects")
def read_effects(actor: SignedIn, project: str, experiment: str, on: _On = None, query: QueryText = "") -> wire.Effects:
    """Rank settings, data and code of an experiment's finished runs by how much of a value goes along with them."""
    return shapes.effects(effects.read_effects(actor, project, experiment, on, query))


@router.get("/experiments/{experiment}/columns")
def read_columns(
    actor: SignedIn,
    project: str,
    experiment: str,
    column: Annotated[list[str], Query(description="Up to 40: recall, param:depth, min(loss), started.")],
    query: QueryText = "",
    sort: SortText = "",
    pareto: Pareto = "",
) -> wire.Drawn:
    """Read columns over the runs that fit, in the table's order, for charts: up to 2,000 runs."""
    return shapes.drawn(*chart_columns.read_drawn(actor, project, experiment, query, sort, column, pareto))
