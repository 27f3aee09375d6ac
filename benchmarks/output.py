"""What recording printed output costs: 100,000 lines, in the process and through `kinetrum track`."""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from benchmarks.measuring import Ratio, in_turn, ratio

_RECORDED = """
import sys, kinetrum
with kinetrum.begin("benchmark-output", leave_out=["resources"] + sys.argv[1:]) as run:
    for at in range(100_000):
        print("round", at, "loss 0.31 recall 0.84")
"""
_PLAIN = """
for at in range(100_000):
    print("round", at, "loss 0.31 recall 0.84")
"""


def _seconds(*words: str, unbuffered: str = "") -> float:
    environment = os.environ | {"PYTHONUNBUFFERED": unbuffered}
    with tempfile.TemporaryFile() as out:
        started = time.perf_counter()
        subprocess.run(words, stdout=out, stderr=subprocess.DEVNULL, check=True, env=environment)
        return time.perf_counter() - started


def output() -> list[Ratio]:
    """Whole processes, their output in a file; both sides begin a run in the first pair, only one in the second."""
    kinetrum = str(Path(sys.executable).parent / "kinetrum")
    rows = []
    for how, flag, pairs in (("as Python does", "", 15), ("unbuffered (-u)", "1", 7)):
        left, right = in_turn(
            lambda flag=flag: _seconds(sys.executable, "-c", _RECORDED, unbuffered=flag),
            lambda flag=flag: _seconds(sys.executable, "-c", _RECORDED, "output", unbuffered=flag),
            pairs,
        )
        rows.append(
            ratio(
                f"100,000 printed lines, {how}: caught / left out",
                "≤ 1.2x",
                left,
                right,
                "caught",
                "left out",
                1e3,
                "ms",
            )
        )
    # At the end the command waits until everything is delivered, to print the reference; that is part of it.
    left, right = in_turn(
        lambda: _seconds(kinetrum, "track", "-e", "benchmark-output", "--", sys.executable, "-c", _PLAIN),
        lambda: _seconds(sys.executable, "-c", _PLAIN),
        7,
    )
    rows.append(
        ratio(
            "kinetrum track -- a script of 100,000 lines / the script",
            "-",
            left,
            right,
            "tracked, delivered and named",
            "plain",
            1e3,
            "ms",
        )
    )
    return rows
