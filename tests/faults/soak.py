"""`python -m tests.faults.soak --faults 100`: many faults, in rounds, until something is lost or all is well."""

from __future__ import annotations

import argparse
import os
import shutil
import tempfile
import time
from collections import Counter
from pathlib import Path

from tests.faults.world import World

ROUND = 25


def main() -> None:
    """Run and report; a failed check raises."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--faults", type=int, default=100)
    parser.add_argument("--seed", type=int, default=int(time.time()))
    given = parser.parse_args()
    for key in list(os.environ):
        if key.startswith("KINETRUM_"):
            del os.environ[key]
    happened: Counter[str] = Counter()
    calls = 0
    print(f"{given.faults} faults from seed {given.seed}", flush=True)
    for number in range(-(-given.faults // ROUND)):
        folder = Path(tempfile.mkdtemp(prefix="kt-"))
        os.environ |= {"KINETRUM_HOME": str(folder / "none"), "KINETRUM_CONNECTIONS": str(folder / "connections.json")}
        world = World(folder, given.seed + number, trainers=3)
        try:
            world.suffer(min(ROUND, given.faults - sum(happened.values())), (0.1, 1.2))
            world.settle()
            found = world.check()
        finally:
            world.stop()
        happened += world.happened
        calls += found
        shutil.rmtree(folder, ignore_errors=True)
        print(f"round {number + 1}: {sum(happened.values())} faults, {calls:,} records all there, once", flush=True)
    print(", ".join(f"{count} x {what}" for what, count in sorted(happened.items())))
    print(f"Nothing was lost and nothing doubled: {calls:,} records after {sum(happened.values())} faults.")


if __name__ == "__main__":
    main()
