"""Statements of this column that are written as text, each with the reason: what `benchmarks/statements.py` measured.

They run for every batch of points or every change of a run's settings and results, over lists of up to hundreds of
values; the builder makes an object of each value, and took three to five times the processor time of the whole.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Literal

from kinetrum.core.points.aggregates import INDEXED
from kinetrum.storage.db.database import insert_many, places, query

# Kinds of keys of which the index has rows, and aggregates of metrics beside what stands as it is.
_AGGREGATES = ", ".join(f"'{name}'" for name in ("", "shown", *INDEXED))
_KINDS = f"scope IN ('param', 'value', 'label', 'field') AND aggregate IN ({_AGGREGATES})"


def save_numbers(rows: Sequence[tuple[int, int, int, float]]) -> None:
    """Write (key, experiment, run, number) rows of the index; each setting and result of a run is one."""
    head = "INSERT INTO value_num (key_id, experiment_id, run_id, num)"
    insert_many(head, sorted(rows), "ON DUPLICATE KEY UPDATE num = VALUES(num)")


def save_texts(rows: Sequence[tuple[int, int, int, str]]) -> None:
    """Write (key, experiment, run, text) rows of the index; each setting and result of a run is one."""
    head = "INSERT INTO value_text (key_id, experiment_id, run_id, text)"
    insert_many(head, sorted(rows), "ON DUPLICATE KEY UPDATE text = VALUES(text)")


def ids_of_names(project_id: int, names: Sequence[str]) -> dict[tuple[str, str, str], int]:
    """Return ids of keys by (scope, aggregate, name): asked for every key that a run's change writes."""
    rows = query(
        "SELECT scope, aggregate, name, key_id FROM key_name WHERE project_id = %s"
        f" AND {_KINDS} AND name IN {places(list(names))}",
        project_id,
        *names,
    )
    return {(scope, aggregate, name): key_id for scope, aggregate, name, key_id in rows}


def listed_keys(experiment_id: int, key_ids: Sequence[int]) -> set[int]:
    """Return which keys an experiment has: asked for every key that a run's change writes."""
    rows = query(
        f"SELECT key_id FROM experiment_key WHERE experiment_id = %s AND key_id IN {places(list(key_ids))}",
        experiment_id,
        *key_ids,
    )
    return {key_id for (key_id,) in rows}


def present_keys(table: Literal["value_num", "value_text"], run: tuple[int, int], key_ids: Sequence[int]) -> list[int]:
    """Return which keys an (experiment, run) has rows of in a table: asked for every key that a run's change writes."""
    if not key_ids:
        return []
    rows = query(
        f"SELECT key_id FROM {table} WHERE key_id IN {places(list(key_ids))} AND experiment_id = %s AND run_id = %s",
        *key_ids,
        *run,
    )
    return [key_id for (key_id,) in rows]


def chunks_touched(spans: Mapping[int, tuple[int, int]], full: int) -> list[tuple[int, int, int, bytes]]:
    """Return (series, chunk, first step, data) of chunks that overlap a series' first and last step, and of one before.

    Two parts for each series, of up to a hundred at once. The builder nests a union of so many parts as deep. Only the
    nearest chunk before, where it is not `full`: an older one may not be joined over those between.
    """
    parts, values = [], list[int]()
    for series, (first, last) in spans.items():
        parts.append(
            "(SELECT series_id, chunk_id, first_step, data FROM point_chunk WHERE series_id = %s"
            " AND last_step >= %s AND first_step <= %s)"
        )
        values += [series, first, last]
        parts.append(
            "(SELECT series_id, chunk_id, first_step, data FROM (SELECT * FROM point_chunk WHERE series_id = %s"
            " AND last_step < %s ORDER BY first_step DESC LIMIT 1) nearest WHERE n < %s)"
        )
        values += [series, first, full]
    return query(" UNION ALL ".join(parts), *values)
