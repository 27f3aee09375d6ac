"""Routes that find runs: pages of one experiment's or a whole project's table."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Query, Request, Response

from kinetrum.actions import searching
from kinetrum.actions.searching import RunPage
from kinetrum.service import shapes
from kinetrum.service.access import SignedIn
from kinetrum.wire import runs as wire

router = APIRouter(prefix="/projects/{project}", tags=["runs"])
QueryText = Annotated[
    str, Query(max_length=5_000, description="Which runs: recall >= 0.9 and learner = forest; all without one.")
]
SortText = Annotated[str, Query(max_length=1_000, description="Keys, the strongest first: recall,fit_seconds:asc")]
Cursor = Annotated[str | None, Query(max_length=200)]
Limit = Annotated[int, Query(ge=1, le=500)]
Keys = Annotated[list[str] | None, Query(description="Keys to hold in rows that have very many.")]

Columns = Annotated[
    list[str] | None, Query(description="Columns to show: recall, param:depth, min(loss), label:purpose, duration.")
]


@router.get("/experiments/{experiment}/runs")
def list_runs(
    actor: SignedIn,
    project: str,
    experiment: str,
    request: Request,
    response: Response,
    query: QueryText = "",
    sort: SortText = "",
    cursor: Cursor = None,
    limit: Limit = 100,
    key: Keys = None,
    column: Columns = None,
) -> wire.RunPage:
    """List an experiment's runs, a page at a time; the next page is named by `next_cursor` and a Link header."""
    page = searching.list_runs(actor, project, experiment, query, sort, cursor, limit, column or [])
    return _page(page, request, response, key)


@router.get("/runs")
def list_project_runs(
    actor: SignedIn,
    project: str,
    request: Request,
    response: Response,
    query: QueryText = "",
    sort: SortText = "",
    cursor: Cursor = None,
    limit: Limit = 100,
    key: Keys = None,
    column: Columns = None,
) -> wire.RunPage:
    """List the runs of all of a project's experiments, a page at a time."""
    page = searching.list_runs(actor, project, None, query, sort, cursor, limit, column or [])
    return _page(page, request, response, key)


def _page(page: RunPage, request: Request, response: Response, keys: list[str] | None) -> wire.RunPage:
    if page.next_cursor:
        following = request.url.include_query_params(cursor=page.next_cursor)
        response.headers["Link"] = f'<{following.path}?{following.query}>; rel="next"'
    return shapes.run_page(page, keys or [])
