"""What training notices: a loop of 1 ms steps with and without recording, a slow service, memory with none."""

from __future__ import annotations

import subprocess
import sys
import tempfile
import time

import kinetrum
from benchmarks.measuring import Ratio, in_turn, ratio

STEPS = 1_500
CALLS = 2_000_000

_SLOW_SERVICE = """
import http.server, time
class Slow(http.server.BaseHTTPRequestHandler):
    def _answer(self):
        time.sleep(2)
        self.send_response(503); self.send_header("Content-Length", "0"); self.end_headers()
    do_GET = do_PUT = do_POST = _answer
    def log_message(self, *given): pass
server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Slow)
print(server.server_address[1], flush=True)
server.serve_forever()
"""


class SlowService:
    """Something that takes two seconds to say that it cannot answer."""

    def __enter__(self) -> str:
        self.process = subprocess.Popen([sys.executable, "-c", _SLOW_SERVICE], stdout=subprocess.PIPE, text=True)
        assert self.process.stdout is not None
        return f"http://127.0.0.1:{self.process.stdout.readline().strip()}"

    def __exit__(self, *_: object) -> None:
        self.process.kill()
        self.process.wait()


def _rounds_of_a_millisecond() -> int:
    """How often to go round a loop of plain Python until a millisecond has passed."""
    rounds = 1_000
    while True:
        started = time.perf_counter()
        for _ in range(20):
            _work(rounds)
        taken = (time.perf_counter() - started) / 20
        if taken >= 0.001:
            return int(rounds * 0.001 / taken)
        rounds *= 2


def _work(rounds: int) -> float:
    found = 0.0
    for number in range(rounds):
        found += number * 0.5
    return found


def loop_of_steps() -> list[Ratio]:
    """Train in steps of a millisecond on one core; sender, service and database share the other one."""
    rounds = _rounds_of_a_millisecond()
    run = kinetrum.begin("benchmark-loop")

    def plain() -> float:
        started = time.perf_counter()
        for _ in range(STEPS):
            _work(rounds)
        return time.perf_counter() - started

    def recorded() -> float:
        started = time.perf_counter()
        for step in range(STEPS):
            _work(rounds)
            run.measure(loss=0.31, recall=0.84, area=step)
        return time.perf_counter() - started

    left, right = in_turn(recorded, plain, 15)
    run.end()
    run.flush(60)
    return [
        ratio(
            "a step of 1 ms with one measure() of 3 metrics / without",
            "≤ 1.01x",
            left,
            right,
            "recorded, 1,500 steps",
            "not recorded",
            1.0,
            "s",
        )
    ]


_AWAY = """
import resource, sys, kinetrum
run = kinetrum.begin("benchmark-memory", url="http://127.0.0.1:1")
run.measure(a=0, b=0, c=0, d=0, e=0)
def now():
    with open("/proc/self/statm") as file: pages = file.read().split()
    return (int(pages[1]) - int(pages[2])) * 4096 / 2**20
before = now()
for step in range(1, int(sys.argv[1])):
    run.measure(a=step, b=0.5, c=1.5, d=-step, e=0.25)
print(now() - before, resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024)
"""


def memory_away() -> str:
    """Record 10 million points with no service at all; how the process grows."""
    import os

    with tempfile.TemporaryDirectory(prefix="kt-") as folder:
        environment = os.environ | {"KINETRUM_SPOOL": folder, "KINETRUM_SENDER": "off"}
        done = subprocess.run(
            [sys.executable, "-c", _AWAY, str(CALLS)], env=environment, capture_output=True, text=True, check=True
        )
        size = subprocess.run(["du", "-sm", folder], capture_output=True, text=True, check=True).stdout.split()[0]
    grown, most = (float(word) for word in done.stdout.split())
    return (
        f"service away for {CALLS * 5:,} points: own memory grew by {grown:.1f} MiB (file maps not counted), "
        f"{most:.0f} MiB at most with them; the spool took {size} MiB"
    )
