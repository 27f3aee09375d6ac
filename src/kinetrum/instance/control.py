"""Start, stop and ask about a private instance: `python -m kinetrum.instance.control up|down|status`.

The command line runs this as a process of its own, so that a training machine needs no service packages.
One line of JSON on standard output is the answer; exit status 1 says that it failed.
"""

from __future__ import annotations

import argparse
import json
import os
import signal
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

from kinetrum import locks
from kinetrum.core.base.errors import KinetrumError, Unavailable
from kinetrum.instance.keeper import ANOTHER_RUNS
from kinetrum.instance.settings import DEFAULT_PORT, Home, default_home

_UP_S, _DOWN_S = 120.0, 120.0


def is_running(home: Home) -> bool:
    """Tell whether anything of the instance runs."""
    return locks.is_held(home.lock)


def status(home: Home) -> dict[str, Any]:
    """Describe the instance: running, address, folder, where the first password stands."""
    state = home.read_state() if is_running(home) else None
    return {
        "running": bool(state and "url" in state),
        "url": (state or {}).get("url"),
        "folder": str(home.folder),
        "log": str(home.log),
        "first_account": str(home.first_password) if home.first_password.exists() else None,
    }


def up(home: Home, port: int) -> dict[str, Any]:
    """Start the instance unless it runs; returns its status, `started`, and `port_taken` where another was given."""
    if is_running(home) and home.lock.read_text():
        return _wait(home, None) | {"started": False, "port_taken": None}
    home.prepare()
    home.state.unlink(missing_ok=True)
    with home.log.open("ab") as log:
        keeper = subprocess.Popen(
            [sys.executable, "-m", "kinetrum.instance.keeper", str(home.folder), str(port)],
            stdin=subprocess.DEVNULL,
            stdout=log,
            stderr=log,
            start_new_session=True,
        )
    instance_state = _wait(home, keeper)
    keeper.returncode = 0  # It goes on after this process, which does not wait for it.
    state = home.read_state() or {}
    taken = port if port and state.get("port") != port else None
    return instance_state | {"started": True, "port_taken": taken}


def _wait(home: Home, keeper: subprocess.Popen[bytes] | None) -> dict[str, Any]:
    give_up = time.monotonic() + _UP_S
    while time.monotonic() < give_up:
        state = home.read_state()
        if state and "error" in state:
            raise Unavailable(str(state["error"]))
        if state and "url" in state:
            return status(home)
        if keeper is not None and keeper.poll() == ANOTHER_RUNS:
            keeper = None  # Somebody else was quicker; theirs is the one to wait for.
        if keeper is not None and keeper.poll() is not None:
            raise Unavailable(f"The instance did not start; {home.log} says why.")
        time.sleep(0.05)
    raise Unavailable(f"The instance was not ready within {_UP_S:.0f} s; {home.log} says more.")


def down(home: Home) -> dict[str, Any]:
    """Stop the instance and wait until everything has ended."""
    _stop_background(home)
    if not is_running(home):
        return {"stopped": False, "folder": str(home.folder)}
    text = home.lock.read_text()
    if not text.isdigit():
        raise Unavailable(f"Something holds {home.lock}, but no keeper told its process; stop it by hand.")
    os.kill(int(text), signal.SIGTERM)
    give_up = time.monotonic() + _DOWN_S
    while is_running(home):
        if time.monotonic() > give_up:
            raise Unavailable(f"The instance did not end within {_DOWN_S:.0f} s; {home.log} says more.")
        time.sleep(0.05)
    home.state.unlink(missing_ok=True)
    return {"stopped": True, "folder": str(home.folder)}


def _stop_background(home: Home) -> None:
    """Stop what the demo left running beside the instance, a training while the service can still be told."""
    if _stop_process(home, home.folder / "background.pid"):
        # A moment for the sender, which looks every fifth of a second, to tell that it stopped.
        time.sleep(0.6)
    for stand_in in ("object-store", "sign-in-provider"):
        _stop_process(home, home.folder / f"{stand_in}.pid")


def _stop_process(home: Home, pid_file: Path) -> bool:
    try:
        pid = int(pid_file.read_text())
        mine = str(home.folder).encode() in Path(f"/proc/{pid}/cmdline").read_bytes()
    except (OSError, ValueError):
        return False
    pid_file.unlink(missing_ok=True)
    if mine:
        os.kill(pid, signal.SIGTERM)
        give_up = time.monotonic() + 5
        while time.monotonic() < give_up and Path(f"/proc/{pid}").exists():
            time.sleep(0.05)
    return mine


def main() -> int:
    """Answer one command."""
    parser = argparse.ArgumentParser(prog="python -m kinetrum.instance.control")
    parser.add_argument("command", choices=["up", "down", "status"])
    parser.add_argument("--port", type=int, default=DEFAULT_PORT)
    arguments = parser.parse_args()
    try:
        home = default_home()
        answer = {
            "up": lambda: up(home, arguments.port),
            "down": lambda: down(home),
            "status": lambda: status(home),
        }[arguments.command]()
    except KinetrumError as error:
        print(json.dumps({"error": str(error)}))  # noqa: T201
        return 1
    print(json.dumps(answer))  # noqa: T201
    return 0


if __name__ == "__main__":
    sys.exit(main())
