"""Routes for results to be seen: what runs kept, the items of a version, small pictures, rows of tables."""

from __future__ import annotations

from dataclasses import replace
from typing import Annotated, cast

from fastapi import Depends, Query, Request, Response

from kinetrum.actions.data import media, table_rows
from kinetrum.core.base.errors import InvalidInput
from kinetrum.core.base.refs import VersionRef, parse_ref
from kinetrum.core.rows.row_query import PAGE_LIMIT, Page, RowQuery
from kinetrum.service.guard.turns import FILES, PICTURES, in_turn
from kinetrum.service.http.access import SignedIn
from kinetrum.service.http.routers import make_router
from kinetrum.service.http.store import store_of
from kinetrum.wire import results as wire

router = make_router(prefix="/projects/{project}", tags=["results"])
_VERSION = "/artifacts/{artifact}/versions/{version}"
_Where = Annotated[list[str], Query(description="Conditions that all hold: score > 0.9, truth = frost.", max_length=50)]
_Find = Annotated[str, Query(max_length=200, description="A text that stands in some cell.")]
_Sort = Annotated[str, Query(max_length=300, description="A column; with :desc behind it the other way round.")]
_Offset = Annotated[int, Query(ge=0, le=10_000_000)]
_Limit = Annotated[int, Query(ge=0, le=PAGE_LIMIT)]


def _rows_asked(
    where: _Where = [],  # noqa: B006
    find: _Find = "",
    sort: _Sort = "",
    offset: _Offset = 0,
    limit: _Limit = 100,
) -> RowQuery:
    return RowQuery(tuple(where), find, False, sort, offset, limit)


def _two_tables(
    query: Annotated[RowQuery, Depends(_rows_asked)],
    left: Annotated[str, Query(max_length=1_500)],
    right: Annotated[str, Query(max_length=1_500)],
    key: Annotated[str | None, Query(max_length=300, description="The column that tells rows apart.")] = None,
    outcome: Annotated[list[wire.Outcome], Query(description="Only rows of these outcomes.", max_length=20)] = [],  # noqa: B006
) -> table_rows.TwoTables:
    return table_rows.TwoTables(_table(left, "left"), _table(right, "right"), key, outcome, query)


@router.get("/kept")
def read_kept_names(
    actor: SignedIn,
    project: str,
    run: Annotated[list[str], Query(description="References of runs.", max_length=100)],
) -> wire.Kept:
    """Tell which plots, images, sounds, videos, texts and tables runs kept, by name, and at which steps."""
    drawn, shown = media.kept_names(actor, project, run)
    return wire.Kept(
        plots=drawn,
        media=shown,
    )


@router.get(_VERSION + "/items", dependencies=[in_turn(PICTURES)])
def read_items(actor: SignedIn, project: str, artifact: str, version: str, request: Request) -> wire.ShownVersion:
    """List what a version shows: images with captions, boxes and masks, sounds, videos, texts, tables."""
    items_shown = media.shown_items(actor, store_of(request), project, artifact, version)
    items = [
        wire.ShownItem(
            file=shown.item.file,
            kind=cast("wire.MediaKind | None", shown.kind),
            type=shown.type,
            size=shown.size,
            sha256=shown.sha256,
            caption=shown.item.caption,
            boxes=list(shown.item.boxes),
            masks=list(shown.item.masks),
        )
        for shown in items_shown.items
    ]
    return wire.ShownVersion(
        reference=items_shown.version.reference, kind=items_shown.version.kind, items=items, note=items_shown.note
    )


@router.get(
    _VERSION + "/thumbnail",
    response_class=Response,
    responses={200: {"content": {"image/webp": {}}}},
    dependencies=[in_turn(PICTURES)],
)
def read_thumbnail(
    actor: SignedIn,
    project: str,
    artifact: str,
    version: str,
    request: Request,
    path: Annotated[str, Query(max_length=1_000)],
) -> Response:
    """Return a small picture of an image, at most 320 pixels long and wide, made here and never the file itself."""
    picture = media.thumbnail(actor, store_of(request), project, artifact, version, path)
    headers = {"Cache-Control": "private, max-age=86400", "Content-Security-Policy": "sandbox; default-src 'none'"}
    return Response(picture, media_type="image/webp", headers=headers)


@router.get("/rows", dependencies=[in_turn(FILES)])
def read_rows(
    actor: SignedIn,
    project: str,
    request: Request,
    of: Annotated[str, Query(max_length=1_500, description="NAME@NUMBER, or a file in it: NAME@NUMBER:PATH.")],
    query: Annotated[RowQuery, Depends(_rows_asked)],
    wrong: Annotated[bool, Query(description="Only rows whose prediction is not the truth.")] = False,
) -> wire.Rows:
    """Browse a table that is stored as CSV, TSV, JSON Lines or Parquet: filtered, sorted, page by page."""
    query = replace(query, wrong=wrong)
    (version, entry), page = table_rows.read_page(actor, store_of(request), project, _table(of, "of"), query)
    return wire.Rows(
        table=version.reference,
        path=entry.path,
        columns=_columns(page),
        rows=page.rows,
        total=page.total,
        of=page.of,
        judged=page.judged,
        wrong=page.wrong,
    )


@router.get("/rows/joined", dependencies=[in_turn(FILES)])
def read_joined_rows(
    actor: SignedIn,
    project: str,
    request: Request,
    tables: Annotated[table_rows.TwoTables, Depends(_two_tables)],
) -> wire.JoinedRows:
    """Put two tables side by side, row by row: of predictions which rows became right or wrong, else which changed."""
    one, two, page = table_rows.read_joined(actor, store_of(request), project, tables)
    return wire.JoinedRows(
        left=f"{one[0].reference}:{one[1].path}",
        right=f"{two[0].reference}:{two[1].path}",
        key=page.key or "",
        columns=_columns(page),
        rows=page.rows,
        total=page.total,
        of=page.of,
        judged=page.judged,
        counts=page.counts,
    )


def _columns(page: Page) -> list[wire.Column]:
    return [wire.Column(name=name, type=kind) for name, kind in page.columns]  # type: ignore[arg-type]


def _table(text: str, field: str) -> VersionRef:
    ref = parse_ref(text)
    if not isinstance(ref, VersionRef) or ref.project is not None:
        raise InvalidInput(f"{text!r} names no table; write NAME@NUMBER or NAME@NUMBER:PATH.", field=field)
    return ref
