"""Grouping: runs that fit a query by what they have in one column, as mean and spread."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from kinetrum.actions.context import Actor
from kinetrum.actions.runs.readers import PAGE_LIMIT, RunView, views_of
from kinetrum.actions.search.cells import heading, read_columns
from kinetrum.actions.search.run_table import LAST_ROW, Table, TableQuery, table_of
from kinetrum.core.base.errors import InvalidInput
from kinetrum.core.base.goals import Goal
from kinetrum.core.base.ids import id_text
from kinetrum.core.base.values import Value
from kinetrum.core.query.settled import Field, Key, Source
from kinetrum.core.query.writing import both, in_python, in_shell, written_test
from kinetrum.storage.db.database import snapshot
from kinetrum.storage.runs import run_index, runs
from kinetrum.storage.search.run_catalogue import RunCatalogue
from kinetrum.storage.search.run_groups import GROUPED_FIELDS, RunGroup, RunGroups
from kinetrum.storage.search.run_search import COUNT_CAP

COLUMNS_LIMIT = 60
# A query has an end; fronts of two or three goals are hardly ever so long.
_NUMBERED_LIMIT = 500


@dataclass(frozen=True)
class GroupView:
    """A group with its latest run; `query` finds its runs."""

    group: RunGroup
    value: Value
    last: RunView
    query: str


@dataclass(frozen=True)
class GroupPage:
    """One page of groups; `columns` are what was added up, `remarks` tell how names were understood."""

    by: Source
    groups: list[GroupView]
    columns: list[tuple[str, Key]]
    goals: list[Goal]
    count: int
    count_is_capped: bool
    more: bool
    remarks: list[str]
    python: str
    shell: str


@snapshot
def list_groups(actor: Actor, project: str, experiment: str | None, by_text: str, query: TableQuery) -> GroupPage:
    """Return one page of groups by a column, or by `replicates`.

    Sorted by a key, groups stand in the order of its mean (better first by its goal), else the latest run's first.
    Every number that runs of a group have in a column is added up; where all have the same value it is shared.
    Raises InvalidInput for a column that runs are not grouped by.
    """
    offset, limit = query.start(), min(query.limit, PAGE_LIMIT)
    table = table_of(actor, project, experiment, query.query, query.sort, pareto=query.pareto)
    by = _read_by(by_text, table.search.catalogue)
    columns = _columns(query.columns, table, by)
    grouping = RunGroups(table.search, by)
    rows_of_groups, count = grouping.page(table.sort[0], offset, limit + 1)
    groups = rows_of_groups[:limit]
    grouping.add_up(groups, [key for _, key in columns])
    last = {view.run.run_id: view for view in views_of(runs.runs_by_ids([group.last_run_id for group in groups]))}
    named = by_text.strip()
    # A front of fewer runs is another front: what stands under a line is named by the runs themselves.
    inside = query.query if not query.pareto or experiment is None else both(query.query, _numbered(table))
    return GroupPage(
        by,
        [_view(by, group, last[group.last_run_id], inside) for group in groups],
        columns,
        list(table.goals.values()),
        min(count, COUNT_CAP),
        count > COUNT_CAP,
        len(rows_of_groups) > limit and offset + limit < LAST_ROW,
        table.remarks,
        in_python(project, experiment, query.query, query.columns, query.sort, named),
        in_shell(project, experiment, query.query, query.columns, query.sort, named),
    )


def _numbered(table: Table) -> str:
    run_rows = runs.runs_by_ids(table.search.page(table.sort, 0, _NUMBERED_LIMIT))
    return f"number in {{{', '.join(str(run.number) for run in run_rows)}}}"


def _read_by(text: str, catalogue: RunCatalogue) -> Source:
    (by,) = read_columns([text], catalogue)
    if isinstance(by, Field) and by.name not in GROUPED_FIELDS:
        raise InvalidInput(f"Runs are not grouped by {by.name}; by {', '.join(GROUPED_FIELDS)} they are.", field="by")
    if isinstance(by, Key) and by.aggregate != "shown":
        raise InvalidInput(f"Runs are grouped by what stands for a key, not by {text}.", field="by")
    return by


def _columns(texts: Sequence[str], table: Table, by: Source) -> list[tuple[str, Key]]:
    """Return what is added up: the keys named, else values with goals first, settings, other values."""
    if texts:
        read = list(zip(texts, read_columns(list(texts), table.search.catalogue), strict=True))
    else:
        goals = list(table.goals)
        known = run_index.keys_of_experiments(table.searched.ids)
        known.sort(key=lambda each: goals.index(each[1]) if each[1] in goals and each[0] == "value" else len(goals))
        keys = [Key(scope, name) for scope, name in known]
        read = [(heading(key), key) for key in keys]
    return [(text, key) for text, key in read if isinstance(key, Key) and key != by][:COLUMNS_LIMIT]


def _view(by: Source, group: RunGroup, last: RunView, query: str) -> GroupView:
    value = group.value
    if isinstance(by, Field) and by.name == "parent" and isinstance(value, str):
        value = id_text(bytes.fromhex(value))
    return GroupView(group, value, last, both(query, written_test(by, value, group.present)))
