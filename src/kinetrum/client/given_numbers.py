"""Numbers that the service gave to runs, on their way back to the process that recorded them."""

from __future__ import annotations

import contextlib
import json
import os
from pathlib import Path


def _file(folder: Path, run: str) -> Path:
    return folder / f"number-{run}.json"


def keep_number(folder: Path, run: str, number: int, reference: str) -> None:
    """Keep a run's number and reference in its writer's folder; where that fails, the process does not hear of it."""
    path = _file(folder, run)
    part = path.with_suffix(".part")
    with contextlib.suppress(OSError):
        part.write_text(json.dumps([number, reference]))
        os.replace(part, path)


def read_number(folder: Path, run: str) -> tuple[int, str] | None:
    """Return a run's number and reference; None while the service has not answered."""
    try:
        number, reference = json.loads(_file(folder, run).read_text())
    except (OSError, ValueError):
        return None
    return int(number), str(reference)
