"""A world in which things go wrong: an instance, trainers under load, and a wire that loses, repeats and delays.

Each completed call of a trainer is noted in a file of its own right after it returned. At the end all that was
noted must have arrived once, and nothing else.
"""

from __future__ import annotations

import contextlib
import http.client
import json
import os
import random
import signal
import subprocess
import sys
import threading
import time
from collections import Counter
from dataclasses import dataclass, field
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from kinetrum.client.spool.draining import drain
from kinetrum.client.spool.rejected import set_aside
from kinetrum.client.spool.status import undelivered
from kinetrum.client.transport.http import Service
from kinetrum.core.base.errors import KinetrumError, Unavailable
from kinetrum.instance import control
from kinetrum.instance.settings import Home
from tests.support.programs import senders_of, stop_sender, wait_for

# The clock jumps back and forth by hours, as on machines that are put to sleep or set by hand.
TRAINER = """
import random, sys, time
real, jump = time.time_ns, [0]
time.time_ns = lambda: real() + jump[0]
import kinetrum
chance = random.Random(sys.argv[1])
run = kinetrum.begin("faults", name=sys.argv[1], lease_s=3600, leave_out=("code", "packages", "job"))
out = sys.argv[2] + ".bin"
with open(sys.argv[2], "w", buffering=1) as notes:
    print(run.id, file=notes)
    for step in range(1_000_000):
        run.measure(loss=step, recall=step / 2)
        print("step", step, "drawn\\rstep", step, flush=True)
        if step % 20 == 0:
            jump[0] = chance.randrange(-6, 7) * 3_600_000_000_000
            run.measure(again=step, step=step)
            run.measure(again=-1, step=step)
        if step % 50 == 0:
            run.result({f"at-{step}": step})
        if step % 150 == 0:
            with open(out, "w") as file:
                file.write(f"{run.id} {step}")
            run.generated(out, name=f"out-{run.id[-12:]}")
        print(step, file=notes)
        time.sleep(0.002)
"""
FAULTS = ("trainer", "sender", "service", "database", "both", "lost reply", "repeated", "late repeat")
# What happens on the wire happens to the next request that comes by.
_ON_THE_WIRE = frozenset({"lost reply", "repeated", "late repeat"})


@dataclass
class Wire:
    """A proxy between the sender and the service that does to the next request what it is told."""

    target: str
    orders: list[str] = field(default_factory=list)
    kept: list[tuple[str, str, bytes, dict[str, str]]] = field(default_factory=list)
    done: Counter[str] = field(default_factory=Counter)
    guard: threading.Lock = field(default_factory=threading.Lock)

    def start(self) -> str:
        """Serve on a free port; returns the address."""
        wire = self

        class Handler(BaseHTTPRequestHandler):
            protocol_version = "HTTP/1.1"

            def _pass(self) -> None:
                wire.handle(self)

            do_GET = do_PUT = do_POST = do_DELETE = _pass

            def log_message(self, *given: Any) -> None:
                """Say nothing."""

        self.server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        self.server.daemon_threads = True
        threading.Thread(target=self.server.serve_forever, daemon=True).start()
        return f"http://127.0.0.1:{self.server.server_address[1]}"

    def stop(self) -> None:
        self.server.shutdown()
        self.server.server_close()

    def _forward(self, method: str, path: str, body: bytes, headers: dict[str, str]) -> tuple[int, bytes, str]:
        found = urlsplit(self.target)
        link = http.client.HTTPConnection(str(found.hostname), found.port, timeout=20)
        try:
            link.request(method, path, body=body or None, headers=headers)
            answer = link.getresponse()
            return answer.status, answer.read(), answer.headers.get("Content-Type", "application/json")
        finally:
            link.close()

    def handle(self, request: BaseHTTPRequestHandler) -> None:
        body = request.rfile.read(int(request.headers.get("Content-Length") or 0))
        headers = {key: value for key, value in request.headers.items() if key.lower() not in {"host", "connection"}}
        call = (request.command, request.path, body, headers)
        with self.guard:
            # Beats of the heart are no records.
            order = self.orders.pop(0) if self.orders and not request.path.endswith("/signs") else None
            if order is not None:
                self.done[order] += 1
        try:
            status, answer, kind = self._forward(*call)
            if order == "repeated":
                status, answer, kind = self._forward(*call)
        except OSError:
            request.close_connection = True
            return
        if order == "late repeat":
            with self.guard:
                self.kept.append(call)
        if order == "lost reply":
            request.close_connection = True
            return
        with contextlib.suppress(OSError):
            request.send_response(status)
            if status != 204:
                request.send_header("Content-Type", kind)
                request.send_header("Content-Length", str(len(answer)))
            request.end_headers()
            request.wfile.write(answer)

    def send_late(self, chance: random.Random) -> None:
        """Send what was kept once more, in any order."""
        with self.guard:
            calls, self.kept = self.kept, []
        chance.shuffle(calls)
        for call in calls:
            try:
                self._forward(*call)
            except OSError:
                with self.guard:
                    self.kept.append(call)


