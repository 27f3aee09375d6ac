"""Every result that runs recorded, also those that a later one of the same key replaced."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

from kinetrum.storage.tables.runs import ResultRecord

_ROWS_AT_ONCE = 500


@dataclass(frozen=True)
class ResultRow:
    """A result as it was recorded; `value` is JSON."""

    uid: bytes
    key: str
    value: str
    recorded_at: datetime


def add_results(run_id: int, results: Sequence[ResultRow]) -> None:
    """Keep results of a run; known ids change nothing."""
    rows = [
        {"run_id": run_id, "uid": one.uid, "name": one.key, "value": one.value, "recorded_at": one.recorded_at}
        for one in results
    ]
    for start in range(0, len(rows), _ROWS_AT_ONCE):
        ResultRecord.insert_many(rows[start : start + _ROWS_AT_ONCE]).on_conflict_ignore().execute()


def results_of(run_id: int) -> list[ResultRow]:
    """Return the results of a run, the earliest first."""
    rows = (
        ResultRecord.select().where(ResultRecord.run_id == run_id).order_by(ResultRecord.recorded_at, ResultRecord.name)
    )
    return [ResultRow(row.uid, row.name, row.value, row.recorded_at) for row in rows]


def known_results(run_id: int, uids: Sequence[bytes]) -> set[bytes]:
    """Return which of some ids a run has results of."""
    if not uids:
        return set()
    rows = ResultRecord.select(ResultRecord.uid).where(
        (ResultRecord.run_id == run_id) & ResultRecord.uid.in_(list(uids))
    )
    return {row.uid for row in rows}
