"""Which runs repeat one another, and how much such runs vary: read off the index."""

from __future__ import annotations

from peewee import SQL, Expression, Select, fn

from kinetrum.storage.db.database import database
from kinetrum.storage.runs.run_index import key_ids
from kinetrum.storage.tables.runs import RunRow
from kinetrum.storage.tables.search import NumberValue, TextValue

# Beyond so many runs the spread of all groups is not added up for a hint.
_RUNS_LIMIT = 20_000


def finished_with_marks(project_id: int, experiment_id: int, marks: list[str], limit: int) -> dict[str, list[int]]:
    """Return ids of finished runs of an experiment by the mark that they share, at most `limit` of each."""
    mark_key = key_ids(project_id, [("field", "", "replicates")]).get(("field", "", "replicates"))
    if mark_key is None or not marks:
        return {}
    place = fn.ROW_NUMBER().over(partition_by=[TextValue.text], order_by=[RunRow.run_id])
    numbered = (
        TextValue.select(TextValue.text, RunRow.run_id, place.alias("place"))
        .join(RunRow, on=RunRow.run_id == TextValue.run_id)
        .where(
            TextValue.key_id == mark_key,
            TextValue.experiment_id == experiment_id,
            TextValue.text.in_(marks),
            _is_finished(),
        )
        .alias("numbered")
    )
    rows = Select([numbered], [numbered.c.text, numbered.c.run_id]).where(numbered.c.place <= limit)
    groups: dict[str, list[int]] = {}
    for mark, run_id in rows.bind(database).tuples():
        groups.setdefault(mark, []).append(run_id)
    return groups


def _is_finished() -> Expression:
    return (RunRow.status == "finished") & RunRow.binned_at.is_null()


def pooled_deviations(project_id: int, experiment_id: int, keys: list[str]) -> dict[str, float]:
    """Return by key the standard deviation that groups of replicates of an experiment share; nothing for large ones."""
    ids = key_ids(project_id, [("field", "", "replicates"), *(("value", "shown", key) for key in keys)])
    mark = ids.pop(("field", "", "replicates"), None)
    # Counted no further than to the limit.
    runs = RunRow.select(RunRow.run_id).where(RunRow.experiment_id == experiment_id).limit(_RUNS_LIMIT + 1).count()
    if mark is None or not ids or runs > _RUNS_LIMIT:
        return {}
    runs_in_group = fn.COUNT(SQL("*"))
    groups = (
        TextValue.select(
            NumberValue.key_id, runs_in_group.alias("runs"), fn.VAR_SAMP(NumberValue.num).alias("variance")
        )
        .join(RunRow, on=(RunRow.run_id == TextValue.run_id) & _is_finished())
        .join(
            NumberValue,
            on=(NumberValue.experiment_id == TextValue.experiment_id) & (NumberValue.run_id == TextValue.run_id),
            src=TextValue,
        )
        .where(
            TextValue.key_id == mark,
            TextValue.experiment_id == experiment_id,
            NumberValue.key_id.in_(list(ids.values())),
        )
        .group_by(TextValue.text, NumberValue.key_id)
        .having(runs_in_group > 1)
        .alias("of_group")
    )
    freedom = groups.c.runs - 1
    deviation = fn.SQRT(fn.SUM(freedom * groups.c.variance) / fn.SUM(freedom))
    rows = Select([groups], [groups.c.key_id, deviation]).group_by(groups.c.key_id).bind(database)
    names = {key_id: name for (_, _, name), key_id in ids.items()}
    return {names[key_id]: float(pooled) for key_id, pooled in rows.tuples() if pooled is not None}
