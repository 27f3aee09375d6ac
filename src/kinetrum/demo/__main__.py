"""`python -m kinetrum.demo URL`: seed the demo on the private instance and leave a slow training running."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path
from typing import TYPE_CHECKING

from kinetrum.core.base.errors import KinetrumError
from kinetrum.instance.settings import Home, default_home

if TYPE_CHECKING:
    from kinetrum.demo.seeding import Demo


def _is_alive(pid_file: Path, module: bytes) -> bool:
    try:
        with open(f"/proc/{int(pid_file.read_text())}/cmdline", "rb") as file:
            return module in file.read()
    except (OSError, ValueError):
        return False


def _start_object_store(home: Home) -> str:
    """Start the stand-in for the object store where the stations' readings lie; returns its address."""
    pid_file, address_file = home.folder / "object-store.pid", home.folder / "object-store.txt"
    if not _is_alive(pid_file, b"kinetrum.demo.object_store"):
        root = home.folder / "object-store"
        root.mkdir(exist_ok=True)
        # The address of before, where it is free: what was recorded there can be found there again.
        port = address_file.read_text().strip().rpartition(":")[2] if address_file.exists() else "0"
        process = subprocess.Popen(
            [sys.executable, "-m", "kinetrum.demo.object_store", str(root), port],
            stdin=subprocess.DEVNULL,
            stdout=subprocess.PIPE,
            start_new_session=True,
            text=True,
        )
        if process.stdout is not None:
            address_file.write_text(process.stdout.readline())
            process.stdout.close()
        pid_file.write_text(str(process.pid))
        process.returncode = 0
    return address_file.read_text().strip()


def _start_slow_training(home: Home, demo: Demo) -> None:
    pid_file = home.folder / "background.pid"
    if _is_alive(pid_file, b"kinetrum.demo.slow"):
        return
    with demo.as_person("tomas"), home.log.open("ab") as log:
        process = subprocess.Popen(
            [sys.executable, "-m", "kinetrum.demo.slow", str(demo.folder)],
            stdin=subprocess.DEVNULL,
            stdout=log,
            stderr=log,
            start_new_session=True,
            env=os.environ.copy(),
        )
    pid_file.write_text(str(process.pid))
    process.returncode = 0


def main() -> int:
    """Seed and return an exit status."""
    home = default_home()
    try:
        from kinetrum.demo.seeding import bring_earlier_weeks, prepare, seed, tell_the_registry
    except ModuleNotFoundError as error:
        print(f"The demo trains with {error.name}; install it: pip install 'kinetrum[demo]'.", file=sys.stderr)  # noqa: T201
        return 1
    try:
        demo = prepare(home, sys.argv[1], store := _start_object_store(home))
        bring_earlier_weeks(demo)
        seed(demo)
        tell_the_registry(demo)
        _start_slow_training(home, demo)
    except KinetrumError as error:
        print(f"The demo was not filled: {error}", file=sys.stderr)  # noqa: T201
        return 1
    people = home.folder / "demo-people.txt"
    print(f"The demo's people and their passwords stand in {people}")  # noqa: T201
    print(f"The demo's object store: export AWS_ENDPOINT_URL={store}")  # noqa: T201
    return 0


if __name__ == "__main__":
    sys.exit(main())
