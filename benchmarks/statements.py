"""Statements that stand as text for their speed, against the same ones by the query builder; processor time, end to end."""

from __future__ import annotations

import random
import secrets
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from typing import Any

import numpy as np

from benchmarks.measuring import Ratio, in_turn, ratio
from kinetrum.core.points.codec import Group, encode_batch
from kinetrum.storage.db.clock import now
from kinetrum.storage.db.database import insert_rows, named_rows, transaction
from kinetrum.storage.people import people, projects
from kinetrum.storage.runs import points, run_documents, runs, statements
from kinetrum.storage.tables.runs import PointChunk
from kinetrum.storage.tables.search import ExperimentKey, KeyName, NumberValue, TextValue

SETTINGS, SERIES, ROUNDS = 70, 100, 40


def _save_numbers(rows: Sequence[tuple[int, int, int, float]]) -> None:
    fields = [NumberValue.key_id, NumberValue.experiment_id, NumberValue.run_id, NumberValue.num]
    insert_rows(NumberValue, fields, sorted(rows), renew=[NumberValue.num])


def _save_texts(rows: Sequence[tuple[int, int, int, str]]) -> None:
    fields = [TextValue.key_id, TextValue.experiment_id, TextValue.run_id, TextValue.text]
    insert_rows(TextValue, fields, sorted(rows), renew=[TextValue.text])


def _ids_of_names(project_id: int, names: Sequence[str]) -> dict[tuple[str, str, str], int]:
    rows = KeyName.select().where(
        KeyName.project_id == project_id,
        KeyName.scope.in_(["param", "value", "label", "field"]),
        KeyName.aggregate.in_(["", "shown", "last", "min", "max"]),
        KeyName.name.in_(list(names)),
    )
    return {(row.scope, row.aggregate, row.name): row.key_id for row in named_rows(rows)}


def _listed_keys(experiment_id: int, key_ids: Sequence[int]) -> set[int]:
    rows = ExperimentKey.select(ExperimentKey.key_id).where(
        ExperimentKey.experiment_id == experiment_id, ExperimentKey.key_id.in_(list(key_ids))
    )
    return {row.key_id for row in named_rows(rows)}


def _present_keys(table: str, run: tuple[int, int], key_ids: Sequence[int]) -> list[int]:
    if not key_ids:
        return []
    of: Any = NumberValue if table == "value_num" else TextValue
    rows = of.select(of.key_id).where(of.key_id.in_(list(key_ids)), of.experiment_id == run[0], of.run_id == run[1])
    return [row.key_id for row in named_rows(rows)]


def _chunks_touched(spans: Mapping[int, tuple[int, int]], full: int) -> list[tuple[int, int, int, bytes]]:
    columns = (PointChunk.series_id, PointChunk.chunk_id, PointChunk.first_step, PointChunk.data)
    touched = []
    for series, (first, last) in spans.items():
        of_series = PointChunk.select(*columns).where(PointChunk.series_id == series)
        touched += list(of_series.where(PointChunk.last_step >= first, PointChunk.first_step <= last).tuples())
        before = PointChunk.select(*columns, PointChunk.n).where(
            PointChunk.series_id == series, PointChunk.last_step < first
        )
        nearest = before.order_by(PointChunk.first_step.desc()).limit(1).tuples()
        touched += [row[:4] for row in nearest if row[4] < full]
    return touched


_BUILT = {
    "save_numbers": _save_numbers,
    "save_texts": _save_texts,
    "ids_of_names": _ids_of_names,
    "listed_keys": _listed_keys,
    "present_keys": _present_keys,
    "chunks_touched": _chunks_touched,
}


@contextmanager
def _by_builder() -> Iterator[None]:
    kept = {name: getattr(statements, name) for name in _BUILT}
    for name, built in _BUILT.items():
        setattr(statements, name, built)
    try:
        yield
    finally:
        for name, text in kept.items():
            setattr(statements, name, text)


def as_text_or_built() -> Iterator[Ratio]:
    """Time a run's settings written to its document and the index, and batches of many series put into chunks."""
    experiment = _experiment()
    yield _compared("70 settings of a run set", lambda: _set_settings(experiment))
    yield _compared(f"a batch of {SERIES} series compacted", lambda: _compact(experiment))


def _experiment() -> projects.ExperimentRow:
    name = f"statements-{secrets.token_hex(4)}"
    person = people.people()[0].person_id
    project_id = transaction(projects.add_project)(name, "", person)
    transaction(projects.add_experiment)(project_id, name, person)
    experiment = projects.experiment_named(project_id, name)
    assert experiment is not None
    return experiment


def _compared(what: str, act: Callable[[], float]) -> Ratio:
    def built() -> float:
        with _by_builder():
            return act()

    left, right = in_turn(act, built, 7)
    return ratio(f"{what}: text / builder, the processor's time", "below 1x", left, right, "text", "builder", 1e3, "ms")


@transaction
def _begin(experiment: projects.ExperimentRow) -> int:
    number = projects.next_run_number(experiment.experiment_id)
    person = people.people()[0].person_id
    return runs.add_run(
        secrets.token_bytes(16), experiment.experiment_id, runs.NewRunRow(number, None, person, "", None, now(), 60)
    )


def _set_settings(experiment: projects.ExperimentRow) -> float:
    began = time.process_time()
    for _ in range(ROUNDS):
        run_id = _begin(experiment)

        @transaction
        def save(run_id: int = run_id) -> None:
            run, doc = runs.lock_run(run_id), run_documents.lock_doc(run_id)
            doc.params |= {f"setting{at}": random.random() for at in range(SETTINGS)}
            run_documents.save_doc(run, doc, {}, params=list(doc.params))

        save()
    return (time.process_time() - began) / ROUNDS


def _compact(experiment: projects.ExperimentRow) -> float:
    run_id, rounds = _begin(experiment), 10
    times = np.arange(20, dtype=np.int64)
    compact = transaction(points.compact)
    spent = 0.0
    for round_ in range(rounds):
        steps = times + 20 * round_
        values = np.random.default_rng(round_).random((SERIES, 20))
        group = Group(tuple(f"metric{at}" for at in range(SERIES)), steps, times, values)
        transaction(points.append_batch)(run_id, secrets.token_bytes(16), encode_batch([group]), 20 * SERIES)
        began = time.process_time()
        compact(run_id)
        spent += time.process_time() - began
    return spent / rounds
