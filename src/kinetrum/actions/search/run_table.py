"""Searching: the runs of one experiment or of a whole project that fit a query, in an order, a page at a time."""

from __future__ import annotations

import base64
import difflib
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Literal, TypeVar

import numpy as np

from kinetrum.actions.context import Actor, Place, enter, experiment_in
from kinetrum.actions.runs.readers import PAGE_LIMIT, RunView, views_of
from kinetrum.actions.search.cells import read_columns
from kinetrum.actions.search.references import find_version, run_named
from kinetrum.core.base.errors import InvalidInput, NotFound
from kinetrum.core.base.goals import Goal
from kinetrum.core.base.refs import RunRef, VersionRef
from kinetrum.core.base.values import Value, same
from kinetrum.core.query.check import settle
from kinetrum.core.query.settled import Field, Source, UsedContent
from kinetrum.core.query.sorting import SortKey, read_front, read_sort
from kinetrum.core.query.writing import in_python, in_shell
from kinetrum.core.statistics.pareto import pareto_front
from kinetrum.storage.data import artifacts
from kinetrum.storage.db.database import places, snapshot
from kinetrum.storage.people import projects
from kinetrum.storage.runs import run_families, run_index, runs
from kinetrum.storage.search.driving_index import DRIVEN_LIMIT, WIDE_LIMIT, Driving, is_rare, unanswered
from kinetrum.storage.search.run_catalogue import RunCatalogue, Searched
from kinetrum.storage.search.run_query import NEVER, Compiler, Filter, Finders
from kinetrum.storage.search.run_search import COUNT_CAP, RunSearch
from kinetrum.storage.search.run_values import column_of

LAST_ROW = 200_000
FRONT_OF = 20_000
_VERSIONS_LIMIT = 1_000
T = TypeVar("T")


@dataclass(frozen=True)
class RunColumn:
    """A column of the run table; `differs` tells whether the shown rows differ in it."""

    scope: Literal["param", "value", "label"]
    name: str
    differs: bool


@dataclass(frozen=True)
class RunPage:
    """One page of the run table; `count` is at most the cap. `remarks` tell how names in the query were understood."""

    rows: list[RunView]
    columns: list[RunColumn]
    goals: list[Goal]
    seeds: list[str]
    count: int
    count_is_capped: bool
    next_cursor: str | None
    remarks: list[str]
    chosen: list[tuple[str, Source]]
    children: dict[bytes, int]
    parents: dict[bytes, str]
    python: str
    shell: str


@dataclass(frozen=True)
class Table:
    """What a query and a sort mean in the experiments searched."""

    place: Place
    searched: Searched
    search: RunSearch
    sort: list[SortKey]
    goals: dict[str, Goal]
    remarks: list[str]


def searched_in(place: Place, experiment: str | None) -> Searched:
    """Return one experiment, or all of a project."""
    if experiment is not None:
        row = experiment_in(place, experiment)
        experiments: tuple[tuple[int, str], ...] = ((row.experiment_id, row.name),)
    else:
        experiments = tuple(projects.experiments_in(place.project_id))
    return Searched(place.project_id, place.project.name, experiments)


def table_of(
    actor: Actor,
    project: str,
    experiment: str | None,
    query_text: str,
    sort_text: str,
    fold: bool = False,
    pareto: str = "",
) -> Table:
    """Read a query and a sort; raises InvalidInput with the column where the query is wrong.

    `fold` leaves out children whose parents are in the table; of `pareto`, two or three goals, only the runs on the
    front of those that fit are left.
    """
    place = enter(actor, project)
    searched = searched_in(place, experiment)
    catalogue = RunCatalogue(searched)
    goals: dict[str, Goal] = {}
    for experiment_goals in catalogue.goals.values():
        goals = experiment_goals | goals
    plan, remarks = settle(query_text, catalogue)
    finders = _finders(actor, place)
    where = Compiler(catalogue, finders).compile(plan)
    wide = Driving(catalogue, finders, WIDE_LIMIT).driver(plan)
    left_plan = unanswered(plan, wide)
    left = where if left_plan is plan else Compiler(catalogue, finders).compile(left_plan)
    driver = wide if wide is not None and wide.size <= DRIVEN_LIMIT else None
    sort = read_sort(sort_text, catalogue, goals)
    search = RunSearch(catalogue, where, driver, is_rare(plan), fold, wide, left)
    if pareto:
        search = RunSearch(catalogue, front_of(search, read_front(pareto, catalogue, goals)))
    return Table(place, searched, search, sort, goals, remarks)


def front_of(search: RunSearch, goals: list[SortKey]) -> Filter:
    """Return the condition of being on the front of the runs that a search finds; raises InvalidInput of too many."""
    ids = search.page([SortKey(Field("number"), True)], 0, FRONT_OF + 1)
    if len(ids) > FRONT_OF:
        raise InvalidInput(
            f"A trade-off is told of up to {FRONT_OF:,} runs; more fit here. Ask for fewer.", field="pareto"
        )
    columns = [column_of(search.catalogue, goal.source, ids) for goal in goals]
    values = np.array([[_finite(column.get(run_id)) for column in columns] for run_id in ids], dtype=float)
    on_it = pareto_front(values.reshape(len(ids), len(goals)), [goal.descending for goal in goals])
    front = [run_id for run_id, on in zip(ids, on_it.tolist(), strict=True) if on]
    return Filter(f"r.run_id IN {places(front)}", tuple(front)) if front else NEVER


def _finite(value: Value) -> float:
    return float(value) if isinstance(value, int | float) and not isinstance(value, bool) else float("nan")


