"""Inputs and outputs on their way into the spool: fingerprinted where they lie, or copied at the call."""

from __future__ import annotations

import os
import shutil
from collections.abc import Sequence
from pathlib import Path

from kinetrum.client.copies import Found, copy_in, find_files
from kinetrum.client.recorder import Recorder
from kinetrum.client.spool import new_id
from kinetrum.core.errors import InvalidInput
from kinetrum.core.refs import VersionRef, parse_ref
from kinetrum.core.values import check_name


def record_used(
    recorder: Recorder, what: str | os.PathLike[str], *, name: str | None, role: str | None, kind: str,
    activity: str | None,
) -> None:  # fmt: skip
    """Record a file, a folder, or a version (`nights@3`) as an input."""
    if isinstance(what, str) and "@" in what and not Path(what).exists():
        ref = parse_ref(what)
        if not isinstance(ref, VersionRef) or ref.path:
            raise InvalidInput(f"{what!r} names no artifact version; write NAME@NUMBER.", field="what")
        recorder.write("use", id=new_id(), at=recorder.writer.now(), artifact=what, role=role, activity=activity)
        return
    address = str(Path(what).absolute())
    record_used_files(recorder, find_files(what), artifact_name(name, what), role, kind, activity, address)


def record_used_files(
    recorder: Recorder, files: Sequence[Found], name: str, role: str | None, kind: str, activity: str | None,
    address: str,
) -> None:  # fmt: skip
    """Record files together as one input; the sender reads them."""
    stats = [[str(file.source), file.path, *_seen(file.source)] for file in files]
    recorder.write(
        "used", id=new_id(), at=recorder.writer.now(), name=name, kind=kind, role=role, address=address, files=stats,
        activity=activity,
    )  # fmt: skip


def record_generated(
    recorder: Recorder, path: str | os.PathLike[str], *, name: str | None, kind: str, step: int | None,
    activity: str | None,
) -> None:  # fmt: skip
    """Record a file or folder as an output, copied now."""
    label = artifact_name(name, path)
    record_generated_files(recorder, find_files(path), label, kind, step, activity)


def record_generated_files(
    recorder: Recorder, found: Sequence[Found], name: str, kind: str, step: int | None, activity: str | None
) -> None:
    """Record files together as one output, copied now."""
    made = new_id()
    folder = recorder.writer.folder / f"files-{made}"
    folder.mkdir(mode=0o700)
    try:
        copies = [copy_in(file, folder, at) for at, file in enumerate(found)]
    except BaseException:
        shutil.rmtree(folder, ignore_errors=True)
        raise
    recorder.write(
        "generated", id=made, at=recorder.writer.now(), name=name, kind=kind, step=step, folder=folder.name,
        activity=activity, files=[[copy.name, entry.path, entry.size, entry.sha256] for entry, copy in copies],
    )  # fmt: skip


def _seen(source: Path) -> tuple[int, int]:
    found = source.stat()
    return found.st_size, found.st_mtime_ns


def artifact_name(name: str | None, path: str | os.PathLike[str]) -> str:
    """Return the name given, else one made of a file's name; raises InvalidInput where that gives none."""
    if name is not None:
        return check_name(name, "artifact")
    stem = Path(path).name.split(".")[0].lower().replace(" ", "-")
    try:
        return check_name(stem, "artifact")
    except InvalidInput:
        raise InvalidInput(f"{Path(path).name!r} gives no name for an artifact; add name=….", field="name") from None
