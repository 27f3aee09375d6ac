"""Columns of many runs, read off the index: what stands for each key, and fields of the runs' rows."""

from __future__ import annotations

import json
import math
from collections.abc import Sequence
from typing import Any

from peewee import SQL, ColumnBase, ModelSelect, fn

from kinetrum.core.base.values import Value, from_json
from kinetrum.core.query.settled import Field, Key, Source
from kinetrum.storage.db.database import named_rows
from kinetrum.storage.search.run_catalogue import RunCatalogue
from kinetrum.storage.search.run_facets import plain_number
from kinetrum.storage.tables.people import Experiment, Person
from kinetrum.storage.tables.runs import RunRow
from kinetrum.storage.tables.search import NumberValue, TextValue

_AT_ONCE = 5_000
_FIELDS: dict[str, ColumnBase | ModelSelect[Any]] = {
    "number": RunRow.number,
    "name": RunRow.name,
    "status": RunRow.status,
    "host": fn.NULLIF(RunRow.host, ""),
    "started": fn.UNIX_TIMESTAMP(RunRow.started_at) * 1e6,
    "ended": fn.UNIX_TIMESTAMP(RunRow.ended_at) * 1e6,
    "duration": fn.TIMESTAMPDIFF(SQL("MICROSECOND"), RunRow.started_at, RunRow.ended_at) / 1e6,
    "author": Person.select(Person.name).where(Person.person_id == RunRow.author_id),
    "experiment": Experiment.select(Experiment.name).where(Experiment.experiment_id == RunRow.experiment_id),
}
DRAWN_FIELDS = (*_FIELDS, "commit", "code", "replicates")


def column_of(catalogue: RunCatalogue, source: Source, run_ids: Sequence[int]) -> dict[int, Value]:
    """Return a column by run id; runs that lack it are missing, texts too long for the index read as an ellipsis.

    Times are microseconds since 1970, durations seconds.
    """
    values: dict[int, Value] = {}
    for start in range(0, len(run_ids), _AT_ONCE):
        part = run_ids[start : start + _AT_ONCE]
        if isinstance(source, Field) and source.name in _FIELDS:
            values |= _of_rows(_FIELDS[source.name], part)
        else:
            key = Key("field", source.name) if isinstance(source, Field) else source
            for place in catalogue.index_places(key):
                values |= _of_index(place.key_id, part, values)
    return values


def _of_rows(expression: ColumnBase | ModelSelect[Any], run_ids: Sequence[int]) -> dict[int, Value]:
    rows = RunRow.select(RunRow.run_id, expression.alias("field")).where(RunRow.run_id.in_(list(run_ids)))
    return {row.run_id: _plain(row.field) for row in named_rows(rows) if row.field is not None}


def _plain(value: Any) -> Value:
    return value if isinstance(value, str | int) else float(value)


def _of_index(key_id: int, run_ids: Sequence[int], known: dict[int, Value]) -> dict[int, Value]:
    values: dict[int, Value] = {}
    for table, column, read in (
        (NumberValue, NumberValue.num, plain_number),
        (TextValue, TextValue.text, _text),
    ):
        rows = (
            table.select(table.run_id, column.alias("value"))
            .join(RunRow, on=RunRow.run_id == table.run_id)
            .where(
                table.key_id == key_id,
                table.experiment_id == RunRow.experiment_id,
                table.run_id.in_(list(run_ids)),
            )
        )
        values |= {row.run_id: read(row.value) for row in named_rows(rows) if row.run_id not in known}
    return values


def _text(text: str) -> Value:
    if text == "\x01NaN":
        return math.nan
    if text.startswith("\x01"):
        return from_json(json.loads(text[1:])) if text[1:] not in {"Infinity", "-Infinity"} else float(text[1:])
    return "…" if text.startswith(("\x02", "\x03")) else text
