"""One measure() against list.append of the same dict; recording end to end against LOAD DATA of plain rows."""

from __future__ import annotations

import getpass
import os
import secrets
import time
from pathlib import Path

import pymysql

import kinetrum
from benchmarks.measuring import Ratio, in_turn, ratio
from kinetrum.instance.settings import Home

CALLS = 100_000
POINT_CALLS, METRICS = 100_000, 5


def _appending() -> float:
    kept: list[dict[str, float]] = []
    append = kept.append
    started = time.perf_counter()
    for step in range(CALLS):
        append(dict(loss=0.31, recall=0.84, area=step))
    return (time.perf_counter() - started) / CALLS


def _measuring(run: kinetrum.Run) -> float:
    measure = run.measure
    started = time.perf_counter()
    for step in range(CALLS):
        measure(loss=0.31, recall=0.84, area=step)
    return (time.perf_counter() - started) / CALLS


def _tail(run: kinetrum.Run) -> float:
    measure, clock = run.measure, time.perf_counter_ns
    times = []
    for step in range(CALLS):
        started = clock()
        measure(loss=0.31, recall=0.84, area=step)
        times.append(clock() - started)
    times.sort()
    return times[int(0.999 * len(times))] / 1e9


def measure_call(name: str, url: str | None) -> list[Ratio]:
    """Measure with the sender at work, or (an address where nothing is) with the service away."""
    run = kinetrum.begin("benchmark-calls", url=url)
    left, right = in_turn(lambda: _measuring(run), _appending, 9)
    tail = _tail(run) * 1e3
    run.end()
    if url is None:
        run.flush(120)
    return [
        ratio(
            f"measure() of 3 metrics / list.append, {name}",
            "≤ 8x, p99.9 ≤ 1 ms",
            left,
            right,
            f"p99.9 {tail:.3f} ms; measure()",
            "list.append",
            1e6,
            "µs",
        )
    ]


def _recorded() -> float:
    run = kinetrum.begin("benchmark-points")
    run.measure(warm=0.0)
    run.flush(60)
    started = time.perf_counter()
    for step in range(POINT_CALLS):
        run.measure(a=step, b=0.5, c=1.5, d=-step, e=0.25)
    run.flush(120)
    taken = time.perf_counter() - started
    run.end()
    return taken


class _Rows:
    """Plain rows of points, loaded by the server itself from a file."""

    def __init__(self, home: Home) -> None:
        socket = home.database / "server.sock"
        self.connection = pymysql.connect(unix_socket=str(socket), user=getpass.getuser(), database="kinetrum")
        self.file = home.folder / "points.tsv"
        with self.file.open("w") as file:
            for step in range(POINT_CALLS):
                for key, value in enumerate((step, 0.5, 1.5, -step, 0.25)):
                    file.write(f"1\t{key}\t{step}\t{1_790_000_000_000_000 + step}\t{value}\n")
        os.chmod(self.file, 0o644)
        os.chmod(home.folder, 0o755)

    def load(self) -> float:
        name = f"plain_{secrets.token_hex(4)}"
        with self.connection.cursor() as cursor:
            cursor.execute(
                f"CREATE TABLE {name} (run_id BIGINT, key_id INT, step BIGINT, at BIGINT, value DOUBLE,"
                " PRIMARY KEY (run_id, key_id, step, at)) ENGINE=InnoDB"
            )
            started = time.perf_counter()
            cursor.execute(f"LOAD DATA INFILE '{self.file}' INTO TABLE {name}")
            self.connection.commit()
            taken = time.perf_counter() - started
            self.size = self._bytes(cursor, name)
            cursor.execute(f"DROP TABLE {name}")
        return taken

    def _bytes(self, cursor: pymysql.cursors.Cursor, table: str) -> int:
        cursor.execute(f"ANALYZE TABLE {table}")
        cursor.fetchall()
        cursor.execute("SELECT data_length FROM information_schema.tables WHERE table_name = %s", (table,))
        ((size,),) = cursor.fetchall()
        return int(size)


def recording(home: Home) -> list[Ratio]:
    """Compare the times until everything is durable."""
    rows = _Rows(home)
    left, right = in_turn(rows.load, _recorded, 5)
    rows.connection.close()
    Path(rows.file).unlink()
    count = POINT_CALLS * METRICS
    found = ratio(
        f"LOAD DATA / recording {count:,} points",
        "≥ 1x",
        left,
        right,
        "LOAD DATA of plain rows",
        "single calls of 5 metrics, durable at the end",
        1.0,
        "s",
    )
    return [found]
