"""What an import and a --help cost, as whole processes."""

from __future__ import annotations

import subprocess
import sys
import time
from pathlib import Path

from benchmarks.measuring import Ratio, in_turn, ratio


def _process(*arguments: str) -> float:
    started = time.perf_counter()
    subprocess.run([sys.executable, *arguments], stdout=subprocess.DEVNULL, check=True)
    return time.perf_counter() - started


def starting() -> list[Ratio]:
    """Compare with a Python that imports json."""
    rows = []
    for what, target, arguments in (
        ("import kinetrum / import json", "≤ 2x", ("-c", "import kinetrum")),
        ("kinetrum --help / import json", "≤ 3x", (str(Path(sys.executable).parent / "kinetrum"), "--help")),
    ):
        left, right = in_turn(lambda a=arguments: _process(*a), lambda: _process("-c", "import json"), 15)
        rows.append(ratio(what, target, left, right, " ".join(arguments[-1:]), "python -c 'import json'", 1e3, "ms"))
    return rows
