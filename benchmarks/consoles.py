"""What open consoles cost the service: 200 of them follow a run, and read anew as often as the service asks them to."""

from __future__ import annotations

import asyncio
import contextlib
import json
import random
import statistics
import threading
import time
from collections.abc import Iterator

import httpx
import psutil

import kinetrum
from benchmarks.measuring import Ratio, ratio

SECONDS, EVERY_S = 12.0, 0.1
_MANY = 200


class Console:
    """Follows a project; told of a change it gathers for as long as it was asked to, then reads the run's page."""

    def __init__(self, client: httpx.AsyncClient, run: str) -> None:
        self.client, self.run = client, run
        self.pace_s, self.told, self.read = 0.35, list[float](), 0
        self.reading: asyncio.Task[None] | None = None

    async def follow(self) -> None:
        kind = ""
        async with self.client.stream("GET", "/projects/main/events") as answer:
            async for line in answer.aiter_lines():
                name, _, rest = line.partition(": ")
                if name == "event":
                    kind = rest
                elif name == "data" and kind == "pace":
                    self.pace_s = json.loads(rest)["gather_ms"] / 1000
                elif name == "data" and kind == "change":
                    self.told.append(time.time())
                    if self.reading is None or self.reading.done():
                        self.reading = asyncio.create_task(self._read())

    async def _read(self) -> None:
        await asyncio.sleep(self.pace_s * random.uniform(0.8, 1.2))
        with contextlib.suppress(httpx.HTTPError):
            answer = await self.client.get(f"/projects/main/experiments/benchmark-consoles/runs/{self.run}")
            self.read += answer.status_code == 200


async def _open(url: str, token: str, count: int, run: str, ended: threading.Event, out: list[list[float]]) -> None:
    limits = httpx.Limits(max_connections=None)
    headers = {"Authorization": f"Bearer {token}"}
    async with httpx.AsyncClient(base_url=f"{url}/api/v1", headers=headers, timeout=60, limits=limits) as client:
        consoles = [Console(client, run) for _ in range(count)]
        tasks = [asyncio.create_task(console.follow()) for console in consoles]
        while not ended.is_set():
            await asyncio.sleep(0.2)
        reading = [console.reading for console in consoles if console.reading is not None]
        for task in [*tasks, *reading]:
            task.cancel()
        with contextlib.suppress(asyncio.CancelledError):
            await asyncio.gather(*tasks, *reading, return_exceptions=True)
        out += [console.told for console in consoles]


def _service() -> psutil.Process:
    return next(one for one in psutil.process_iter(["cmdline"]) if _is_ours(one))


def _is_ours(process: psutil.Process) -> bool:
    import os

    words = process.info["cmdline"] or []
    port = os.environ["KINETRUM_URL"].rpartition(":")[2]
    if "kinetrum.service.main" not in words:
        return False
    return any(str(connection.laddr.port) == port for connection in process.net_connections("tcp"))


def _cpu(process: psutil.Process) -> float:
    found = process.cpu_times()
    return found.user + found.system


def _measured_with(url: str, token: str, count: int) -> tuple[float, list[float], list[float]]:
    """Return the service's processor seconds, delays of a plain request, and how many changes each console heard of."""
    run = kinetrum.begin("benchmark-consoles", project="main", leave_out=("all",))
    run.measure(loss=1)
    run.flush()
    number = kinetrum.open(run.id, project="main").reference.split("/")[1]  # type: ignore[union-attr]
    ended, told = threading.Event(), list[list[float]]()
    thread = threading.Thread(target=lambda: asyncio.run(_open(url, token, count, number, ended, told)))
    thread.start()
    time.sleep(3)
    service, delays = _service(), []
    before, begun = _cpu(service), time.monotonic()
    with httpx.Client(base_url=f"{url}/api/v1", headers={"Authorization": f"Bearer {token}"}) as client:
        while time.monotonic() - begun < SECONDS:
            run.measure(loss=0.5)
            asked = time.perf_counter()
            client.get("/projects/main/experiments/benchmark-consoles")
            delays.append(time.perf_counter() - asked)
            time.sleep(EVERY_S)
    used = _cpu(service) - before
    ended.set()
    thread.join()
    run.end()
    return used, delays, [float(len(heard)) for heard in told]


def _rounds(url: str, token: str) -> Iterator[tuple[float, float, list[float], list[float], list[float]]]:
    for _ in range(3):
        many, slow, heard = _measured_with(url, token, _MANY)
        one, quick, _ = _measured_with(url, token, 1)
        yield many, one, slow, quick, heard


def consoles(url: str, token: str) -> list[Ratio | str]:
    """Compare 200 open consoles with one, three times in turn."""
    many, one, slow, quick, heard = zip(*_rounds(url, token), strict=True)
    per_second = [used / SECONDS for used in many], [used / SECONDS for used in one]
    rows: list[Ratio | str] = [
        ratio(
            "processor of the service, 200 consoles / 1",
            "-",
            list(per_second[0]),
            list(per_second[1]),
            "200 consoles follow a run",
            "one does",
            100,
            "% of a core",
        ),
        ratio(
            "a plain request, 200 consoles / 1",
            "≤ 3x",
            [statistics.median(found) for found in slow],
            [statistics.median(found) for found in quick],
            "200 consoles open",
            "one open",
            1e3,
            "ms",
        ),
    ]
    least = min(min(found) for found in heard)
    rows.append(f"every one of 200 consoles heard of changes: the least {least:.0f} times in {SECONDS:.0f} s")
    return rows
