"""Columns of many runs for charts: exactly the runs of the table, up to a bound that says itself."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from kinetrum.actions.context import Actor
from kinetrum.actions.search.cells import read_columns
from kinetrum.actions.search.run_table import table_of
from kinetrum.core.base.errors import InvalidInput
from kinetrum.core.base.goals import Goal
from kinetrum.core.base.values import Value
from kinetrum.core.query.settled import Field, Source
from kinetrum.storage.db.database import snapshot
from kinetrum.storage.runs import runs
from kinetrum.storage.runs.runs import Run
from kinetrum.storage.search.run_values import DRAWN_FIELDS, column_of

DRAWN_LIMIT, COLUMNS_LIMIT = 2_000, 40


@dataclass(frozen=True)
class DrawnColumn:
    """What a column means, its goal, and its values in the order of the runs; absent ones are None."""

    text: str
    source: Source
    goal: Goal | None
    values: list[Value]


@snapshot
def read_drawn(
    actor: Actor, project: str, experiment: str, query_text: str, sort_text: str, columns: Sequence[str], pareto: str
) -> tuple[list[Run], list[DrawnColumn], int]:
    """Return the runs that fit in the table's order, columns over them, and how many runs are beyond the bound."""
    if len(columns) > COLUMNS_LIMIT:
        raise InvalidInput(f"{len(columns)} columns; at most {COLUMNS_LIMIT} are drawn.", field="column")
    table = table_of(actor, project, experiment, query_text, sort_text, pareto=pareto)
    sources = read_columns(list(columns), table.search.catalogue)
    for source in sources:
        if isinstance(source, Field) and source.name not in DRAWN_FIELDS:
            raise InvalidInput(
                f"{source.name} cannot be drawn. Choose one of: {', '.join(DRAWN_FIELDS)}.", field="column"
            )
    ids = table.search.page(table.sort, 0, DRAWN_LIMIT)
    count = table.search.count() if len(ids) == DRAWN_LIMIT else len(ids)
    drawn = []
    for text, source in zip(columns, sources, strict=True):
        values = column_of(table.search.catalogue, source, ids)
        drawn.append(DrawnColumn(text, source, table.goals.get(source.name), [values.get(run_id) for run_id in ids]))
    return runs.runs_by_ids(ids), drawn, max(0, count - len(ids))
