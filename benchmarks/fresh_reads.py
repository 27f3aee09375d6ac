"""Reading right after writing: how often an answer lacks what was acknowledged, and what it costs to hold it."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager

from benchmarks.measuring import Ratio, in_turn, ratio
from benchmarks.run_table import make_runs
from kinetrum.actions.recording import intake
from kinetrum.client.spool.complete_segment import new_id
from kinetrum.client.transport.http import Service
from kinetrum.instance.mariadb import DATABASE, SERVICE
from kinetrum.instance.settings import Home

ROUNDS, IDLE_RUNS, CROWD = 200, 100_000, 200
GOALS = {"loss": {"direction": "lower"}}


def fresh_reads(home: Home, url: str, token: str) -> Iterator[Ratio | str]:
    """Record and ask 200 times at one process of the service and at two; then time the pages."""
    first = Service(url, token, timeout_s=60)
    yield f"{_wrong_answers('one', first, first)} of {ROUNDS} answers right after a write are wrong, one process"
    with _another_process(home) as address:
        second = Service(address, token)
        yield f"{_wrong_answers('two', first, second)} of {ROUNDS} answers right after a write are wrong, two processes"
        second.close()
    run = _begin(first, "written")
    page = "/projects/main/experiments/written/runs"

    def after_write() -> float:
        _measure(first, run, time.time())
        return _seconds(lambda: first.get(page))

    fresh, idle = in_turn(after_write, lambda: _seconds(lambda: first.get(page)), 15)
    yield ratio(
        "a page right after a point was written / once more",
        "none stated",
        fresh,
        idle,
        "after a write",
        "idle",
        1e3,
        "ms",
    )
    yield from _beside_a_crowd(first, page)
    make_runs("idle", IDLE_RUNS)
    waits, pages = in_turn(
        lambda: _seconds(lambda: intake.bring_up_to_date("main")),
        lambda: _seconds(lambda: first.get("/projects/main/experiments/idle/runs", sort="result-3")),
        15,
    )
    yield ratio(
        f"asking what waits / a page among {IDLE_RUNS:,} idle runs",
        "nothing",
        waits,
        pages,
        "asking",
        "page",
        1e3,
        "ms",
    )


def _beside_a_crowd(service: Service, page: str) -> Iterator[Ratio]:
    """Time a page while runs of another experiment have points that wait, and while none has."""
    crowd = [_begin(service, "crowd") for _ in range(CROWD)]

    def beside() -> float:
        for run in crowd:
            _measure(service, run, time.time())
        return _seconds(lambda: service.get(page))

    def alone() -> float:
        intake.bring_up_to_date("main")
        return _seconds(lambda: service.get(page))

    busy, quiet = in_turn(beside, alone, 9)
    yield ratio(
        f"a page while {CROWD} runs of another experiment record / alone",
        "none stated",
        busy,
        quiet,
        "beside them",
        "alone",
        1e3,
        "ms",
    )


def _wrong_answers(name: str, writer: Service, reader: Service) -> int:
    wrong = 0
    for turn in range(ROUNDS):
        experiment = f"{name}-{turn}"
        runs = [_begin(writer, experiment) for _ in range(2)]
        for at, run in enumerate(runs):
            _measure(writer, run, 2.0 - at)
            ending = {"status": "finished", "ended_at": time.time_ns() // 1000}
            writer.call("POST", f"{_path(run)}/ending", json=ending)
        path = f"/projects/main/experiments/{experiment}/runs"
        found = [row["number"] for row in reader.get(path, query="loss <= 2", sort="loss")["rows"]]
        wrong += found != [2, 1] or reader.get(f"{path}/best:loss")["number"] != 2
    return wrong


def _begin(service: Service, experiment: str) -> str:
    body = {"started_at": time.time_ns() // 1000, "goals": GOALS}
    begun = service.call("PUT", f"/projects/main/experiments/{experiment}/runs/{new_id()}", json=body)
    return str(begun["reference"])


def _path(run: str) -> str:
    experiment, number = run.split("/")
    return f"/projects/main/experiments/{experiment}/runs/{number}"


def _measure(service: Service, run: str, loss: float) -> None:
    group = {"keys": ["loss"], "steps": [time.time_ns() // 1000], "times": [1], "values": [[loss]]}
    service.call("POST", f"{_path(run)}/points", params={"batch": new_id()}, json={"groups": [group]})


def _seconds(act: Callable[[], object]) -> float:
    began = time.perf_counter()
    act()
    return time.perf_counter() - began


@contextmanager
def _another_process(home: Home) -> Iterator[str]:
    """One more process of the service on the same records; yields its address."""
    lines = (home.folder / "mariadb.cnf").read_text().splitlines()
    port = next(line[5:] for line in lines if line.startswith("port="))
    account = f"{SERVICE}:{home.secret('database_service')}"
    environment = os.environ | {
        "KINETRUM_DATABASE": f"mariadb://{account}@127.0.0.1:{port}/{DATABASE}",
        "KINETRUM_STORE": str(home.store),
        "KINETRUM_PORT": "0",
    }
    process = subprocess.Popen(
        [sys.executable, "-m", "kinetrum.service.main"],
        env=environment,
        stdout=subprocess.PIPE,
        stderr=subprocess.DEVNULL,
        text=True,
    )
    try:
        assert process.stdout is not None
        yield str(json.loads(process.stdout.readline())["url"])
    finally:
        process.terminate()
        process.communicate(timeout=20)
