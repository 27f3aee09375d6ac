"""What goes wrong in a real team, told by real processes: a machine that goes dark, two workers of two minds."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import warnings
from pathlib import Path

import kinetrum
from kinetrum.demo.scenario import FIRST, PROJECT
from kinetrum.demo.training import FROST_GOALS, Plan, _rounds, _scores, _split
from kinetrum.demo.weather import Nights, read_nights

CUT_OFF = Plan(
    "cut off by a thunderstorm",
    {"learner": "logistic", "rate": 0.4, "rounds": 30, "weight": 2, "threshold": 0.5},
    FIRST,
    "tomas",
)
TWO_MINDS = Plan(
    "two workers, two thresholds",
    {"learner": "logistic", "rate": 0.4, "rounds": 20, "weight": 2, "threshold": 0.5},
    FIRST,
    "tomas",
)


def run_away_from(folder: Path) -> None:
    """Train, and be gone in the middle without a word: as when the power fails."""
    train, held_out = _split(read_nights(folder / CUT_OFF.data))
    run = kinetrum.begin("frost-alarm", name=CUT_OFF.name, params=CUT_OFF.params, seed=0, goals=FROST_GOALS, lease_s=10)
    for step, chance in _rounds(CUT_OFF, train, held_out, []):
        run.measure(_scores(held_out, chance, CUT_OFF.params["threshold"]), step=step)
        if step == 17:
            os.kill(os.getpid(), signal.SIGKILL)


def lose_one(folder: Path) -> None:
    """Let a training process of its own go dark; the service finds out by itself."""
    subprocess.run([sys.executable, "-m", "kinetrum.demo.mishaps", str(folder)], check=False)


def disagree(nights: Nights) -> None:
    """Record one run from two writers, of which one set a parameter differently: a problem of the run."""
    train, held_out = _split(nights)
    with (
        warnings.catch_warnings(),
        kinetrum.begin("frost-alarm", name=TWO_MINDS.name, params=TWO_MINDS.params, seed=0, goals=FROST_GOALS) as run,
    ):
        worker = kinetrum.attach(run.id, experiment="frost-alarm", project=PROJECT)
        worker.set(threshold=0.4)
        for step, chance in _rounds(TWO_MINDS, train, held_out, []):
            scores = _scores(held_out, chance, 0.5)
            run.measure(scores, step=step)
            worker.measure({"worker/recall": _scores(held_out, chance, 0.4)["recall"]}, step=step)
        run.result(scores)
        run.flush()
        # Nobody who starts the demo is to be startled by what it shows on purpose.
        warnings.simplefilter("ignore")


if __name__ == "__main__":
    run_away_from(Path(sys.argv[1]))
