"""Routes that stream whole tables: runs and points as CSV, JSON Lines, Parquet, and points packed."""

from __future__ import annotations

import struct
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Annotated, Any, Literal

import numpy as np
from fastapi import Depends, Query
from fastapi.responses import StreamingResponse

from kinetrum.actions.runs import exports
from kinetrum.actions.runs.exports import MOMENTS
from kinetrum.core.points.codec import BATCH_MEDIA_TYPE, Group, encode_batch
from kinetrum.core.points.columns import Points
from kinetrum.core.rows.tables import MEDIA_TYPES, Row, write_arrow, write_csv, write_jsonl, write_table
from kinetrum.service.guard.turns import EXPORTS, in_turn
from kinetrum.service.http.access import SignedIn
from kinetrum.service.http.routers import make_router
from kinetrum.service.routes.search.search_routes import Pareto, QueryText, SortText

router = make_router(prefix="/projects/{project}", tags=["tables"])
Form = Annotated[Literal["csv", "jsonl", "parquet"], Query(description="CSV, JSON Lines or Parquet.")]
Exact = Annotated[
    bool, Query(description="In CSV, leave texts that begin like formulas as recorded: not for spreadsheets.")
]
Columns = Annotated[list[str] | None, Query(description="Keys to keep; all without one.")]
_POINTS_AT_ONCE = 65_536
_RUN = "/experiments/{experiment}/runs/{run}"
_TABLE: dict[int | str, dict[str, Any]] = {
    200: {"description": "The table.", "content": {kind: {} for kind in MEDIA_TYPES.values()}}
}
_PACKED: dict[int | str, dict[str, Any]] = {200: {"description": "Packed points.", "content": {BATCH_MEDIA_TYPE: {}}}}


@dataclass(frozen=True)
class TableForm:
    """In which form a table is written."""

    form: Literal["csv", "jsonl", "parquet"]
    exact: bool


def _table_form(form: Form = "csv", exact: Exact = False) -> TableForm:
    return TableForm(form, exact)


Written = Annotated[TableForm, Depends(_table_form)]


def _download(pieces: Iterator[bytes], form: str, name: str) -> StreamingResponse:
    headers = {"Content-Disposition": f'attachment; filename="{name}.{form}"'}
    return StreamingResponse(pieces, media_type=MEDIA_TYPES[form], headers=headers)


def _whole(written: TableForm, table: exports.RunsTable, name: str) -> StreamingResponse:
    form = written.form
    rows = exports.read_once(table.batches) if form == "parquet" else table.batches
    return _download(write_table(form, table.columns, rows, MOMENTS, written.exact), form, name)


def _table_asked(
    query: QueryText = "", sort: SortText = "", column: Columns = None, pareto: Pareto = ""
) -> exports.TableAsked:
    return exports.TableAsked(query, sort, column, pareto)


@router.get(
    "/experiments/{experiment}/table",
    response_class=StreamingResponse,
    responses=_TABLE,
    dependencies=[in_turn(EXPORTS, while_streaming=True)],
)
def export_runs(
    actor: SignedIn,
    project: str,
    experiment: str,
    chosen: Annotated[exports.TableAsked, Depends(_table_asked)],
    written: Written,
) -> StreamingResponse:
    """Stream an experiment's whole table of runs: fields, then `param:KEY`, `metric:KEY` and `label:KEY`."""
    table = exports.runs_table(actor, project, experiment, chosen)
    return _whole(written, table, experiment)


@router.get(
    "/table", response_class=StreamingResponse, responses=_TABLE, dependencies=[in_turn(EXPORTS, while_streaming=True)]
)
def export_project_runs(
    actor: SignedIn,
    project: str,
    chosen: Annotated[exports.TableAsked, Depends(_table_asked)],
    written: Written,
) -> StreamingResponse:
    """Stream the table of all of a project's runs."""
    table = exports.runs_table(actor, project, None, chosen)
    return _whole(written, table, project)


@router.get(
    f"{_RUN}/points/table",
    response_class=StreamingResponse,
    responses=_TABLE,
    dependencies=[in_turn(EXPORTS, while_streaming=True)],
)
def export_points(
    actor: SignedIn,
    project: str,
    experiment: str,
    run: str,
    written: Written,
    metric: Annotated[list[str] | None, Query(description="Metrics; all of the run's without one.")] = None,
) -> StreamingResponse:
    """Stream every point of metrics: metric, step, time (UTC), value; repeated steps too, the later last."""
    stretches = exports.stream_points(actor, project, experiment, run, metric or [])
    pieces = _points(({"metric": name}, points) for name, points in stretches)
    return _download(_written(pieces, ("metric",), written), written.form, f"{experiment}-points")


