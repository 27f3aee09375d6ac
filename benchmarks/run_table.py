"""A page of the run table, filtered and sorted, at 1,000 and at 20,000 runs, over HTTP."""

from __future__ import annotations

import random
import secrets
import time
from datetime import timedelta

from benchmarks.measuring import Ratio, in_turn, ratio
from kinetrum.client.http import Service
from kinetrum.core.rundoc import Result, RunDoc, pack
from kinetrum.storage import people, projects, run_index
from kinetrum.storage.clock import now
from kinetrum.storage.database import execute, insert_many, query, transaction

PARAMS, RESULTS = 40, 31


@transaction
def make_runs(experiment: str, count: int) -> None:
    """Write finished runs straight into the tables, as many as the service would have after months."""
    chance = random.Random(count)
    project = projects.project_named("main")
    assert project
    person = people.people()[0].person_id
    projects.add_experiment(project.project_id, experiment, person)
    row = projects.experiment_named(project.project_id, experiment)
    assert row
    names = [("param", "", f"param-{n}") for n in range(PARAMS)] + [
        ("value", "shown", f"result-{n}") for n in range(RESULTS)
    ]
    ids = run_index.intern_keys(project.project_id, names)
    start = now() - timedelta(days=100)
    insert_many(
        "INSERT INTO run (uid, experiment_id, number, status, author_id, host, started_at, ended_at, last_sign_at, lease_s, changed_at)",
        [(secrets.token_bytes(16), row.experiment_id, n, "finished", person, "bench", start, start, start, 60, start)
         for n in range(1, count + 1)],
    )  # fmt: skip
    run_ids = [
        found
        for (found,) in query("SELECT run_id FROM run WHERE experiment_id = %s ORDER BY number", row.experiment_id)
    ]
    docs, numbers = [], []
    for run_id in run_ids:
        params = {f"param-{n}": float(chance.randrange(10)) for n in range(PARAMS)}
        results = {f"result-{n}": chance.random() for n in range(RESULTS)}
        doc = RunDoc(params=dict(params), results={key: Result(value, 1) for key, value in results.items()})
        docs.append((run_id, pack(doc)))
        numbers += [(ids["param", "", key], row.experiment_id, run_id, value) for key, value in params.items()]
        numbers += [(ids["value", "shown", key], row.experiment_id, run_id, value) for key, value in results.items()]
    insert_many("INSERT INTO run_doc (run_id, doc)", docs)
    insert_many("INSERT INTO value_num (key_id, experiment_id, run_id, num)", sorted(numbers), size=2_000)
    insert_many(
        "INSERT INTO experiment_key (experiment_id, key_id)", [(row.experiment_id, key) for key in ids.values()]
    )
    execute("UPDATE experiment SET last_number = %s WHERE experiment_id = %s", count, row.experiment_id)


def _page(service: Service, experiment: str, **params: str) -> float:
    started = time.perf_counter()
    page = service.get(f"/projects/main/experiments/{experiment}/runs", limit=100, **params)
    taken = time.perf_counter() - started
    assert len(page["rows"]) == 100
    return taken


def run_table(url: str, token: str) -> list[Ratio]:
    """Compare pages of 100 full rows."""
    make_runs("small", 1_000)
    make_runs("large", 20_000)
    service = Service(url, token)
    rows = []
    for what, params in {
        "sorted by a result": {"sort": "result-3:desc"},
        "filtered and sorted": {"query": "param-5 >= 5", "sort": "result-3:desc"},
    }.items():
        left, right = in_turn(
            lambda params=params: _page(service, "large", **params),
            lambda params=params: _page(service, "small", **params), 15,
        )  # fmt: skip
        rows.append(ratio(f"page of 100 runs x 71 keys, {what}", "≤ 3x, ≤ 100 ms", left, right, "20,000 runs", "1,000 runs",
                          1e3, "ms"))  # fmt: skip
    service.close()
    return rows
