"""Start the stand-ins unless they run, and tell where they are."""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path

from kinetrum.demo.scenario import ELSEWHERE
from kinetrum.instance.settings import Home, write_private

CLIENT, SECRET = "kinetrum", "stand-in"


def is_alive(pid_file: Path, module: bytes) -> bool:
    """Tell whether the process that a file names runs a module."""
    try:
        with open(f"/proc/{int(pid_file.read_text())}/cmdline", "rb") as file:
            return module in file.read()
    except (OSError, ValueError):
        return False


def start_object_store(home: Home) -> str:
    """Start the stand-in for the object store where the stations' readings lie; returns its address."""
    root = home.folder / "object-store"
    root.mkdir(exist_ok=True)
    return _start(home, "object-store", root)


def start_provider(home: Home) -> dict[str, str]:
    """Start the provider and return the settings with which the service knows it.

    Whoever comes to it chooses who they are, without a password. So it is started only beside an instance that the demo
    began; of one that was there before nothing is returned.
    """
    if home.database.exists() and not (home.folder / "sign-in-provider.txt").exists():
        return {}
    home.prepare()
    people = home.folder / "people-elsewhere.json"
    write_private(people, json.dumps([ELSEWHERE]))
    return {
        "KINETRUM_OIDC_ISSUER": _start(home, "sign-in-provider", people),
        "KINETRUM_OIDC_CLIENT": CLIENT,
        "KINETRUM_OIDC_SECRET": SECRET,
        "KINETRUM_OIDC_LABEL": "Sign in with Kestrel Fold",
    }


def _start(home: Home, name: str, serves: Path) -> str:
    """Start a stand-in unless it runs; returns its address."""
    module = f"kinetrum.demo.stand_ins.{name.replace('-', '_')}"
    pid_file, address_file = home.folder / f"{name}.pid", home.folder / f"{name}.txt"
    if not is_alive(pid_file, module.encode()):
        # The address of before, where it is free: what was recorded there can be found there again.
        port = address_file.read_text().strip().rpartition(":")[2] if address_file.exists() else "0"
        with home.log.open("ab") as log:
            process = subprocess.Popen(
                [sys.executable, "-m", module, str(serves), port],
                stdin=subprocess.DEVNULL,
                stdout=subprocess.PIPE,
                # It goes on after whoever started it, and must not hold that one's streams open.
                stderr=log,
                start_new_session=True,
                text=True,
            )
        if process.stdout is not None:
            address_file.write_text(process.stdout.readline())
            process.stdout.close()
        pid_file.write_text(str(process.pid))
        process.returncode = 0
    return address_file.read_text().strip()
