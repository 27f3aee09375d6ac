"""Columns of many runs, read off the index: what stands for each key, and fields of the runs' rows."""

from __future__ import annotations

import json
import math
from collections.abc import Sequence
from typing import Any

from kinetrum.core.base.values import Value, from_json
from kinetrum.core.query.settled import Field, Key, Source
from kinetrum.storage.db.database import places, query
from kinetrum.storage.search.run_catalogue import RunCatalogue
from kinetrum.storage.search.run_facets import plain_number

_AT_ONCE = 5_000
_FIELDS = {
    "number": "r.number",
    "name": "r.name",
    "status": "r.status",
    "host": "NULLIF(r.host, '')",
    "started": "UNIX_TIMESTAMP(r.started_at) * 1e6",
    "ended": "UNIX_TIMESTAMP(r.ended_at) * 1e6",
    "duration": "TIMESTAMPDIFF(MICROSECOND, r.started_at, r.ended_at) / 1e6",
    "author": "(SELECT a.name FROM person a WHERE a.person_id = r.author_id)",
    "experiment": "(SELECT e.name FROM experiment e WHERE e.experiment_id = r.experiment_id)",
}
DRAWN_FIELDS = (*_FIELDS, "commit", "code", "replicates")


def column_of(catalogue: RunCatalogue, source: Source, run_ids: Sequence[int]) -> dict[int, Value]:
    """Return a column by run id; runs that lack it are missing, texts too long for the index read as an ellipsis.

    Times are microseconds since 1970, durations seconds.
    """
    found: dict[int, Value] = {}
    for start in range(0, len(run_ids), _AT_ONCE):
        part = run_ids[start : start + _AT_ONCE]
        if isinstance(source, Field) and source.name in _FIELDS:
            found |= _of_rows(_FIELDS[source.name], part)
        else:
            key = Key("field", source.name) if isinstance(source, Field) else source
            for place in catalogue.index_places(key):
                found |= _of_index(place.key_id, part, found)
    return found


def _of_rows(expression: str, run_ids: Sequence[int]) -> dict[int, Value]:
    rows = query(f"SELECT r.run_id, {expression} FROM run r WHERE r.run_id IN {places(list(run_ids))}", *run_ids)
    return {run_id: _plain(value) for run_id, value in rows if value is not None}


def _plain(value: Any) -> Value:
    return value if isinstance(value, str | int) else float(value)


def _of_index(key_id: int, run_ids: Sequence[int], known: dict[int, Value]) -> dict[int, Value]:
    found: dict[int, Value] = {}
    for table, column in (("value_num", "num"), ("value_text", "text")):
        rows = query(
            f"SELECT v.run_id, v.{column} FROM {table} v JOIN run r ON r.run_id = v.run_id"
            f" WHERE v.key_id = %s AND v.experiment_id = r.experiment_id AND v.run_id IN {places(list(run_ids))}",
            key_id,
            *run_ids,
        )
        for run_id, value in rows:
            if run_id not in known:
                found[run_id] = plain_number(value) if column == "num" else _text(value)
    return found


def _text(text: str) -> Value:
    if text == "\x01NaN":
        return math.nan
    if text.startswith("\x01"):
        return from_json(json.loads(text[1:])) if text[1:] not in {"Infinity", "-Infinity"} else float(text[1:])
    return "…" if text.startswith(("\x02", "\x03")) else text
