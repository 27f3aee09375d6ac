"""`python -m kinetrum.demo URL`: seed the demo on the private instance and leave a slow training running."""

from __future__ import annotations

import os
import subprocess
import sys
from typing import TYPE_CHECKING

from kinetrum.core.base.errors import KinetrumError
from kinetrum.demo.stand_ins.starting import is_alive, start_object_store
from kinetrum.instance.settings import Home, default_home

if TYPE_CHECKING:
    from kinetrum.demo.seeding import Demo


def _start_slow_training(home: Home, demo: Demo) -> None:
    pid_file = home.folder / "background.pid"
    if is_alive(pid_file, b"kinetrum.demo.slow"):
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
        from kinetrum.demo.seeding import (
            bring_earlier_weeks,
            prepare,
            seed,
            sign_somebody_in_elsewhere,
            tell_the_registry,
        )
    except ModuleNotFoundError as error:
        print(f"The demo trains with {error.name}; install it: pip install 'kinetrum[demo]'.", file=sys.stderr)  # noqa: T201
        return 1
    try:
        demo = prepare(home, sys.argv[1], store := start_object_store(home))
        bring_earlier_weeks(demo)
        seed(demo)
        tell_the_registry(demo)
        sign_somebody_in_elsewhere(demo)
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
