"""Files are delivered beside everything else: they may take long, and nobody who measures waits for them.

The delivery of a writer's records puts inputs and outputs into the folder `later` beside the segments, in order, and
goes on; a thread of the sender delivers them, each writer's in order. What was delivered is removed from there.
"""

from __future__ import annotations

import json
import os
from pathlib import Path

from kinetrum.core.base.values import JsonObject

FILE_RECORDS = frozenset({"use", "used", "generated"})


def put_later(folder: Path, name: str, data: dict[str, object]) -> None:
    """Keep a record of files for later; the same name again changes nothing."""
    later = folder / "later"
    later.mkdir(mode=0o700, exist_ok=True)
    part = later / f"{name}.part"
    part.write_text(json.dumps(data, allow_nan=True))
    os.replace(part, later / f"{name}.json")


def waiting_files(folder: Path) -> list[Path]:
    """Return a writer's records of files that wait, in order."""
    return sorted((folder / "later").glob("*.json"))


def later_name(segment: int, start: int) -> str:
    """Return the name of a record of files, by the place in its writer's segments that it came from."""
    return f"{segment:06d}-{start:012d}"


def read_later(path: Path) -> JsonObject | None:
    """Return a waiting record; None where it was delivered meanwhile."""
    try:
        record: dict[str, object] = json.loads(path.read_text())
    except FileNotFoundError:
        return None
    return record
