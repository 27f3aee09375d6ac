"""Routes that find runs: pages of tables, groups, what there is to ask for; of one experiment or a whole project."""

from __future__ import annotations

from dataclasses import replace
from typing import Annotated

from fastapi import Depends, Query, Request, Response

from kinetrum.actions.search import facets, run_groups, run_table
from kinetrum.actions.search.run_table import RunPage, TableQuery
from kinetrum.service.http.access import SignedIn
from kinetrum.service.http.routers import make_router
from kinetrum.service.presenters import search_shapes, shapes
from kinetrum.wire import runs
from kinetrum.wire import search as wire

router = make_router(prefix="/projects/{project}", tags=["runs"])
_EXPERIMENT = "/experiments/{experiment}"
QueryText = Annotated[
    str, Query(max_length=5_000, description="Which runs: recall >= 0.9 and learner = forest; all without one.")
]
SortText = Annotated[str, Query(max_length=1_000, description="Keys, the strongest first: recall,fit_seconds:asc")]
Cursor = Annotated[str | None, Query(max_length=200)]
Limit = Annotated[int, Query(ge=1, le=500)]
Offset = Annotated[int, Query(ge=0, le=10_000_000, description="The row that the page begins with, from 0.")]
Keys = Annotated[list[str] | None, Query(description="Keys to hold in rows that have very many.")]
Columns = Annotated[
    list[str] | None, Query(description="Columns to show: recall, param:depth, min(loss), label:purpose, duration.")
]
Fold = Annotated[bool, Query(description="Leave out children whose parents are in the table.")]
Pareto = Annotated[
    str, Query(max_length=1_000, description="Two or three goals: only runs on their front, as in recall,fit_seconds.")
]
By = Annotated[str, Query(max_length=300, description="A column: learner, param:depth, status; or replicates.")]
Name = Annotated[str, Query(max_length=300, description="A key or field: recall, param:depth, author.")]
Beginning = Annotated[str, Query(max_length=300, description="Only values that hold this.")]
Unfinished = Annotated[str, Query(max_length=5_000, description="The query up to where somebody is writing.")]


def _asked(
    query: QueryText = "",
    sort: SortText = "",
    cursor: Cursor = None,
    offset: Offset = 0,
    limit: Limit = 100,
    column: Columns = None,
    pareto: Pareto = "",
) -> TableQuery:
    return TableQuery(query, sort, cursor, offset, limit, tuple(column or ()), pareto=pareto)


Page = Annotated[TableQuery, Depends(_asked)]


@router.get(_EXPERIMENT + "/runs", response_model=runs.RunPage)
def list_runs(
    actor: SignedIn, project: str, experiment: str, request: Request, page: Page, key: Keys = None, fold: Fold = False
) -> Response:
    """List an experiment's runs, a page at a time; the next page is named by `next_cursor` and a Link header."""
    page_found = run_table.list_runs(actor, project, experiment, replace(page, fold=fold))
    return _page(page_found, request, key)


@router.get("/runs", response_model=runs.RunPage)
def list_project_runs(
    actor: SignedIn, project: str, request: Request, page: Page, key: Keys = None, fold: Fold = False
) -> Response:
    """List the runs of all of a project's experiments, a page at a time."""
    page_found = run_table.list_runs(actor, project, None, replace(page, fold=fold))
    return _page(page_found, request, key)


def _page(page: RunPage, request: Request, keys: list[str] | None) -> Response:
    # Written straight from what was made here: to check every cell of it once more would take longer than reading it.
    body = shapes.run_page(page, keys or []).model_dump_json()
    response = Response(body, media_type="application/json")
    if page.next_cursor:
        following = request.url.remove_query_params("offset").include_query_params(cursor=page.next_cursor)
        response.headers["Link"] = f'<{following.path}?{following.query}>; rel="next"'
    return response


@router.get(_EXPERIMENT + "/groups")
def list_groups(actor: SignedIn, project: str, experiment: str, by: By, page: Page) -> wire.GroupPage:
    """Group an experiment's runs by a column, or by replicates: mean and spread of numbers, values that all share."""
    return search_shapes.group_page(run_groups.list_groups(actor, project, experiment, by, page))


@router.get("/groups")
def list_project_groups(actor: SignedIn, project: str, by: By, page: Page) -> wire.GroupPage:
    """Group the runs of all of a project's experiments by a column."""
    return search_shapes.group_page(run_groups.list_groups(actor, project, None, by, page))


@router.get(_EXPERIMENT + "/facets")
def list_facets(actor: SignedIn, project: str, experiment: str) -> wire.Facets:
    """List the keys that an experiment's runs have, with the kinds of their values and their ranges."""
    return search_shapes.facets(*facets.list_facets(actor, project, experiment))


@router.get("/facets")
def list_project_facets(actor: SignedIn, project: str) -> wire.Facets:
    """List the keys that the runs of all of a project's experiments have."""
    return search_shapes.facets(*facets.list_facets(actor, project, None))


@router.get(_EXPERIMENT + "/facet")
def read_facet(
    actor: SignedIn, project: str, experiment: str, name: Name, query: QueryText = "", beginning: Beginning = ""
) -> wire.Facet:
    """Count the values of one key or field over the runs that fit a query."""
    return search_shapes.facet(*facets.read_facet(actor, project, experiment, name, query, beginning))


@router.get("/facet")
def read_project_facet(
    actor: SignedIn, project: str, name: Name, query: QueryText = "", beginning: Beginning = ""
) -> wire.Facet:
    """Count the values of one key or field over the runs of all of a project's experiments."""
    return search_shapes.facet(*facets.read_facet(actor, project, None, name, query, beginning))


@router.get(_EXPERIMENT + "/offers")
def list_offers(actor: SignedIn, project: str, experiment: str, text: Unfinished = "") -> facets.Offers:
    """Tell what may stand at the end of a query that is being written: names, comparisons, values."""
    return facets.offers(actor, project, experiment, text)


@router.get("/offers")
def list_project_offers(actor: SignedIn, project: str, text: Unfinished = "") -> facets.Offers:
    """Tell what may stand at the end of a query over all of a project's experiments."""
    return facets.offers(actor, project, None, text)
