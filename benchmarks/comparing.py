"""A hundred runs of 71 keys compared, against reading the same numbers by plain SQL; columns of 2,000 runs for a chart."""

from __future__ import annotations

import time

from benchmarks.measuring import Ratio, in_turn, ratio
from benchmarks.run_table import PARAMS, RESULTS, make_runs
from kinetrum.client.transport.http import Service
from kinetrum.storage.db.database import query, snapshot

PAIRS, RUNS, LINES = 11, 100, 2_000
EXPERIMENT = "compared"


@snapshot
def _by_sql(runs: list[int], keys: int) -> float:
    started = time.perf_counter()
    places = ", ".join(["%s"] * len(runs))
    found = query(
        "SELECT k.name, v.run_id, v.num FROM value_num v JOIN run r USING (run_id, experiment_id)"
        " JOIN experiment e USING (experiment_id) JOIN key_name k ON k.key_id = v.key_id"
        " WHERE v.key_id IN (SELECT key_id FROM experiment_key x JOIN experiment y USING (experiment_id) WHERE y.name = %s)"
        f" AND e.name = %s AND r.number IN ({places})",
        EXPERIMENT,
        EXPERIMENT,
        *runs,
    )
    taken = time.perf_counter() - started
    assert len(found) == len(runs) * keys
    return taken


@snapshot
def _column_by_sql(keys: list[str]) -> float:
    started = time.perf_counter()
    places = ", ".join(["%s"] * len(keys))
    found = query(
        "SELECT k.name, v.run_id, v.num FROM value_num v JOIN experiment e USING (experiment_id)"
        f" JOIN key_name k ON k.key_id = v.key_id WHERE e.name = %s AND k.name IN ({places})",
        EXPERIMENT,
        *keys,
    )
    taken = time.perf_counter() - started
    assert len(found) == LINES * len(keys)
    return taken


def comparing(url: str, token: str) -> list[Ratio]:
    """Compare both over HTTP, the whole answer read, in turn with the plain reading."""
    make_runs(EXPERIMENT, LINES)
    service = Service(url, token)
    runs = list(range(1, RUNS + 1))
    references = [f"{EXPERIMENT}/{number}" for number in runs]
    keys = [f"param-{n}" for n in range(5)] + [f"result-{n}" for n in range(3)]

    def compare() -> float:
        started = time.perf_counter()
        found = service.get("/projects/main/comparison", run=references)
        assert len(found["runs"]) == RUNS
        return time.perf_counter() - started

    def columns() -> float:
        started = time.perf_counter()
        found = service.get(f"/projects/main/experiments/{EXPERIMENT}/columns", column=keys)
        assert len(found["runs"]) == LINES
        return time.perf_counter() - started

    left, right = in_turn(compare, lambda: _by_sql(runs, PARAMS + RESULTS), PAIRS)
    rows = [ratio("compare 100 runs of 71 keys", "≤ 3x", left, right, "comparison over HTTP", "plain SQL", 1e3, "ms")]
    left, right = in_turn(columns, lambda: _column_by_sql(keys), PAIRS)
    rows.append(
        ratio(
            "8 axes of 2,000 runs for parallel coordinates",
            "none stated",
            left,
            right,
            "columns over HTTP",
            "plain SQL",
            1e3,
            "ms",
        )
    )
    return rows
