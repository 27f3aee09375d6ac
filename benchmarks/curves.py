"""Room of a point on the disk, curves of long metrics, and ingest while other runs are compacted."""

from __future__ import annotations

import getpass
import threading
import time

import numpy as np
import pymysql

from benchmarks.measuring import Ratio, in_turn, ratio
from kinetrum.client.transport.http import Service
from kinetrum.core.base.ids import uuid7
from kinetrum.core.points.codec import BATCH_MEDIA_TYPE, Group, encode_batch
from kinetrum.instance.settings import Home

LONG, SHORT = 5_000_000, 5_000
BATCH = 100_000


def _id() -> str:
    import os

    return uuid7(time.time_ns() // 1_000_000, os.urandom(10))


def _begin(service: Service, experiment: str) -> str:
    uid = _id()
    begun = service.call(
        "PUT", f"/projects/main/experiments/{experiment}/runs/{uid}", json={"started_at": time.time_ns() // 1000}
    )
    return f"/projects/main/experiments/{experiment}/runs/{begun['number']}"


def _send(service: Service, path: str, steps: np.ndarray, keys: tuple[str, ...] = ("loss",)) -> None:
    # A loss as it is: falling, with noise in every digit, at moments that are not quite even.
    random = np.random.default_rng(int(steps[0]))
    values = np.vstack([np.exp(-steps / 1e6) + random.normal(0, 0.01, len(steps)) for _ in keys])
    times = 1_790_000_000_000_000 + steps * 1_000 + random.integers(0, 200, len(steps))
    body = encode_batch([Group(keys, steps, times, values)])
    service.call(
        "POST", path + "/points", params={"batch": _id()}, content=body, headers={"Content-Type": BATCH_MEDIA_TYPE}
    )


def _fill(service: Service, count: int) -> str:
    path = _begin(service, "benchmark-curves")
    for start in range(0, count, BATCH):
        _send(service, path, np.arange(start, min(start + BATCH, count), dtype=np.int64))
    while (service.get(path)["metrics"].get("loss") or {"count": 0})["count"] < count:
        time.sleep(0.5)
    return path


def curves(home: Home, url: str, token: str) -> list[Ratio]:
    """A curve of 5 million points to 1,000 pixels against one of 5,000; then the room they take."""
    service = Service(url, token, timeout_s=120)
    before = _disk(home)
    long = _fill(service, LONG)
    grown = (_disk(home) - before) / LONG
    short = _fill(service, SHORT)

    def read(path: str) -> float:
        started = time.perf_counter()
        experiment, number = path.split("/")[4], path.split("/")[6]
        service.get("/projects/main/curves", metric="loss", run=f"{experiment}/{number}", width=1000)
        return time.perf_counter() - started

    left, right = in_turn(lambda: read(long), lambda: read(short), 15)
    service.close()
    plain = _plain_row(home)
    return [
        ratio(
            "curve of 5,000,000 points to 1,000 pixels / of 5,000",
            "≤ 3x, ≤ 50 ms",
            left,
            right,
            "5,000,000 points",
            "5,000 points",
            1e3,
            "ms",
        ),
        Ratio(
            "disk of a point / of a plain row of it",
            "≤ 0.2x",
            [grown / plain],
            f"{grown:.1f} bytes a point, chunks and rollups",
            f"{plain:.1f} bytes a row",
        ),
    ]


_TABLES = ("point_chunk", "point_rollup", "series")


def _query(home: Home, *statements: str) -> list[tuple[int, ...]]:
    socket = home.database / "server.sock"
    with (
        pymysql.connect(unix_socket=str(socket), user=getpass.getuser(), database="kinetrum") as link,
        link.cursor() as cursor,
    ):
        for statement in statements:
            cursor.execute(statement)
        return list(cursor.fetchall())


def _disk(home: Home) -> int:
    """Return the bytes of the files in which points are kept."""
    return sum((home.database / "kinetrum" / f"{table}.ibd").stat().st_size for table in _TABLES)


def _plain_row(home: Home) -> float:
    """Return the bytes of one row of a plain table of 500,000 points."""
    statements = [
        "DROP TABLE IF EXISTS plain_points",
        (
            "CREATE TABLE plain_points (run_id BIGINT, key_id INT, step BIGINT, at BIGINT, value DOUBLE,"
            " PRIMARY KEY (run_id, key_id, step, at)) ENGINE=InnoDB"
        ),
    ]
    statements += [
        f"INSERT INTO plain_points SELECT run_id, key_id, step + {5_000 * part}, at, value FROM (SELECT 1 run_id, 1"
        f" key_id, seq step, 1790000000000000 + seq at, seq / 7 value FROM seq_0_to_4999) s"
        for part in range(100)
    ]
    _query(home, *statements, "COMMIT")
    size = (home.database / "kinetrum" / "plain_points.ibd").stat().st_size
    _query(home, "DROP TABLE plain_points")
    return size / 500_000


def steady(url: str, token: str) -> list[Ratio]:
    """Batches to one run while others are fed and compacted without pause, against the same with nothing beside it."""
    service, beside = Service(url, token, timeout_s=120), Service(url, token, timeout_s=120)
    path = _begin(service, "benchmark-steady")
    other = _begin(service, "benchmark-steady")
    stop, feeding = threading.Event(), threading.Event()
    at = 0

    def feed() -> None:
        step = 0
        while not stop.is_set():
            if not feeding.wait(0.1):
                continue
            _send(beside, other, np.arange(step, step + 5_000, dtype=np.int64), ("a", "b", "c", "d"))
            step += 5_000
            time.sleep(0.2)

    def batches() -> float:
        nonlocal at
        started = time.perf_counter()
        for _ in range(20):
            _send(service, path, np.arange(at, at + 2_000, dtype=np.int64))
            at += 2_000
        return time.perf_counter() - started

    def busy() -> float:
        feeding.set()
        time.sleep(0.5)
        taken = batches()
        feeding.clear()
        time.sleep(1.5)
        return taken

    thread = threading.Thread(target=feed)
    thread.start()
    try:
        left, right = in_turn(busy, batches, 7)
    finally:
        stop.set()
        thread.join()
    service.close()
    beside.close()
    return [
        ratio(
            "20 batches while another run takes 100,000 points a second / alone",
            "none stated",
            left,
            right,
            "with compaction beside it",
            "alone",
            1e3,
            "ms",
        )
    ]
