"""Tables out: runs and points, read piece by piece, so that memory stays flat however much there is."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass

from kinetrum.actions.context import Actor, enter, experiment_in
from kinetrum.actions.finding import find_run
from kinetrum.actions.looking import sort_keys
from kinetrum.core.errors import InvalidInput, NotFound
from kinetrum.core.ids import id_text
from kinetrum.core.points.columns import Points
from kinetrum.core.query.condition import parse_condition
from kinetrum.core.tables import Row
from kinetrum.core.values import Value
from kinetrum.storage import people, points, projects, run_index, run_search, runs
from kinetrum.storage.clock import iso
from kinetrum.storage.database import snapshot

RUNS_LIMIT = 200_000
_RUNS_AT_ONCE = 500
FIELDS = ("run", "id", "name", "status", "author", "host", "started_at", "ended_at")


@dataclass(frozen=True)
class RunsTable:
    """The runs of a table in its order, and its columns: fields of the run, then `param:KEY` and `metric:KEY`."""

    columns: list[str]
    batches: Callable[[], Iterator[list[Row]]]


@snapshot
def _chosen_runs(
    actor: Actor, project: str, experiment: str, query_text: str, sort_text: str
) -> tuple[list[int], list[tuple[str, str]]]:
    place = enter(actor, project)
    row = experiment_in(place, experiment)
    known = run_index.keys_of_experiment(row.experiment_id)
    where = run_search.compile_condition(place.project_id, row.experiment_id, parse_condition(query_text))
    sort = sort_keys(sort_text, known, projects.goals_of(row.experiment_id))
    ids = run_search.all_ids(place.project_id, row.experiment_id, where, sort, RUNS_LIMIT)
    return ids, known


def runs_table(
    actor: Actor, project: str, experiment: str, query_text: str, sort_text: str, keys: Sequence[str] | None
) -> RunsTable:
    """Return the whole table of an experiment's runs that fit a condition; `keys` chooses columns by their names."""
    ids, known = _chosen_runs(actor, project, experiment, query_text, sort_text)
    columns = [("param:" if scope == "param" else "metric:") + name for scope, name in known]
    if keys is not None:
        columns = [_column(key, columns) for key in keys]
    wanted = [*FIELDS, *columns]

    def batches() -> Iterator[list[Row]]:
        for start in range(0, len(ids), _RUNS_AT_ONCE):
            yield _rows(ids[start : start + _RUNS_AT_ONCE], set(wanted))

    return RunsTable(wanted, batches)


def _column(key: str, known: list[str]) -> str:
    for name in (key, f"metric:{key}", f"param:{key}"):
        if name in known:
            return name
    raise InvalidInput(f"No run here has {key!r}; there are {', '.join(sorted(known)[:20])}.", field="columns")


@snapshot
def _rows(ids: list[int], wanted: set[str]) -> list[Row]:
    found = runs.runs_by_ids(ids)
    docs = runs.load_docs(ids)
    names = people.full_names()
    goals = {experiment: projects.goals_of(experiment) for experiment in {run.experiment_id for run in found}}
    table = []
    for run in found:
        doc = docs[run.run_id]
        row: Row = dict(zip(FIELDS, (
            run.reference, id_text(run.uid), run.name, run.status, names[run.author_id], run.host,
            iso(run.started_at), iso(run.ended_at),
        ), strict=True))  # fmt: skip
        row.update({f"param:{key}": value for key, value in doc.params.items()})
        row.update({f"metric:{key}": value for key, value in doc.values(goals[run.experiment_id]).items()})
        table.append({key: value for key, value in row.items() if key in wanted and not _absent(key, value)})
    return table


def _absent(key: str, value: Value) -> bool:
    return value is None and ":" not in key


@snapshot
def _metrics(actor: Actor, project: str, experiment: str, run_ref: str, wanted: Sequence[str]) -> tuple[int, list[str]]:
    place = enter(actor, project)
    run = find_run(place, experiment, run_ref)
    known = points.metric_names(run.run_id)
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
                found, after = _stretch(run_id, name, after)
                if len(found):
                    yield name, found

    return stretches()


@snapshot
def _stretch(run_id: int, name: str, after: int) -> tuple[Points, int | None]:
    return points.read_stretch(run_id, name, after)