def _finders(actor: Actor, place: Place) -> Finders:
    def elsewhere(project: str | None) -> Place:
        return place if project in {None, place.project.name} else enter(actor, str(project))

    def run_id_of(reference: RunRef) -> bytes:
        named = f"{reference.experiment}/{reference.pick}" if reference.experiment else reference.pick
        return _or_invalid(lambda: run_named(elsewhere(reference.project), named)).uid

    def versions_of(used: UsedContent) -> Sequence[int]:
        return _or_invalid(lambda: _versions(place, used, elsewhere))

    return Finders(run_id_of, versions_of)


def _or_invalid(find: Callable[[], T]) -> T:
    """What a query names and is not there makes the query wrong, not the page missing."""
    try:
        return find()
    except NotFound as error:
        raise InvalidInput(str(error), field="query") from None


def _versions(place: Place, used: UsedContent, elsewhere: Callable[[str | None], Place]) -> list[int]:
    if used.digest is not None:
        version_cells = [
            row
            for digest in artifacts.digests_that_begin(place.project_id, used.digest)
            for row in artifacts.versions_of_digest(place.project_id, digest)
            or artifacts.versions_with_file(place.project_id, digest, _VERSIONS_LIMIT)
        ]
        return [row.version_id for row in version_cells]
    reference = used.reference
    assert reference is not None
    there = elsewhere(reference.project)
    if isinstance(reference, VersionRef):
        version = find_version(there, reference.name, reference.which)
        # The same content under another number or name is the same data.
        same_content = artifacts.versions_of_digest(there.project_id, version.digest)
        return [version.version_id, *(row.version_id for row in same_content)]
    artifact = artifacts.artifact_named(there.project_id, reference.name)
    if artifact is None:
        known = [row.name for row in artifacts.artifacts_of(there.project_id)]
        near = difflib.get_close_matches(reference.name, known, 3, 0.5) or known[:3]
        hint = f" Nearest: {', '.join(near)}." if near else ""
        raise NotFound(f"{there.project.name} has no artifact {reference.name!r}.{hint}")
    return [row.version_id for row in artifacts.versions_of(artifact.artifact_id)]


@dataclass(frozen=True)
class TableQuery:
    """What part of which table is asked for; `cursor` or `offset` says where a page begins."""

    query: str = ""
    sort: str = ""
    cursor: str | None = None
    offset: int = 0
    limit: int = 100
    columns: Sequence[str] = ()
    fold: bool = False
    pareto: str = ""

    def start(self) -> int:
        """Return the row that the page begins with; raises InvalidInput outside of the bounds."""
        if not 1 <= self.limit <= PAGE_LIMIT:
            raise InvalidInput(f"A page has 1 to {PAGE_LIMIT} runs, not {self.limit}.", field="limit")
        offset = _read_cursor(self.cursor) if self.cursor else self.offset
        if not 0 <= offset < LAST_ROW:
            raise InvalidInput(
                f"Pages begin before row {LAST_ROW:,}; ask for fewer runs, or for the whole table as a file.",
                field="offset",
            )
        return offset


@snapshot
def list_runs(actor: Actor, project: str, experiment: str | None, query: TableQuery) -> RunPage:
    """Return one page of an experiment's runs, or of all runs of a project.

    `sort` names keys, the strongest first: `recall` (better first by its goal, else the higher),
    `fit_seconds:asc`, `started:desc`. Missing values come last; without it the latest run is first.
    `columns` names what is to be shown; what each means comes back as `chosen`.
    """
    offset, limit = query.start(), query.limit
    table = table_of(actor, project, experiment, query.query, query.sort, query.fold, query.pareto)
    ids = table.search.page(table.sort, offset, limit + 1)
    count = table.search.count()
    views = views_of(runs.runs_by_ids(ids[:limit]))
    known = run_index.keys_of_experiments(table.searched.ids)
    columns = list(query.columns)
    return RunPage(
        rows=views,
        columns=[RunColumn(scope, name, _differs(views, scope, name)) for scope, name in known],
        goals=list(table.goals.values()),
        seeds=projects.seeds_of(table.searched.ids),
        count=min(count, COUNT_CAP),
        count_is_capped=count > COUNT_CAP,
        next_cursor=_write_cursor(offset + limit) if len(ids) > limit and offset + limit < LAST_ROW else None,
        remarks=table.remarks,
        chosen=list(zip(columns, read_columns(columns, table.search.catalogue), strict=True)),
        children=run_families.counts_of_children([view.run.uid for view in views], table.searched.ids),
        parents=_parents(views),
        python=in_python(project, experiment, query.query, columns, query.sort, pareto=query.pareto),
        shell=in_shell(project, experiment, query.query, columns, query.sort, pareto=query.pareto),
    )


def _parents(views: list[RunView]) -> dict[bytes, str]:
    uids = sorted({view.run.parent_uid for view in views if view.run.parent_uid})
    return run_families.references_of(uids, views[0].run.project_id) if uids else {}


def _differs(views: list[RunView], scope: str, name: str) -> bool:
    if scope == "value":
        return True
    values_of_key = [view.doc.labels if scope == "label" else view.doc.params for view in views]
    present = [name in values for values in values_of_key]
    if not all(present):
        return any(present)
    return any(not same(values_of_key[0][name], values[name]) for values in values_of_key)


def _write_cursor(offset: int) -> str:
    return base64.urlsafe_b64encode(f"after:{offset}".encode()).decode().rstrip("=")


def _read_cursor(cursor: str | None) -> int:
    if not cursor:
        return 0
    try:
        word, _, offset = base64.urlsafe_b64decode(cursor + "=" * (-len(cursor) % 4)).decode().partition(":")
        if word == "after" and 0 <= int(offset) < LAST_ROW:
            return int(offset)
    except ValueError:
        pass
    raise InvalidInput("This cursor was not given out here; begin without one.", field="cursor")
