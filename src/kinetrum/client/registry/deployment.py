"""What was fetched, and the folder in which a model's version is deployed: whole, or as it was before.

A version comes into a new folder beside the one that is there, is verified, and takes its place in one step; the note
`kinetrum-version.json` beside the files says which version it is and tells the next fetch what it may take away.
"""

from __future__ import annotations

import ctypes
import errno
import hashlib
import json
import os
import re
import secrets
import shutil
import sys
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import asdict, dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, overload

from kinetrum import locks
from kinetrum.core.base.errors import Conflict, InvalidInput
from kinetrum.core.base.values import JsonObject

if TYPE_CHECKING:
    from kinetrum.client.transport import answers

NOTE = "kinetrum-version.json"
_EXCHANGE = 2
Bring = Callable[[Path], list[Path]]
"""Brings a version's files, verified, below a folder and returns their paths."""


@dataclass(frozen=True, repr=False)
class Fetched(Sequence[Path]):
    """What was fetched: the paths of its files, which it is a sequence of, and what they are.

    `reference` names it by number (`frost-alarm@5`, `nights@3`, `frost-alarm/42`). Of a model's version also `model`,
    `version` (its number), `digest` (`sha256:…` of its files), `stage` (the one it was asked for by, else None) and
    `warning` (what is wrong with it, None where nothing is). `folder` holds the files.
    """

    paths: tuple[Path, ...]
    reference: str
    folder: Path
    project: str | None = None
    model: str | None = None
    version: int | None = None
    digest: str | None = None
    stage: str | None = None
    warning: str | None = None

    def __len__(self) -> int:
        return len(self.paths)

    @overload
    def __getitem__(self, at: int) -> Path: ...
    @overload
    def __getitem__(self, at: slice) -> Sequence[Path]: ...
    def __getitem__(self, at: int | slice) -> Path | Sequence[Path]:
        return self.paths[at]

    def __repr__(self) -> str:
        count = f"{len(self.paths)} {'file' if len(self.paths) == 1 else 'files'}"
        return f"<{self.reference}: {count} in {self.folder}{f'; {self.warning}' if self.warning else ''}>"

    def to_json(self) -> dict[str, object]:
        """Return it as JSON holds it."""
        return {**asdict(self), "paths": [str(path) for path in self.paths], "folder": str(self.folder)}


@dataclass(frozen=True)
class Deployed:
    """A version to be laid out in a folder: its files (path, size, sha256) and what the note says of it."""

    files: Sequence[answers.FileEntry]
    about: dict[str, object] = field(default_factory=dict)

    def note(self) -> str:
        """Return the note that lies beside the files."""
        listed = [{name: entry[name] for name in ("path", "size", "sha256")} for entry in self.files]
        fetched_at = datetime.now(UTC).isoformat(timespec="seconds")
        return json.dumps({**self.about, "fetched_at": fetched_at, "files": listed}, indent=2) + "\n"


def check_files(files: Sequence[answers.FileEntry]) -> None:
    """Refuse a version that has a file where the note is to lie."""
    if any(entry["path"] == NOTE for entry in files):
        raise Conflict(f"The version has a file named {NOTE}, which fetching writes itself.", field="path")


def lay_out(version: Deployed, to: Path, bring: Bring, keep: int) -> list[Path]:
    """Put a version in the place of what an earlier fetch laid out in a folder; `keep` so many earlier ones beside it.

    Whoever reads the folder sees the one or the other, whole. Raises Conflict, and changes nothing, where the folder
    holds what no fetch put there.
    """
    if keep < 0:
        raise InvalidInput("Zero or more earlier versions are kept.", field="keep")
    check_files(version.files)
    target = to.absolute()
    before = _earlier(target)
    if before is not None and _is_there(target, before, version):
        return [target / entry["path"] for entry in version.files]
    target.parent.mkdir(parents=True, exist_ok=True)
    with _folder_beside(target) as fresh:
        bring(fresh)
        _write_note(fresh, version)
        _sync(fresh)
        _put_away(_take_place(fresh, target), target, keep)
    _sync(target.parent)
    return [target / entry["path"] for entry in version.files]


def lay_over(version: Deployed, to: Path, bring: Bring) -> list[Path]:
    """Write a version's files into a folder one by one, each whole, and take away those of the version before.

    What else is in the folder stays.
    """
    check_files(version.files)
    before = _read_note(to) or {}
    paths = bring(to)
    wanted = {entry["path"] for entry in version.files}
    for entry in before.get("files", []):
        if entry["path"] not in wanted and (to / entry["path"]).resolve().is_relative_to(to.resolve()):
            (to / entry["path"]).unlink(missing_ok=True)
    _write_note(to, version)
    return paths


def _read_note(folder: Path) -> JsonObject | None:
    try:
        note = json.loads((folder / NOTE).read_text("utf-8"))
    except (OSError, ValueError):
        return None
    files = note.get("files") if isinstance(note, dict) else None
    known = isinstance(files, list) and all(isinstance(one, dict) and isinstance(one.get("path"), str) for one in files)
    return note if known else None


