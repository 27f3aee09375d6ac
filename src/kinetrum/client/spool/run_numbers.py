"""Numbers and names that the service gave to runs, on their way back to the process that recorded them."""

from __future__ import annotations

import contextlib
import json
import os
from pathlib import Path


def _file(folder: Path, run: str) -> Path:
    return folder / f"number-{run}.json"


def keep_number(folder: Path, run: str, number: int, reference: str, name: str | None) -> None:
    """Keep what a run was given in its writer's folder; where that fails, the process does not hear of it."""
    path = _file(folder, run)
    part = path.with_suffix(".part")
    with contextlib.suppress(OSError):
        part.write_text(json.dumps([number, reference, name]))
        os.replace(part, path)


def read_number(folder: Path, run: str) -> tuple[int, str, str | None] | None:
    """Return a run's number, reference and name; None while the service has not answered."""
    try:
        # A sender of an earlier version knew no names.
        number, reference, name = [*json.loads(_file(folder, run).read_text()), None][:3]
    except (OSError, ValueError):
        return None
    return int(number), str(reference), name
