"""`python -m benchmarks`: measure side by side in one run, on an instance of its own, and print a report."""

from __future__ import annotations

import os
import platform
import shutil
import sys
import tempfile
from pathlib import Path

from benchmarks.comparing import comparing
from benchmarks.console_charts import console_charts
from benchmarks.console_table import console_table
from benchmarks.consoles import consoles
from benchmarks.curves import curves, steady
from benchmarks.files import difference, files, large, lineage, small
from benchmarks.fresh_reads import fresh_reads
from benchmarks.hostile_bodies import hostile_bodies
from benchmarks.measuring import Ratio
from benchmarks.output import output
from benchmarks.promoting import promoting
from benchmarks.recording import measure_call, recording
from benchmarks.registry import registry
from benchmarks.run_table import run_table
from benchmarks.shells import shells
from benchmarks.starting import starting
from benchmarks.statements import as_text_or_built
from benchmarks.training import SlowService, loop_of_steps, memory_away
from kinetrum.instance import control
from kinetrum.instance.mariadb import DATABASE, SERVICE
from kinetrum.instance.settings import Home
from kinetrum.storage.db.database import DatabaseAddress, connect, disconnect


def slow_service() -> list[Ratio]:
    """Measure while the service takes two seconds to refuse."""
    with SlowService() as address:
        return measure_call("service slow", address)


def main() -> None:
    """Print medians with their spread; with names of parts, of those alone."""
    folder = Path(tempfile.mkdtemp(prefix="kt-"))
    home = Home(folder / "i")
    url = control.up(home, 0)["url"]
    token = home.token.read_text().strip()
    os.environ |= {
        "KINETRUM_URL": url,
        "KINETRUM_TOKEN": token,
        "KINETRUM_SPOOL": str(folder / "spool"),
        "KINETRUM_CONNECTIONS": str(folder / "connections.json"),
    }
    os.environ["KINETRUM_BENCH_HOME"] = str(home.folder)
    os.environ.pop("KINETRUM_PROJECT", None)
    # Programs start as they do where they are installed: with compiled modules beside the source.
    os.environ.pop("PYTHONDONTWRITEBYTECODE", None)
    print(f"{platform.machine()}, {os.cpu_count()} cores, Python {platform.python_version()}; pairs taken in turn\n")
    try:
        port = next(line[5:] for line in (home.folder / "mariadb.cnf").read_text().splitlines() if line[:5] == "port=")
        connect(DatabaseAddress("127.0.0.1", int(port), SERVICE, home.secret("database_service"), DATABASE), 4)
        parts = {
            "starting": starting,
            "hostile_bodies": hostile_bodies,
            "shells": shells,
            "loop": loop_of_steps,
            "measure": lambda: measure_call("service up", None),
            "recording": lambda: recording(home),
            "steady": lambda: steady(url, token),
            "curves": lambda: curves(home, url, token),
            "runs": lambda: run_table(url, token),
            "fresh": lambda: fresh_reads(home, url, token),
            "comparing": lambda: comparing(url, token),
            "table": lambda: console_table(url, token),
            "charts": lambda: console_charts(url, token),
            "registry": lambda: registry(url, token),
            "promoting": lambda: promoting(url, token),
            "memory": lambda: [memory_away()],
            "statements": as_text_or_built,
            "output": output,
            "large": lambda: files(url, token, large),
            "small": lambda: files(url, token, small),
            "difference": difference,
            "lineage": lambda: lineage(url, token),
            "consoles": lambda: consoles(url, token),
            # Last, since what this process recorded for services that do not answer stays undelivered.
            "slow": slow_service,
            "away": lambda: measure_call("service away", "http://127.0.0.1:1"),
        }
        for name in sys.argv[1:] or parts:
            for row in parts[name]():
                print(row if isinstance(row, str) else row.line(), flush=True)
        disconnect()
    finally:
        control.down(home)
        shutil.rmtree(folder, ignore_errors=True)


if __name__ == "__main__":
    main()
