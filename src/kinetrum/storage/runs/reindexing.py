"""Bringing the index up to date: of one key after its goal changed, of every run where a version indexes more.

The aggregates last, min and max of every metric are indexed beside the shown value, so for most goals the
new shown values are copied inside the database; first, mean and count are read from the documents.
"""

from __future__ import annotations

import json
from collections.abc import Iterator

from kinetrum.core.base.goals import Goal
from kinetrum.core.base.run_document import pack, unpack_doc
from kinetrum.storage.db.database import execute, query
from kinetrum.storage.runs.run_index import intern_keys, key_ids, save_described, save_index
from kinetrum.storage.runs.runs import run_by_id

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
    no_result = " AND NOT EXISTS (SELECT 1 FROM result_record o WHERE o.run_id = v.run_id AND o.name = %s)"
    for table, column in (("value_num", "num"), ("value_text", "text")):
        execute(
            f"DELETE v FROM {table} v WHERE v.key_id = %s AND v.experiment_id = %s{no_result}",
            shown,
            experiment_id,
            key,
        )
        execute(
            f"INSERT INTO {table} (key_id, experiment_id, run_id, {column})"
            f" SELECT %s, v.experiment_id, v.run_id, v.{column} FROM {table} v"
            f" WHERE v.key_id = %s AND v.experiment_id = %s{no_result}",
            shown,
            origin,
            experiment_id,
            key,
        )


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
        rows = query(
            "SELECT d.run_id, d.doc FROM run r JOIN run_doc d USING (run_id) JOIN series s ON s.run_id = r.run_id"
            " AND s.name = %s WHERE r.experiment_id = %s AND r.run_id > %s ORDER BY r.run_id LIMIT %s",
            key,
            experiment_id,
            after,
            _AT_ONCE,
        )
        if not rows:
            return
        for run_id, raw in rows:
            save_index(run_by_id(run_id), unpack_doc(raw), goals, values=[key])
        after = rows[-1][0]


def mark_some(experiment_id: int) -> bool:
    """Write into the next runs of an experiment in which parameters replicates differ; tells whether there were any.

    Where its seeds change once more meanwhile, marking begins anew.
    """
    ((names, after),) = query("SELECT seeds, marked_to FROM experiment WHERE experiment_id = %s", experiment_id)
    if after is None:
        return False
    seeds = tuple(json.loads(names))
    rows = query(
        "SELECT d.run_id, d.doc FROM run r JOIN run_doc d USING (run_id) WHERE r.experiment_id = %s"
        " AND r.run_id > %s ORDER BY r.run_id LIMIT %s FOR UPDATE",
        experiment_id,
        after,
        _MARKED_AT_ONCE,
    )
    for run_id, raw in rows:
        doc = unpack_doc(raw)
        if doc.seeds != seeds:
            before, doc.seeds = doc.described(), seeds
            execute("UPDATE run_doc SET doc = %s WHERE run_id = %s", pack(doc), run_id)
            save_described(run_by_id(run_id), before, doc.described())
    execute(
        "UPDATE experiment SET marked_to = %s WHERE experiment_id = %s AND marked_to = %s AND seeds = %s",
        rows[-1][0] if rows else None,
        experiment_id,
        after,
        names,
    )
    return True


def describe_every_run() -> Iterator[int]:
    """Index labels, commit and problems of every run; yields after each part how many runs it had."""
    after = 0
    while True:
        rows = query("SELECT run_id, doc FROM run_doc WHERE run_id > %s ORDER BY run_id LIMIT %s", after, _AT_ONCE)
        if not rows:
            return
        for run_id, raw in rows:
            described = unpack_doc(raw).described()
            if described:
                save_described(run_by_id(run_id), {}, described)
        after = rows[-1][0]
        yield len(rows)
