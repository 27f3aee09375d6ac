"""Tables out: runs and points, read piece by piece, so that memory stays flat however much there is."""

from __future__ import annotations

import pickle
import tempfile
from collections.abc import Callable, Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass
from typing import IO

from kinetrum.actions.context import Actor, enter
from kinetrum.actions.runs.readers import views_of
from kinetrum.actions.search.cells import cell_of, heading, read_columns
from kinetrum.actions.search.references import find_run
from kinetrum.actions.search.run_table import table_of
from kinetrum.core.base.errors import InvalidInput, NotFound
from kinetrum.core.base.ids import id_text
from kinetrum.core.points.columns import Points
from kinetrum.core.query.settled import Key, Source
from kinetrum.core.rows.tables import Row
from kinetrum.storage.db.clock import iso
from kinetrum.storage.db.database import snapshot
from kinetrum.storage.runs import point_reading, run_index, runs

RUNS_LIMIT = 200_000
_RUNS_AT_ONCE = 500
FIELDS = ("run", "id", "name", "status", "author", "host", "started_at", "ended_at")
MOMENTS = ("started_at", "ended_at")


@dataclass(frozen=True)
class RunsTable:
    """The runs of a table in its order, and its columns: fields of the run, then `param:KEY` and `metric:KEY`."""

    columns: list[str]
    batches: Callable[[], Iterator[list[Row]]]


@dataclass(frozen=True)
class TableAsked:
    """Which runs stand in a whole table, in which order, with which columns (None: all), and which stand out."""

    query: str
    sort: str
    columns: Sequence[str] | None
    pareto: str


@snapshot
def _chosen_runs(
    actor: Actor,
    project: str,
    experiment: str | None,
    query: TableAsked,
) -> tuple[list[int], list[Source]]:
    table = table_of(actor, project, experiment, query.query, query.sort, pareto=query.pareto)
    ids = table.search.page(table.sort, 0, RUNS_LIMIT)
    if query.columns is not None:
        return ids, read_columns(list(query.columns), table.search.catalogue)
    known = run_index.keys_of_experiments(table.searched.ids)
    return ids, [Key(scope, name) for scope, name in known]


def runs_table(
    actor: Actor,
    project: str,
    experiment: str | None,
    query: TableAsked,
) -> RunsTable:
    """Return the whole table of runs that fit what is asked, of one experiment or all."""
    ids, sources = _chosen_runs(actor, project, experiment, query)
    chosen = {heading(source): source for source in sources}

    def batches() -> Iterator[list[Row]]:
        for start in range(0, len(ids), _RUNS_AT_ONCE):
            yield _rows(ids[start : start + _RUNS_AT_ONCE], chosen)

    return RunsTable(list(dict.fromkeys([*FIELDS, *chosen])), batches)


def read_once(batches: Callable[[], Iterator[list[Row]]]) -> Callable[[], Iterator[list[Row]]]:
    """Return batches that may be gone through again: the first time they are also laid down in a temporary file.

    What needs two passes (Parquet learns the types first) sees the same rows twice, and the database is asked once.
    """
    laid_file: IO[bytes] | None = None

    def through() -> Iterator[list[Row]]:
        nonlocal laid_file
        if laid_file is not None:
            laid_file.seek(0)
            with suppress(EOFError):
                while True:
                    yield pickle.load(laid_file)
            return
        laid_down = tempfile.TemporaryFile()  # noqa: SIM115 - it is read in the next pass and goes with this function
        for batch in batches():
            pickle.dump(batch, laid_down, pickle.HIGHEST_PROTOCOL)
            yield batch
        laid_file = laid_down

    return through


@snapshot
def _rows(ids: list[int], chosen: dict[str, Source]) -> list[Row]:
    table = []
    for view in views_of(runs.runs_by_ids(ids)):
        run = view.run
        row: Row = dict(
            zip(
                FIELDS,
                (
                    run.reference,
                    id_text(run.uid),
                    run.name,
                    run.status,
                    view.author,
                    run.host,
                    iso(run.started_at),
                    iso(run.ended_at),
                ),
                strict=True,
            )
        )
        row = {name: value for name, value in row.items() if value is not None}
        for name, source in chosen.items():
            present, value = cell_of(source, view)
            if present:
                row[name] = value
        table.append(row)
    return table


@snapshot
def _metrics(actor: Actor, project: str, experiment: str, run_ref: str, wanted: Sequence[str]) -> tuple[int, list[str]]:
    place = enter(actor, project)
    run = find_run(place, experiment, run_ref)
    known = point_reading.metric_names(run.run_id)
    for key in wanted:
        if key not in known:
            there = ", ".join(known[:12]) or "none"
            raise NotFound(f"{run.reference} has no metric {key!r}; it has {there}.", field="metric")
    return run.run_id, list(wanted) or known


def stream_points(
    actor: Actor, project: str, experiment: str, run_ref: str, metrics: Sequence[str]
) -> Iterator[tuple[str, Points]]:
    """Return every point of metrics (all of the run's without a name), as stretches in the order of their steps."""
    run_id, names = _metrics(actor, project, experiment, run_ref, metrics)

    def stretches() -> Iterator[tuple[str, Points]]:
        for name in names:
            after: int | None = -(2**63)
            while after is not None:
                points, after = _stretch(run_id, name, after)
                if len(points):
                    yield name, points

    return stretches()


def stream_series(
    actor: Actor, project: str, experiment: str | None, query_text: str, metrics: Sequence[str], pareto: str = ""
) -> Iterator[tuple[str, str, Points]]:
    """Return points of metrics of all runs that fit a query, as (run, metric, stretch), the earliest run first."""
    if not metrics:
        raise InvalidInput("Which metrics? Name one or more; a run alone gives all of its own.", field="metric")
    ids = _searched(actor, project, experiment, query_text, metrics, pareto)

    def stretches() -> Iterator[tuple[str, str, Points]]:
        for start in range(0, len(ids), _RUNS_AT_ONCE):
            for run_id, reference in _references(ids[start : start + _RUNS_AT_ONCE]):
                for name in metrics:
                    after: int | None = -(2**63)
                    while after is not None:
                        points, after = _stretch(run_id, name, after)
                        if len(points):
                            yield reference, name, points

    return stretches()


@snapshot
def _searched(
    actor: Actor, project: str, experiment: str | None, query_text: str, metrics: Sequence[str], pareto: str
) -> list[int]:
    table = table_of(actor, project, experiment, query_text, "", pareto=pareto)
    for name in metrics:
        if not table.search.catalogue.is_metric(name):
            raise NotFound(f"No run searched has a metric {name!r}.", field="metric")
    return sorted(table.search.page(table.sort, 0, RUNS_LIMIT))


@snapshot
def _references(ids: list[int]) -> list[tuple[int, str]]:
    return [(run.run_id, run.reference) for run in runs.runs_by_ids(ids)]


@snapshot
def _stretch(run_id: int, name: str, after: int) -> tuple[Points, int | None]:
    return point_reading.read_stretch(run_id, name, after)
