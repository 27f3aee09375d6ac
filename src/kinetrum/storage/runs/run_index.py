"""The index of runs: what tables filter and sort by, one row per run and key.

A key is (scope, aggregate, name): a parameter, a label, a field (commit, problem), or of a metric or result the shown
value, `last`, `min` or `max`.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any, Literal, Protocol

from peewee import Field

from kinetrum.core.base.goals import Goal
from kinetrum.core.base.run_document import RunDoc
from kinetrum.core.base.values import Value
from kinetrum.core.query.indexing import index_forms
from kinetrum.storage.db.database import insert_rows, named_rows
from kinetrum.storage.runs import statements
from kinetrum.storage.tables.search import ExperimentKey, KeyName, NumberValue, TextValue


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
        for table in (NumberValue, TextValue):
            _delete_value(table, run, key_id)


def _delete_value(table: type[NumberValue] | type[TextValue], run: IndexedRun, key_id: int) -> None:
    at = (table.key_id == key_id) & (table.experiment_id == run.experiment_id) & (table.run_id == run.run_id)
    table.delete().where(at).execute()


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
    statements.save_numbers(numbers)
    statements.save_texts(texts)
    place = run.experiment_id, run.run_id
    for key_id in statements.present_keys("value_num", place, sorted(no_number)):
        _delete_value(NumberValue, run, key_id)
    for key_id in statements.present_keys("value_text", place, sorted(no_text)):
        _delete_value(TextValue, run, key_id)
    unlisted = set(ids.values()) - statements.listed_keys(run.experiment_id, list(ids.values()))
    insert_rows(
        ExperimentKey,
        [ExperimentKey.experiment_id, ExperimentKey.key_id],
        sorted((run.experiment_id, key_id) for key_id in unlisted),
        ignore=True,
    )


def key_ids(project_id: int, keys: list[tuple[str, str, str]]) -> dict[tuple[str, str, str], int]:
    """Return the ids of (scope, aggregate, name) that exist."""
    if not keys:
        return {}
    ids: dict[tuple[str, str, str], int] = {}
    names = sorted({name for _, _, name in keys})
    for start in range(0, len(names), 500):
        part = names[start : start + 500]
        ids.update(statements.ids_of_names(project_id, part))
    return {key: ids[key] for key in keys if key in ids}


def intern_keys(project_id: int, keys: list[tuple[str, str, str]]) -> dict[tuple[str, str, str], int]:
    """Return ids for all keys, making those that are missing (selected first: inserts would take gap locks)."""
    ids = key_ids(project_id, keys)
    missing = sorted(set(keys) - set(ids))
    if missing:
        fields: list[Field[Any]] = [KeyName.project_id, KeyName.scope, KeyName.aggregate, KeyName.name]
        insert_rows(KeyName, fields, [(project_id, *key) for key in missing], ignore=True)
        ids.update(key_ids(project_id, missing))
    return ids


def keys_of_experiments(experiment_ids: list[int]) -> list[tuple[Literal["param", "value", "label"], str]]:
    """Return (scope, name) of the parameters, values and labels that runs of these experiments have."""
    if not experiment_ids:
        return []
    rows = (
        ExperimentKey.select(KeyName.scope, KeyName.name)
        .join(KeyName, on=KeyName.key_id == ExperimentKey.key_id)
        .where(
            ExperimentKey.experiment_id.in_(experiment_ids),
            KeyName.scope != "field",
            KeyName.aggregate.in_(["", "shown"]),
        )
        .group_by(KeyName.key_id)
        .order_by(KeyName.scope, KeyName.key_id)
    )
    return [(row.scope, row.name) for row in named_rows(rows)]
