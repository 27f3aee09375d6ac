"""What the service refused for good: set aside with the reason, looked at, and sent again when told."""

from __future__ import annotations

import json
import secrets
import shutil
from pathlib import Path
from typing import TYPE_CHECKING

from kinetrum.core.base.values import JsonObject

if TYPE_CHECKING:
    from kinetrum.client.sender.operations import RunCalls

_FOLDER = "set-aside"
# Their names begin with a run's id; what they came with (list-…, plot-…, files-…) lies beside them.
_RECORDS = "[0-9a-f]*-*.json"


def keep_refused(root: Path, record: dict[str, object], reason: str) -> None:
    """Set a record aside; the run's id begins the file's name."""
    folder = root / _FOLDER
    folder.mkdir(mode=0o700, exist_ok=True)
    text = json.dumps({"reason": reason, "record": record}, allow_nan=True)
    (folder / f"{record['run']}-{secrets.token_hex(8)}.json").write_text(text)


def keep_files(root: Path, folder: Path, record: JsonObject) -> None:
    """Keep copies and lists of files that a refused record came with: the folder they lie in goes with its writer."""
    listed = record.get("files")
    for name in (record.get("folder"), record.get("data"), listed if isinstance(listed, str) else None):
        if name and (folder / name).exists() and folder != root / _FOLDER:
            (root / _FOLDER).mkdir(mode=0o700, exist_ok=True)
            shutil.move(folder / name, root / _FOLDER / name)


def set_aside(root: Path, run: str | None = None) -> list[JsonObject]:
    """List the records that were refused, of one run if named, each with its reason."""
    pattern = f"{run}-*.json" if run else _RECORDS
    return [json.loads(path.read_text()) for path in sorted((root / _FOLDER).glob(pattern))]


def send_again(root: Path, calls: RunCalls) -> tuple[int, int]:
    """Send what was refused once more; returns how many were taken and how many were refused again.

    For after what was missing is there: a role was given, a project made. Raises Unavailable where the
    service does not answer; what was not sent stays aside.
    """
    taken = refused = 0
    for path in sorted((root / _FOLDER).glob(_RECORDS)):
        record = json.loads(path.read_text())["record"]
        if "to" not in record:
            refused += 1
            continue
        before = len(set_aside(root))
        calls.deliver(record, root / _FOLDER)
        path.unlink()
        if len(set_aside(root)) == before:
            refused += 1
        else:
            taken += 1
    return taken, refused


def discard(root: Path) -> int:
    """Delete what was set aside; returns how many records that were."""
    records = list((root / _FOLDER).glob(_RECORDS))
    shutil.rmtree(root / _FOLDER, ignore_errors=True)
    return len(records)
