"""Trainers, the sender, the service and MariaDB killed at random moments: every completed call arrives, once."""

from __future__ import annotations

import json
import os
import random
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

from kinetrum.client.draining import drain
from kinetrum.client.http import Service
from kinetrum.instance import control
from kinetrum.instance.settings import Home
from tests.conftest import stop_sender, wait_for

# Each completed call is noted in a file of its own right after it returned; what is noted must arrive.
TRAINER = """
import kinetrum, os, sys, time
run = kinetrum.begin("faults", name=sys.argv[1], lease_s=3600)
with open(sys.argv[2], "w", buffering=1) as notes:
    print(run.id, file=notes)
    for step in range(100_000):
        run.measure(loss=step, recall=step / 2)
        if step % 50 == 0:
            run.result({f"at-{step}": step})
        print(step, file=notes)
        time.sleep(0.002)
"""
KILLS = 8


@pytest.mark.parametrize("seed", [1])
def test_nothing_acknowledged_or_completed_is_lost(tmp_path: Path, seed: int) -> None:
    chance = random.Random(seed)
    home, root = Home(tmp_path / "i"), tmp_path / "spool"
    url = control.up(home, 0)["url"]
    token = home.token.read_text().strip()
    environment = os.environ | {"KINETRUM_URL": url, "KINETRUM_TOKEN": token, "KINETRUM_SPOOL": str(root)}
    keeper = json.loads(home.state.read_text())["pid"]
    trainers = [
        subprocess.Popen([sys.executable, "-c", TRAINER, f"t{n}", str(tmp_path / f"notes-{n}")], env=environment)
        for n in range(2)
    ]
    try:
        wait_for(lambda: all((tmp_path / f"notes-{n}").exists() for n in range(2)))
        for _ in range(KILLS):
            time.sleep(chance.uniform(0.1, 0.6))
            what = chance.choice(["server", "server", "sender"])
            if what == "sender":
                stop_sender(root)
            else:
                children = Path(f"/proc/{keeper}/task/{keeper}/children").read_text().split()
                if children:
                    os.kill(int(chance.choice(children)), signal.SIGKILL)
        for trainer in trainers:
            trainer.kill()
            trainer.wait()
        service = Service(url, token)

        def healthy() -> bool:
            try:
                return bool(service.get("/health"))
            except Exception:
                return False

        wait_for(healthy, 40)
        drain(root, 60)
        for number in range(2):
            run_id, *steps = (tmp_path / f"notes-{number}").read_text().split()
            completed = int(steps[-1])
            run = wait_for(lambda run_id=run_id: service.get(f"/projects/main/runs/{run_id}"))
            path = f"/projects/main/experiments/faults/runs/{run['number']}/points"
            loss, recall = service.get(path, metric="loss"), service.get(path, metric="recall")
            # One call may have been completed and not yet noted when the kill came.
            assert loss["steps"] in (list(range(completed + 1)), list(range(completed + 2)))
            assert loss["values"] == [float(step) for step in loss["steps"]]
            assert recall["values"] == [step / 2 for step in loss["steps"]]
            assert set(run["results"]) >= {f"at-{step}" for step in range(0, completed + 1, 50)}
        assert len(service.get("/projects/main/experiments/faults/runs")["rows"]) == 2
        service.close()
    finally:
        for trainer in trainers:
            trainer.kill()
            trainer.wait()
        stop_sender(root)
        control.down(home)
