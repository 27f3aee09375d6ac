"""What recording from a shell costs: a command for each measurement, or a line, in the processor's time."""

from __future__ import annotations

import os
import resource
import subprocess
import sys
from pathlib import Path

from benchmarks.measuring import Ratio, in_turn, ratio

LINES = 5_000
_COMMAND = str(Path(sys.executable).parent / "kinetrum")


def _processor(words: list[str], lines: str | None = None) -> float:
    """Run a program and return the processor's time that it took, which a busy machine does not blur."""
    before = resource.getrusage(resource.RUSAGE_CHILDREN)
    subprocess.run(words, input=lines, text=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, check=True)
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    return after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime


def _lines(count: int) -> float:
    text = "".join(f"measure loss={step / 7} step={step}\n" for step in range(count))
    return _processor([_COMMAND, "shell-recorder", "-e", "shells", "--leave-out", "all"], text)


def shells() -> list[Ratio]:
    """Compare a shell's commands, and a line of its recorder, with an interpreter that does nothing."""
    begun = subprocess.run([_COMMAND, "begin", "shells"], capture_output=True, text=True, check=True)
    os.environ["KINETRUM_RUN"] = begun.stdout.strip()
    _processor([_COMMAND, "measure", "loss=1", "--step", "0"])
    _processor([_COMMAND, "set", 'first="in the other form"'])

    def nothing() -> float:
        return _processor([sys.executable, "-c", "pass"])

    numbers = iter(range(1_000))
    commands = {
        "begin": lambda: [_COMMAND, "begin", "shells", "--set", "depth=6"],
        "measure": lambda: [_COMMAND, "measure", "loss=1", "--step", str(next(numbers))],
        "set": lambda: [_COMMAND, "set", f"depth{next(numbers)}=6"],
        "result": lambda: [_COMMAND, "result", "recall=0.9"],
        "set, another form": lambda: [_COMMAND, "set", f'depth{next(numbers)}="6"'],
    }
    rows = []
    for name, words in commands.items():
        command, none = in_turn(lambda words=words: _processor(words()), nothing, 15)
        title = f"processor: kinetrum {name} / python -c pass"
        rows.append(ratio(title, "≤ 3x", command, none, "a command", "pass", 1e3, "ms"))
    line, none = in_turn(lambda: (_lines(LINES) - _lines(0)) / LINES, nothing, 5)
    rows.append(
        ratio("processor: a line of shell-recorder / python -c pass", "≤ 3x", line, none, "a line", "pass", 1e3, "ms")
    )
    subprocess.run([_COMMAND, "end"], check=True)
    del os.environ["KINETRUM_RUN"]
    return rows