Metrics = Annotated[list[str] | None, Query(description="Metrics, one or more.")]


@router.get(
    "/experiments/{experiment}/series",
    response_class=StreamingResponse,
    responses=_TABLE,
    dependencies=[in_turn(EXPORTS, while_streaming=True)],
)
def export_series(
    actor: SignedIn,
    project: str,
    experiment: str,
    written: Written,
    query: QueryText = "",
    metric: Metrics = None,
    pareto: Pareto = "",
) -> StreamingResponse:
    """Stream every point of metrics of all runs that fit: run, metric, step, time (UTC), value."""
    return _series(exports.stream_series(actor, project, experiment, query, metric or [], pareto), written, experiment)


@router.get(
    "/series", response_class=StreamingResponse, responses=_TABLE, dependencies=[in_turn(EXPORTS, while_streaming=True)]
)
def export_project_series(
    actor: SignedIn,
    project: str,
    written: Written,
    query: QueryText = "",
    metric: Metrics = None,
    pareto: Pareto = "",
) -> StreamingResponse:
    """Stream every point of metrics of all runs of a project that fit."""
    return _series(exports.stream_series(actor, project, None, query, metric or [], pareto), written, project)


def _series(stretches: Iterator[tuple[str, str, Points]], written: TableForm, name: str) -> StreamingResponse:
    pieces = _points(({"run": run, "metric": metric}, points) for run, metric, points in stretches)
    return _download(_written(pieces, ("run", "metric"), written), written.form, f"{name}-series")


@router.get(
    f"{_RUN}/points/packed",
    response_class=StreamingResponse,
    responses=_PACKED,
    dependencies=[in_turn(EXPORTS, while_streaming=True)],
)
def read_packed_points(
    actor: SignedIn, project: str, experiment: str, run: str, metric: Annotated[str, Query(max_length=250)]
) -> StreamingResponse:
    """Stream every point of a metric as packed batches, each after its length (u32, little-endian)."""
    stretches = exports.stream_points(actor, project, experiment, run, [metric])

    def pieces() -> Iterator[bytes]:
        for name, points in stretches:
            body = encode_batch([Group((name,), points.steps, points.times, points.values.reshape(1, -1))])
            yield struct.pack("<I", len(body)) + body

    return StreamingResponse(pieces(), media_type=BATCH_MEDIA_TYPE)


def _times(points: Points) -> list[str]:
    return [f"{moment}Z" for moment in np.datetime_as_string(points.times.view("datetime64[us]"), unit="us")]


Stretches = Iterator[tuple[dict[str, str], Points]]


def _points(stretches: Stretches) -> Stretches:
    """Cut long stretches, so that no piece of a table is large."""
    for named, points in stretches:
        for start in range(0, len(points), _POINTS_AT_ONCE):
            part = slice(start, start + _POINTS_AT_ONCE)
            yield named, Points(points.steps[part], points.times[part], points.values[part])


def _written(stretches: Stretches, names: tuple[str, ...], written: TableForm) -> Iterator[bytes]:
    return _parquet(stretches, names) if written.form == "parquet" else _text(stretches, names, written)


def _text(stretches: Stretches, names: tuple[str, ...], written: TableForm) -> Iterator[bytes]:
    def batches() -> Iterator[list[Row]]:
        for named, points in stretches:
            rows = zip(points.steps.tolist(), _times(points), points.values.tolist(), strict=True)
            yield [{**named, "step": step, "time": at, "value": value} for step, at, value in rows]

    columns = (*names, "step", "time", "value")
    return write_csv(columns, batches(), written.exact) if written.form == "csv" else write_jsonl(batches())


def _parquet(stretches: Stretches, names: tuple[str, ...]) -> Iterator[bytes]:
    import pyarrow

    schema = pyarrow.schema(
        [
            *((name, pyarrow.string()) for name in names),
            ("step", pyarrow.int64()),
            ("time", pyarrow.timestamp("us", tz="UTC")),
            ("value", pyarrow.float64()),
        ]
    )

    def tables() -> Iterator[Any]:
        for named, points in stretches:
            columns = [[named[name]] * len(points) for name in names]
            times = points.times.view("datetime64[us]")
            yield pyarrow.table([*columns, points.steps, times, points.values], schema=schema)

    return write_arrow(schema, tables())
