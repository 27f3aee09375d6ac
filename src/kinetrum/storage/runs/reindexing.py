"""Bringing the index up to date: of one key after its goal changed, of every run where a version indexes more.

The aggregates last, min and max of every metric are indexed beside the shown value, so for most goals the
new shown values are copied inside the database; first, mean and count are read from the documents.
"""

from __future__ import annotations

import json
from collections.abc import Iterator
from typing import Any

from peewee import SQL, Field, ModelSelect, Value, fn

from kinetrum.core.base.goals import Goal
from kinetrum.core.base.run_document import pack, unpack_doc
from kinetrum.storage.db.database import lock_rows, named_rows
from kinetrum.storage.runs.run_index import intern_keys, key_ids, save_described, save_index
from kinetrum.storage.runs.runs import run_by_id
from kinetrum.storage.tables.people import Experiment
from kinetrum.storage.tables.runs import ResultRecord, RunDocument, RunRow, Series
from kinetrum.storage.tables.search import NumberValue, TextValue

_AT_ONCE = 500
# Nobody who records to one of them waits for long.
_MARKED_AT_ONCE = 100


def reindex(project_id: int, experiment_id: int, key: str, goal: Goal | None, goals: dict[str, Goal]) -> None:
    """Write the shown value of a metric anew for every run of the experiment; runs with a result keep that."""
    source = _indexed_as(goal)
    if source is None:
        _from_documents(experiment_id, key, goals)
        return
    wanted = [("value", "shown", key), ("value", source, key)]
    if wanted[1] not in key_ids(project_id, wanted):
        return
    ids = intern_keys(project_id, wanted)
    shown, origin = ids[wanted[0]], ids[wanted[1]]
    _copy_values(NumberValue, NumberValue.num, origin, shown, experiment_id, key)
    _copy_values(TextValue, TextValue.text, origin, shown, experiment_id, key)


def _copy_values(
    table: type[NumberValue] | type[TextValue],
    value: Field[Any],
    origin: int,
    shown: int,
    experiment_id: int,
    name: str,
) -> None:
    """Put the values of one key in the place of another's, but for runs with a result of that name."""
    result = ResultRecord.select(SQL("1")).where(ResultRecord.run_id == table.run_id, ResultRecord.name == name)
    within = (table.experiment_id == experiment_id) & ~fn.EXISTS(result)
    table.delete().where(table.key_id == shown, within).execute()
    values = table.select(Value(shown), table.experiment_id, table.run_id, value).where(table.key_id == origin, within)
    table.insert_from(values, [table.key_id, table.experiment_id, table.run_id, value]).execute()


def _indexed_as(goal: Goal | None) -> str | None:
    """Return the indexed aggregate that the shown value equals, None where none does."""
    if goal is None:
        return "last"
    if goal.aggregate == "best":
        return "max" if goal.higher else "min"
    return goal.aggregate if goal.aggregate in {"last", "min", "max"} else None


def _from_documents(experiment_id: int, key: str, goals: dict[str, Goal]) -> None:
    after = 0
    while True:
        rows = named_rows(
            _documents(experiment_id, after)
            .join(Series, on=(Series.run_id == RunRow.run_id) & (Series.name == key), src=RunRow)
            .limit(_AT_ONCE)
        )
        if not rows:
            return
        for row in rows:
            save_index(run_by_id(row.run_id), unpack_doc(row.doc), goals, values=[key])
        after = rows[-1].run_id


def _documents(experiment_id: int, after: int) -> ModelSelect[RunRow]:
    return (
        RunRow.select(RunDocument.run_id, RunDocument.doc)
        .join(RunDocument, on=RunDocument.run_id == RunRow.run_id)
        .where(RunRow.experiment_id == experiment_id, RunRow.run_id > after)
        .order_by(RunRow.run_id)
    )


def mark_some(experiment_id: int) -> bool:
    """Write into the next runs of an experiment in which parameters replicates differ; tells whether there were any.

    Where its seeds change once more meanwhile, marking begins anew.
    """
    experiment = Experiment.get_by_id(experiment_id)
    names, after = experiment.seeds, experiment.marked_to
    if after is None:
        return False
    seeds = tuple(json.loads(names))
    rows = lock_rows(_documents(experiment_id, after).limit(_MARKED_AT_ONCE))
    for row in rows:
        doc = unpack_doc(row.doc)
        if doc.seeds != seeds:
            before, doc.seeds = doc.described(), seeds
            RunDocument.update(doc=pack(doc)).where(RunDocument.run_id == row.run_id).execute()
            save_described(run_by_id(row.run_id), before, doc.described())
    marked = Experiment.update(marked_to=rows[-1].run_id if rows else None)
    marked.where(
        Experiment.experiment_id == experiment_id, Experiment.marked_to == after, Experiment.seeds == names
    ).execute()
    return True


def describe_every_run() -> Iterator[int]:
    """Index labels, commit and problems of every run; yields after each part how many runs it had."""
    after = 0
    while True:
        documents = RunDocument.select().where(RunDocument.run_id > after).order_by(RunDocument.run_id)
        rows = named_rows(documents.limit(_AT_ONCE))
        if not rows:
            return
        for row in rows:
            described = unpack_doc(row.doc).described()
            if described:
                save_described(run_by_id(row.run_id), {}, described)
        after = rows[-1].run_id
        yield len(rows)
