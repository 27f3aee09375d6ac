"""The index of runs: what tables filter and sort by, one row per run and key.

A key is (scope, aggregate, name): a parameter, a label, a field (commit, problem), or of a metric or result the shown
value, `last`, `min` or `max`.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import Protocol

from kinetrum.core.base.goals import Goal
from kinetrum.core.base.run_document import RunDoc
from kinetrum.core.base.values import Value
from kinetrum.core.query.indexing import index_forms
from kinetrum.storage.db.database import execute, insert_many, places, query


class IndexedRun(Protocol):
    """What the index needs to know of a run."""

    @property
    def run_id(self) -> int: ...  # noqa: D102
    @property
    def experiment_id(self) -> int: ...  # noqa: D102
    @property
    def project_id(self) -> int: ...  # noqa: D102


def save_index(
    run: IndexedRun, doc: RunDoc, goals: dict[str, Goal], params: Iterable[str] = (), values: Iterable[str] = ()
) -> None:
    """Bring the index rows of the named parameters and values up to date with a document."""
    index: dict[tuple[str, str, str], Value] = {("param", "", key): doc.params[key] for key in params}
    for key in values:
        index.update({("value", aggregate, key): value for aggregate, value in doc.index_values(key, goals).items()})
    _write_index(run, index)


def save_described(run: IndexedRun, before: dict[tuple[str, str], str], after: dict[tuple[str, str], str]) -> None:
    """Bring the index rows of labels, commit and problems up to date."""
    changed: dict[tuple[str, str, str], Value] = {
        (scope, "", name): text for (scope, name), text in after.items() if before.get((scope, name)) != text
    }
    _write_index(run, changed)
    _remove(run, [(scope, "", name) for scope, name in before if (scope, name) not in after])


def _remove(run: IndexedRun, keys: list[tuple[str, str, str]]) -> None:
    for key_id in sorted(key_ids(run.project_id, keys).values()):
        for table in ("value_num", "value_text"):
            execute(
                f"DELETE FROM {table} WHERE key_id = %s AND experiment_id = %s AND run_id = %s",
                key_id,
                run.experiment_id,
                run.run_id,
            )


def _write_index(run: IndexedRun, index: dict[tuple[str, str, str], Value]) -> None:
    if not index:
        return
    ids = intern_keys(run.project_id, list(index))
    numbers, texts, no_number, no_text = [], [], [], []
    for key, value in index.items():
        number, text = index_forms(value)
        key_id = ids[key]
        if number is None:
            no_number.append(key_id)
        else:
            numbers.append((key_id, run.experiment_id, run.run_id, number))
        if text is None:
            no_text.append(key_id)
        else:
            texts.append((key_id, run.experiment_id, run.run_id, text))
    insert_many(
        "INSERT INTO value_num (key_id, experiment_id, run_id, num)",
        sorted(numbers),
        "ON DUPLICATE KEY UPDATE num = VALUES(num)",
    )
    insert_many(
        "INSERT INTO value_text (key_id, experiment_id, run_id, text)",
        sorted(texts),
        "ON DUPLICATE KEY UPDATE text = VALUES(text)",
    )
    for table, key_ids_gone in (("value_num", no_number), ("value_text", no_text)):
        for key_id in _present(table, run, sorted(key_ids_gone)):
            execute(
                f"DELETE FROM {table} WHERE key_id = %s AND experiment_id = %s AND run_id = %s",
                key_id,
                run.experiment_id,
                run.run_id,
            )
    insert_many(
        "INSERT IGNORE INTO experiment_key (experiment_id, key_id)",
        sorted((run.experiment_id, key_id) for key_id in _unlisted(run.experiment_id, list(ids.values()))),
    )


def _present(table: str, run: IndexedRun, ids: list[int]) -> list[int]:
    if not ids:
        return []
    return [
        key_id
        for (key_id,) in query(
            f"SELECT key_id FROM {table} WHERE key_id IN {places(ids)} AND experiment_id = %s AND run_id = %s",
            *ids,
            run.experiment_id,
            run.run_id,
        )
    ]


def _unlisted(experiment_id: int, ids: list[int]) -> set[int]:
    rows = query(
        f"SELECT key_id FROM experiment_key WHERE experiment_id = %s AND key_id IN {places(ids)}",
        experiment_id,
        *ids,
    )
    return set(ids) - {key_id for (key_id,) in rows}


def key_ids(project_id: int, keys: list[tuple[str, str, str]]) -> dict[tuple[str, str, str], int]:
    """Return the ids of (scope, aggregate, name) that exist."""
    if not keys:
        return {}
    found: dict[tuple[str, str, str], int] = {}
    names = sorted({name for _, _, name in keys})
    for start in range(0, len(names), 500):
        part = names[start : start + 500]
        rows = query(
            "SELECT scope, aggregate, name, key_id FROM key_name WHERE project_id = %s"
            f" AND scope IN ('param', 'value', 'label', 'field') AND aggregate IN ('', 'shown', 'last', 'min', 'max')"
            f" AND name IN {places(part)}",
            project_id,
            *part,
        )
        found.update({(scope, aggregate, name): key_id for scope, aggregate, name, key_id in rows})
    return {key: found[key] for key in keys if key in found}


def intern_keys(project_id: int, keys: list[tuple[str, str, str]]) -> dict[tuple[str, str, str], int]:
    """Return ids for all keys, making those that are missing (selected first: inserts would take gap locks)."""
    found = key_ids(project_id, keys)
    missing = sorted(set(keys) - set(found))
    if missing:
        insert_many(
            "INSERT IGNORE INTO key_name (project_id, scope, aggregate, name)",
            [(project_id, *key) for key in missing],
        )
        found.update(key_ids(project_id, missing))
    return found


def keys_of_experiments(experiment_ids: list[int]) -> list[tuple[str, str]]:
    """Return (scope, name) of the parameters, values and labels that runs of these experiments have."""
    if not experiment_ids:
        return []
    return [
        (scope, name)
        for scope, name in query(
            "SELECT k.scope, k.name FROM experiment_key x JOIN key_name k USING (key_id)"
            f" WHERE x.experiment_id IN {places(experiment_ids)} AND k.scope <> 'field'"
            " AND k.aggregate IN ('', 'shown') GROUP BY k.key_id ORDER BY k.scope, k.key_id",
            *experiment_ids,
        )
    ]
