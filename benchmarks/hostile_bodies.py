"""Ten hostile bodies in flight: what a plain request takes meanwhile, and the service's memory."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import httpx
import psutil

from benchmarks.measuring import Ratio, ratio
from kinetrum.client.spool.complete_segment import new_id

PAIRS, EACH = 5, 20
# Sends one body again and again, over ten connections, from a process of its own.
_SENDER = """
import sys, threading, httpx
url, token, path, kind = sys.argv[1:]
body = {
    "lists": b'{"name":[' + b"[]," * 3_400_000 + b"[]]}",
    "manifest": b'{"id":"x","at":1,"files":[' + b"[]," * 900_000 + b"[]]}",
    "points": b'{"groups":[{"keys":["a"],"steps":[' + b"0," * 400_000 + b'0],"times":[0],"values":[]}]}',
    "commas": b'{"text":"' + b"," * 900_000 + b'"}',
    "nothing": b"",
}[kind]
headers = {"Content-Type": "application/json"} | ({"Authorization": f"Bearer {token}"} if token else {})
def work():
    while True:
        if not body:
            continue
        try:
            httpx.post(url + path, content=body, headers=headers, timeout=60)
        except httpx.HTTPError:
            pass
for _ in range(10):
    threading.Thread(target=work, daemon=True).start()
print("at work", flush=True)
sys.stdin.read()
"""


@contextmanager
def _sending(token: str, path: str, kind: str) -> Iterator[None]:
    words = [sys.executable, "-c", _SENDER, os.environ["KINETRUM_URL"], token, path, kind]
    with subprocess.Popen(words, stdin=subprocess.PIPE, stdout=subprocess.PIPE) as sender:
        assert sender.stdout is not None
        sender.stdout.readline()
        time.sleep(0.5)
        yield
        sender.kill()


def _health(client: httpx.Client) -> float:
    """Return the median of some requests, in seconds."""
    times = []
    for _ in range(EACH):
        began = time.perf_counter()
        client.get("/api/v1/health").raise_for_status()
        times.append(time.perf_counter() - began)
    return sorted(times)[len(times) // 2]


def _service_memory() -> float:
    """Return what the service's process holds in memory, in MB."""
    home = Path(os.environ["KINETRUM_BENCH_HOME"])
    port = json.loads((home / "state.json").read_text())["url"].rsplit(":", 1)[1]
    for process in psutil.process_iter(["cmdline"]):
        if "kinetrum.service.main" in (process.info["cmdline"] or []):
            ports = {str(one.laddr.port) for one in process.net_connections("tcp") if one.laddr}
            if port in ports:
                return float(process.memory_info().rss) / 1e6
    return float("nan")


def hostile_bodies() -> list[Ratio]:
    """Compare a plain request beside ten hostile bodies with one beside a program as busy that sends nothing."""
    token = os.environ["KINETRUM_TOKEN"]
    cases = {
        "10 MB of lists, no account": ("", "/api/v1/projects/main/artifacts/y/versions", "lists"),
        "10 MB of lists, no account, signing in": ("", "/api/v1/session", "lists"),
        "10 MB of lists, an account": (token, "/api/v1/projects/main/bin", "lists"),
        "a manifest of 900,000 lists, an account": (token, "/api/v1/projects/main/artifacts/y/versions", "manifest"),
        "points of 400,000 steps, an account": (
            token,
            f"/api/v1/projects/main/experiments/e/runs/{new_id()}/points?batch={new_id()}",
            "points",
        ),
        "900,000 commas in a text, an account": (token, "/api/v1/projects/main/notes", "commas"),
    }
    rows = []
    with httpx.Client(base_url=os.environ["KINETRUM_URL"], timeout=60) as client:
        for name, (account, path, kind) in cases.items():
            before, beside, alone = _service_memory(), [], []
            most = before
            for _ in range(PAIRS):
                with _sending("", "", "nothing"):
                    alone.append(_health(client))
                with _sending(account, path, kind):
                    beside.append(_health(client))
                    most = max(most, _service_memory())
            row = ratio(f"/health beside ten of: {name}", "≤ 3x", beside, alone, "beside", "alone", 1e3, "ms")
            rows.append(row)
            print(f"{'':6}memory: {before:.0f} MB before, at most {most:.0f} MB ({name})")
    return rows
