"""Which runs repeat one another, and how much such runs vary: read off the index."""

from __future__ import annotations

from kinetrum.storage.db.database import places, query
from kinetrum.storage.runs.run_index import key_ids

# Beyond so many runs the spread of all groups is not added up for a hint.
_RUNS_LIMIT = 20_000


def finished_with_marks(project_id: int, experiment_id: int, marks: list[str], limit: int) -> dict[str, list[int]]:
    """Return ids of finished runs of an experiment by the mark that they share, at most `limit` of each."""
    found = key_ids(project_id, [("field", "", "replicates")])
    if not found or not marks:
        return {}
    rows = query(
        "SELECT text, run_id FROM (SELECT v.text, r.run_id, ROW_NUMBER() OVER (PARTITION BY v.text ORDER BY r.run_id) n"
        " FROM value_text v JOIN run r ON r.run_id = v.run_id WHERE v.key_id = %s AND v.experiment_id = %s"
        f" AND v.text IN {places(marks)} AND r.status = 'finished' AND r.binned_at IS NULL) numbered WHERE n <= %s",
        next(iter(found.values())),
        experiment_id,
        *marks,
        limit,
    )
    groups: dict[str, list[int]] = {}
    for mark, run_id in rows:
        groups.setdefault(mark, []).append(run_id)
    return groups


def pooled_deviations(project_id: int, experiment_id: int, keys: list[str]) -> dict[str, float]:
    """Return by key the standard deviation that groups of replicates of an experiment share; nothing for large ones."""
    found = key_ids(project_id, [("field", "", "replicates"), *(("value", "shown", key) for key in keys)])
    mark = found.pop(("field", "", "replicates"), None)
    ((runs,),) = query(
        "SELECT COUNT(*) FROM (SELECT 1 FROM run WHERE experiment_id = %s LIMIT %s) counted",
        experiment_id,
        _RUNS_LIMIT + 1,
    )
    if mark is None or not found or runs > _RUNS_LIMIT:
        return {}
    rows = query(
        "SELECT key_id, SQRT(SUM((n - 1) * spread) / SUM(n - 1)) FROM ("
        "SELECT c.key_id, COUNT(*) n, VAR_SAMP(c.num) spread FROM value_text v JOIN run r ON r.run_id = v.run_id"
        " AND r.status = 'finished' AND r.binned_at IS NULL"
        " JOIN value_num c ON c.experiment_id = v.experiment_id AND c.run_id = v.run_id"
        f" WHERE v.key_id = %s AND v.experiment_id = %s AND c.key_id IN {places(list(found))}"
        " GROUP BY v.text, c.key_id HAVING n > 1) grouped GROUP BY key_id",
        mark,
        experiment_id,
        *found.values(),
    )
    names = {key_id: name for (_, _, name), key_id in found.items()}
    return {names[key_id]: float(deviation) for key_id, deviation in rows if deviation is not None}
