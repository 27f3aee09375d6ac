"""`python -m benchmarks`: measure side by side in one run, on an instance of its own, and print a report."""

from __future__ import annotations

import os
import platform
import shutil
import tempfile
from pathlib import Path

from benchmarks.recording import measure_call, recording
from benchmarks.run_table import run_table
from benchmarks.starting import starting
from kinetrum.instance import control
from kinetrum.instance.mariadb import DATABASE, SERVICE
from kinetrum.instance.settings import Home
from kinetrum.storage.database import DatabaseAddress, connect, disconnect


def main() -> None:
    """Print medians with their spread."""
    folder = Path(tempfile.mkdtemp(prefix="kt-"))
    home = Home(folder / "i")
    url = control.up(home, 0)["url"]
    token = home.token.read_text().strip()
    os.environ |= {"KINETRUM_URL": url, "KINETRUM_TOKEN": token, "KINETRUM_SPOOL": str(folder / "spool"),
                   "KINETRUM_CONNECTIONS": str(folder / "connections.json")}  # fmt: skip
    os.environ.pop("KINETRUM_PROJECT", None)
    print(f"{platform.machine()}, {os.cpu_count()} cores, Python {platform.python_version()}; pairs taken in turn\n")
    try:
        port = next(line[5:] for line in (home.folder / "mariadb.cnf").read_text().splitlines() if line[:5] == "port=")
        connect(DatabaseAddress("127.0.0.1", int(port), SERVICE, home.secret("database_service"), DATABASE), 4)
        parts = (
            starting,
            lambda: measure_call("service up", None),
            lambda: recording(home),
            lambda: run_table(url, token),
            # Last, since what this process recorded for a service that is not there stays undelivered.
            lambda: measure_call("service away", "http://127.0.0.1:1"),
        )
        for part in parts:
            for row in part():
                print(row.line(), flush=True)
        disconnect()
    finally:
        control.down(home)
        shutil.rmtree(folder, ignore_errors=True)


if __name__ == "__main__":
    main()