class World:
    """An instance of its own with trainers that record through the wire."""

    def __init__(self, folder: Path, seed: int, trainers: int = 2) -> None:
        self.folder, self.chance = folder, random.Random(seed)
        self.home, self.root = Home(folder / "i"), folder / "spool"
        self.url = control.up(self.home, 0)["url"]
        self.token = self.home.token.read_text().strip()
        self.wire = Wire(self.url)
        self.environment = os.environ | {
            "KINETRUM_URL": self.wire.start(),
            "KINETRUM_TOKEN": self.token,
            "KINETRUM_SPOOL": str(self.root),
            "KINETRUM_PROJECT": "main",
        }
        self.keeper = json.loads(self.home.state.read_text())["pid"]
        self.notes: list[Path] = []
        self.running: list[subprocess.Popen[bytes]] = []
        self.happened: Counter[str] = Counter()
        for _ in range(trainers):
            self._start_trainer()

    def _start_trainer(self) -> None:
        path = self.folder / f"notes-{len(self.notes)}"
        self.notes.append(path)
        command = [sys.executable, "-c", TRAINER, f"trainer {len(self.notes)}", str(path)]
        self.running.append(subprocess.Popen(command, env=self.environment, stdout=subprocess.DEVNULL))

    def stop(self) -> None:
        """End everything."""
        self._kill_trainers()
        stop_sender(self.root)
        self.wire.stop()
        control.down(self.home)

    def _kill_trainers(self) -> None:
        for trainer in self.running:
            trainer.kill()
            trainer.wait()
        self.running = []

    def _kill_server(self, word: bytes) -> None:
        for child in Path(f"/proc/{self.keeper}/task/{self.keeper}/children").read_text().split():
            with contextlib.suppress(OSError):
                if word in Path(f"/proc/{child}/cmdline").read_bytes():
                    os.kill(int(child), signal.SIGKILL)

    def fault(self) -> str:
        """Let one thing go wrong."""
        what = self.chance.choice(FAULTS)
        self.happened[what] += 1
        if what == "trainer":
            gone = self.running.pop(self.chance.randrange(len(self.running)))
            gone.kill()
            gone.wait()
            self._start_trainer()
        elif what == "sender":
            for number in senders_of(self.root):
                with contextlib.suppress(ProcessLookupError):
                    os.kill(number, signal.SIGKILL)
        elif what in _ON_THE_WIRE:
            with self.wire.guard:
                self.wire.orders.append(what)
        if what in {"service", "both"}:
            self._kill_server(b"kinetrum.service")
        if what in {"database", "both"}:
            self._kill_server(b"mariadbd")
        return what

    def suffer(self, faults: int, pause_s: tuple[float, float] = (0.05, 0.5)) -> None:
        """Let things go wrong at random moments, then let the trainers die."""
        wait_for(lambda: all(path.exists() for path in self.notes), 40)
        for _ in range(faults):
            time.sleep(self.chance.uniform(*pause_s))
            self.fault()
            if self.chance.random() < 0.2:
                self.wire.send_late(self.chance)
        time.sleep(0.5)
        self._kill_trainers()

    def settle(self) -> None:
        """Wait until the service is well and everything in the spool is acknowledged."""
        os.environ["KINETRUM_SPOOL"] = str(self.root)
        wait_for(self._healthy, 60)
        try:
            drain(self.root, 120)
        except Unavailable:
            print("senders:", senders := senders_of(self.root))
            for number in senders:
                os.kill(number, signal.SIGUSR1)
            time.sleep(1)
            print((self.root / "sender.log").read_text()[-4_000:])
            raise
        self.wire.send_late(self.chance)
        assert self.wire.kept == []
        assert undelivered(self.root) == []
        assert set_aside(self.root) == []

    def _healthy(self) -> bool:
        service = Service(self.url, self.token)
        try:
            return bool(service.get("/projects"))
        except KinetrumError:
            return False
        finally:
            service.close()

    def check(self) -> int:
        """Assert that every completed call arrived once, and nothing else did; returns how many calls that were."""
        service = Service(self.url, self.token)
        try:
            begun = [path.read_text().split() for path in self.notes if path.exists()]
            calls = sum(
                self._check_run(service, words[0], [int(step) for step in words[1:]]) for words in begun if words
            )
            known = service.get("/projects/main/experiments/faults/runs", limit=500)["rows"]
            # A trainer that was killed in begin() may have completed it and noted nothing.
            assert len(known) <= len(self.notes)
            assert {words[0] for words in begun if words} <= {run["id"] for run in known}
            return calls
        finally:
            service.close()

    def _check_run(self, service: Service, run_id: str, noted: list[int]) -> int:
        last = noted[-1] if noted else -1
        assert noted == list(range(last + 1))
        run = service.get(f"/projects/main/runs/{run_id}")
        path = f"/projects/main/experiments/faults/runs/{run['number']}"
        assert run["problems"] == []
        assert set(run["metric_names"]) <= {"loss", "recall", "again"}
        if last < 0:
            return 0
        loss, recall = (service.get(f"{path}/points", metric=name) for name in ("loss", "recall"))
        # One call may have been completed and not yet noted when the kill came.
        assert loss["steps"] in (list(range(last + 1)), list(range(last + 2)))
        end = len(loss["steps"])
        assert recall["steps"] == loss["steps"]
        assert loss["values"] == list(range(end))
        assert recall["values"] == [step / 2 for step in range(end)]
        assert loss["times"] == sorted(loss["times"])
        again = service.get(f"{path}/points", metric="again")
        whole = [(step, value) for step in range(0, last + 1, 20) for value in (step, -1)]
        found = list(zip(again["steps"], again["values"], strict=True))
        assert found[: len(whole)] == whole
        assert len(found) - len(whole) <= 2
        recorded = service.get(f"{path}/results")
        assert {f"at-{step}" for step in range(0, last + 1, 50)} <= {item["key"] for item in recorded}
        assert len({item["key"] for item in recorded}) == len(recorded)
        assert len(recorded) <= last // 50 + 2
        self._check_files(service, run_id, last)
        return 2 * end + len(found) + len(recorded) + self._check_output(service, path, last)

    def _check_output(self, service: Service, path: str, last: int) -> int:
        """What was flushed before a step was noted is there, each line once and in order."""
        with service.stream(f"{path}/output/text") as answer:
            lines = answer.read().decode().splitlines()
        wanted = [f"step {step}" for step in range(last + 2)]
        wrong = [(at, line) for at, line in enumerate(lines) if at >= len(wanted) or line != wanted[at]]
        assert not wrong and len(lines) in (last + 1, last + 2), (len(lines), last, wrong[:3], wrong[-3:])
        return len(lines)

    def _check_files(self, service: Service, run_id: str, last: int) -> None:
        versions = service.get(f"/projects/main/artifacts/out-{run_id[-12:]}/versions")
        assert len(versions) in (last // 150 + 1, last // 150 + 2)
        assert len({version["digest"] for version in versions}) == len(versions)