def _write_note(folder: Path, version: Deployed) -> None:
    part = folder / f".{NOTE}.{secrets.token_hex(4)}"
    part.write_text(version.note(), encoding="utf-8")
    os.replace(part, folder / NOTE)


def _earlier(target: Path) -> dict[str, object] | None:
    """Return the note of what an earlier fetch laid out; None for a folder that is not there or empty."""
    if not target.exists() and not target.is_symlink():
        return None
    if target.is_symlink() or not target.is_dir():
        raise Conflict(f"{target} is not a folder; choose another place for the files.", field="output")
    names = {str(path.relative_to(target)) for path in target.rglob("*") if not path.is_dir()}
    if not names:
        return None
    note = _read_note(target)
    foreign = sorted(names - {NOTE} - {entry["path"] for entry in (note or {"files": []})["files"]})
    if note is None or foreign:
        what = f"{', '.join(foreign[:3])}{f' and {len(foreign) - 3} more' if len(foreign) > 3 else ''}"
        raise Conflict(
            f"{target} holds what no fetch of a version put there ({what}). Choose a folder for the version alone, or "
            "replace the files in place (--replace, replace=True), which leaves the others.",
            field="output",
        )
    return note


def _is_there(target: Path, before: JsonObject, version: Deployed) -> bool:
    """Tell whether exactly these files lie there already, unharmed, as this version."""
    changed = any(before.get(name) != value for name, value in version.about.items() if name != "warning")
    if changed:
        return False
    if {entry["path"] for entry in before["files"]} != {entry["path"] for entry in version.files}:
        return False
    return all(_has(target / entry["path"], entry) for entry in version.files)


def _has(path: Path, entry: answers.FileEntry) -> bool:
    if not path.is_file() or path.stat().st_size != entry["size"]:
        return False
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest() == str(entry["sha256"])


@contextmanager
def _folder_beside(target: Path) -> Iterator[Path]:
    """Yield a new folder beside another; what processes that ended left there is taken away."""
    for left in target.parent.glob(f".{target.name}.*.fetching"):
        if not locks.is_held(left / ".lock"):
            shutil.rmtree(left, ignore_errors=True)
    new = target.parent / f".{target.name}.{secrets.token_hex(6)}.new"
    new.mkdir()
    lock = locks.take(new / ".lock")
    # It has the name that others look for, and take away where no process holds it, only once it is held.
    room = new.rename(new.with_suffix(".fetching"))
    try:
        fresh = room / "files"
        fresh.mkdir()
        yield fresh
    finally:
        shutil.rmtree(room, ignore_errors=True)
        if lock is not None:
            os.close(lock)


def _take_place(fresh: Path, target: Path) -> Path | None:
    """Put a folder in another's place; returns where the other one is now, None where there was none.

    A folder is never put over one that holds something, so another fetch that is quicker makes this one look again.
    """
    while True:
        if target.exists():
            away = _exchange(fresh, target)
            if away is not None:
                return away
        elif _rename(fresh, target):
            return None


def _exchange(fresh: Path, target: Path) -> Path | None:
    """Exchange two folders in one step, where the system has one; returns where the other one is now.

    None where another fetch took the place, or took away what was there, in the meantime.
    """
    if sys.platform == "linux":
        rename = getattr(ctypes.CDLL(None, use_errno=True), "renameat2", None)
        # -100: both paths are taken as they are.
        if rename is not None and not rename(-100, os.fsencode(fresh), -100, os.fsencode(target), _EXCHANGE):
            return fresh
    # Two steps: for a moment the folder is not there, and it is never half of one version and half of another.
    away = fresh.with_name(f"before-{secrets.token_hex(4)}")
    try:
        os.rename(target, away)
    except FileNotFoundError:
        return None
    return away if _rename(fresh, target) else None


def _rename(folder: Path, place: Path) -> bool:
    """Rename a folder; False where the place is taken."""
    try:
        os.rename(folder, place)
    except OSError as error:
        if error.errno not in (errno.ENOTEMPTY, errno.EEXIST):
            raise
        return False
    return True


def _put_away(away: Path | None, target: Path, keep: int) -> None:
    """Keep what stood there beside the folder, and no more than `keep` such folders; the latest stay."""
    if away is not None and keep and _read_note(away):
        number = max((number for number, _ in _kept(target)), default=0) + 1
        while not _rename(away, target.with_name(f"{target.name}.earlier-{number}")):
            number += 1
    puts = _kept(target)
    for _, path in puts[: max(0, len(puts) - keep)]:
        if _read_note(path) is not None:
            shutil.rmtree(path, ignore_errors=True)


def _kept(target: Path) -> list[tuple[int, Path]]:
    """List the earlier versions that are kept beside a folder, by number, the latest last."""
    name = re.compile(re.escape(target.name) + r"\.earlier-(\d+)")
    places = ((name.fullmatch(path.name), path) for path in target.parent.iterdir())
    return sorted((int(match[1]), path) for match, path in places if match and path.is_dir())


def _sync(folder: Path) -> None:
    """Have names in a folder reach the disk."""
    handle = os.open(folder, os.O_RDONLY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)
