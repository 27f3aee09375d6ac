"""Tables of 1,000, 10,000 and 100,000 runs with 71 keys each, over HTTP: filter, sort, page, facets, groups."""

from __future__ import annotations

import random
import secrets
import time
from datetime import timedelta

from benchmarks.measuring import Ratio, in_turn, ratio
from kinetrum.client.transport.http import Service
from kinetrum.core.base.run_document import Result, RunDoc, pack
from kinetrum.storage.db.clock import now
from kinetrum.storage.db.database import execute, insert_many, query, transaction
from kinetrum.storage.people import people, projects
from kinetrum.storage.runs import run_index

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
        [
            (secrets.token_bytes(16), row.experiment_id, n, "finished", person, "bench", start, start, start, 60, start)
            for n in range(1, count + 1)
        ],
    )
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


@transaction
def multiply_runs(source: str, experiment: str, copies: int) -> None:
    """Copy an experiment's runs inside the database, as often as asked, under new ids and numbers."""
    project = projects.project_named("main")
    assert project
    projects.add_experiment(project.project_id, experiment, people.people()[0].person_id)
    old = projects.experiment_named(project.project_id, source)
    new = projects.experiment_named(project.project_id, experiment)
    assert old
    assert new
    ((first, last, count),) = query(
        "SELECT MIN(run_id), MAX(run_id), COUNT(*) FROM run WHERE experiment_id = %s", old.experiment_id
    )
    for copy in range(1, copies + 1):
        # Behind everything that is there, so that ids stay apart.
        ((shift,),) = query("SELECT MAX(run_id) - %s + 1 FROM run", first)
        execute(
            "INSERT INTO run (run_id, uid, experiment_id, number, status, author_id, host, started_at, ended_at,"
            " last_sign_at, lease_s, changed_at) SELECT run_id + %s, UNHEX(MD5(CONCAT(run_id, '-', %s, %s))), %s,"
            " number + %s, status, author_id, host, started_at + INTERVAL run_id + %s SECOND, ended_at, last_sign_at,"
            " lease_s, changed_at FROM run WHERE experiment_id = %s",
            shift,
            copy,
            experiment,
            new.experiment_id,
            (copy - 1) * count,
            copy * count,
            old.experiment_id,
        )
        execute(
            "INSERT INTO run_doc SELECT run_id + %s, doc FROM run_doc WHERE run_id BETWEEN %s AND %s",
            shift,
            first,
            last,
        )
        execute(
            "INSERT INTO value_num SELECT key_id, %s, run_id + %s, num FROM value_num WHERE experiment_id = %s"
            " ORDER BY key_id, run_id",
            new.experiment_id,
            shift,
            old.experiment_id,
        )
    execute(
        "INSERT INTO experiment_key SELECT %s, key_id FROM experiment_key WHERE experiment_id = %s",
        new.experiment_id,
        old.experiment_id,
    )
    execute("UPDATE experiment SET last_number = %s WHERE experiment_id = %s", copies * count, new.experiment_id)


ASKED: dict[str, tuple[str, dict[str, object]]] = {
    "page of 100 full rows, sorted by a result": ("runs", {"sort": "result-3", "limit": 100}),
    "the same, filtered by two settings": (
        "runs",
        {"query": "param-5 >= 5 and param-6 in {1, 2, 3}", "sort": "result-3", "limit": 100},
    ),
    "the same, filtered to few": (
        "runs",
        {"query": "result-7 >= 0.99 and param-1 = 3", "sort": "result-3", "limit": 100},
    ),
    "the same, by three keys": ("runs", {"sort": "param-1,param-2,result-3", "limit": 100}),
    "a page 900 rows down": ("runs", {"sort": "result-3", "limit": 100, "offset": 900}),
    "all keys with their ranges": ("facets", {}),
    "frequent values of one key": ("facet", {"name": "param-4"}),
    "frequent values of one key, of a tenth of the runs": ("facet", {"name": "param-4", "query": "param-5 = 2"}),
    "what may stand in a query": ("offers", {"text": "param-1"}),
}
ONLY_LARGE = {
    "grouped by a setting, mean of one result": (
        "groups",
        {"by": "param-4", "column": ["result-1"], "sort": "result-1"},
    ),
    "the last page of a hundred": ("runs", {"sort": "result-3", "limit": 100, "offset": 99_900}),
}


def _timed(service: Service, experiment: str, what: str, params: dict[str, object]) -> float:
    started = time.perf_counter()
    found = service.get(f"/projects/main/experiments/{experiment}/{what}", **params)
    taken = time.perf_counter() - started
    assert found
    return taken


def run_table(url: str, token: str) -> list[Ratio]:
    """Compare the same question over 100,000 and over 1,000 runs, and over 10,000 and 1,000."""
    make_runs("small", 1_000)
    make_runs("middle", 10_000)
    multiply_runs("middle", "large", 10)
    look_at_tables()
    service = Service(url, token)
    rows = []
    for name, (what, params) in ASKED.items():
        for size, label in (("middle", "10,000"), ("large", "100,000")):
            left, right = in_turn(
                lambda what=what, params=params, size=size: _timed(service, size, what, params),
                lambda what=what, params=params: _timed(service, "small", what, params),
                11,
            )
            rows.append(ratio(name, "≤ 3x, ≤ 100 ms", left, right, f"{label} runs", "1,000 runs", 1e3, "ms"))
            print(rows[-1], flush=True)
    for name, (what, params) in ONLY_LARGE.items():
        left, right = in_turn(
            lambda what=what, params=params: _timed(service, "large", what, params),
            lambda what=what, params=params: _timed(service, "middle", what, params | {"offset": 0}),
            5,
        )
        rows.append(ratio(name, "none stated", left, right, "100,000 runs", "10,000 runs", 1e3, "ms"))
        print(rows[-1], flush=True)
    service.close()
    return rows


@transaction
def look_at_tables() -> None:
    """Let the database look at its tables, as it does by itself in time."""
    query("ANALYZE TABLE run, value_num, value_text, run_doc")
