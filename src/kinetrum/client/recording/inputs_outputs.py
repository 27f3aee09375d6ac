"""Inputs and outputs on their way into the spool: fingerprinted where they lie, or copied at the call."""

from __future__ import annotations

import json
import os
import shutil
import warnings
from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass, field
from pathlib import Path

from kinetrum.client.data.copies import SourceFile, copy_all, find_files
from kinetrum.client.recording.recorder import Recorder
from kinetrum.client.spool.complete_segment import new_id
from kinetrum.core.base.errors import InvalidInput, KinetrumError
from kinetrum.core.base.refs import VersionRef, parse_ref
from kinetrum.core.base.values import check_label, check_name, to_json
from kinetrum.core.registry.checkpoints import check_keep

# Longer lists of files lie in a file beside the segments.
LISTED_FROM = 2_000


@dataclass(frozen=True)
class Described:
    """What is said of an input or output: its kind, part, and metadata in the team's own words."""

    kind: str
    role: str | None = None
    step: int | None = None
    activity: str | None = None
    keep: str | None = None
    about: dict[str, object] = field(default_factory=dict)
    labels: dict[str, str] = field(default_factory=dict)


def described(
    kind: str,
    *,
    role: str | None = None,
    step: int | None = None,
    activity: str | None = None,
    keep: object = None,
    about: Mapping[str, object] | None = None,
    labels: Mapping[str, str] | None = None,
) -> Described:
    """Check what is said of an input or output; raises InvalidInput."""
    texts = {key: check_label(key, text) for key, text in (labels or {}).items()}
    try:
        known = json.loads(json.dumps(dict(about or {}), default=to_json))
    except (TypeError, ValueError) as error:
        raise InvalidInput(f"The metadata is not JSON ({error}).", field="about") from None
    return Described(kind, role, step, activity, check_keep(keep), known, texts)


def record_used(
    recorder: Recorder, what: str | os.PathLike[str], name: str | None, description: Described, upload: bool = False
) -> None:
    """Record a file, a folder, files elsewhere, or a version (`nights@3`) as an input."""
    from kinetrum.client.sender.remote_files import is_remote, shown_address

    if is_remote(what):
        if upload:
            raise InvalidInput("Files elsewhere stay there; download them and record the copy to upload it.")
        address = os.fspath(what)
        _record_elsewhere(recorder, address, artifact_name(name, shown_address(address).rstrip("/")), description)
        return
    if isinstance(what, str) and "@" in what and not Path(what).exists():
        ref = parse_ref(what)
        if not isinstance(ref, VersionRef) or ref.path:
            raise InvalidInput(f"{what!r} names no artifact version; write NAME@NUMBER.", field="what")
        recorder.write(
            "use",
            id=new_id(),
            at=recorder.writer.now(),
            artifact=what,
            role=description.role,
            activity=description.activity,
        )
        return
    address = str(Path(what).absolute())
    record_used_files(
        recorder, find_files(what), artifact_name(name, what), description, address, upload, name is not None
    )


def _record_elsewhere(recorder: Recorder, address: str, name: str, description: Described) -> None:
    from kinetrum.client.sender.remote_files import shown_address, start_reading

    uid = new_id()
    start_reading(recorder.writer.folder, uid, address)
    recorder.write(
        "used",
        id=uid,
        at=recorder.writer.now(),
        name=name,
        address=shown_address(address),
        elsewhere=True,
        upload=False,
        files=[],
        **_fields(description),
    )


def _fields(description: Described) -> dict[str, object]:
    return {key: value for key, value in asdict(description).items() if value not in (None, {})} | {
        "kind": description.kind
    }


def record_used_files(
    recorder: Recorder,
    files: Sequence[SourceFile],
    name: str,
    description: Described,
    address: str,
    upload: bool = False,
    named: bool = True,
) -> None:
    """Record files together as one input; the sender reads them, and uploads them where that is asked for.

    `named`: whether somebody chose the name; else content that a run generated under another name has that.
    """
    listed = [[str(file.source), file.path, *_seen(file.source)] for file in files]
    uid = new_id()
    recorder.write(
        "used",
        id=uid,
        at=recorder.writer.now(),
        name=name,
        named=named,
        address=address,
        upload=upload,
        files=_in_record(recorder, uid, listed),
        **_fields(description),
    )


def _in_record(recorder: Recorder, uid: str, listed: Sequence[object]) -> object:
    """Return a list of files as it stands in the record: itself, or the name of the file where it lies."""
    if len(listed) < LISTED_FROM:
        return listed
    path = recorder.writer.folder / f"list-{uid}.json"
    path.write_text(json.dumps(listed))
    return path.name


def record_generated(
    recorder: Recorder, path: str | os.PathLike[str], name: str | None, description: Described
) -> None:
    """Record a file or folder as an output, copied now."""
    label = artifact_name(name, path)
    record_generated_files(recorder, find_files(path), label, description)


def record_generated_files(recorder: Recorder, files: Sequence[SourceFile], name: str, description: Described) -> None:
    """Record files together as one output, copied now; what is too large for that is sent now from where it lies."""
    uid = new_id()
    folder = recorder.writer.folder / f"files-{uid}"
    folder.mkdir(mode=0o700)
    try:
        copies = copy_all(files, folder)
        if copies is None:
            shutil.rmtree(folder)
            listed = _send_now(recorder, files, name)
        else:
            listed = [[copy.name, *list(vars(entry).values())[:4]] for entry, copy in copies]
        recorder.write(
            "generated",
            id=uid,
            at=recorder.writer.now(),
            name=name,
            folder=folder.name,
            files=_in_record(recorder, uid, listed),
            **_fields(description),
        )
    except BaseException:
        shutil.rmtree(folder, ignore_errors=True)
        raise


def _send_now(recorder: Recorder, files: Sequence[SourceFile], name: str) -> list[list[object]]:
    """Send large files while the call waits. Where the service is away they are read where they lie, later."""
    from kinetrum.client.sender.fingerprints import Fingerprints
    from kinetrum.client.sender.routes import Routes
    from kinetrum.client.sender.uploads import upload_missing

    memory = Fingerprints()
    try:
        prints = memory.all_of([file.source for file in files])
    finally:
        memory.close()
    routes = Routes(recorder.writer.root, None)
    try:
        sources = {known.sha256: file.source for known, file in zip(prints, files, strict=True)}
        project = recorder.address["project"]
        routes.run(recorder.address["to"], lambda service: upload_missing(service, project, sources))
    except KinetrumError as error:
        warnings.warn(
            f"{name} is too large to be copied, and could not be sent now ({error}). It is sent later from where it "
            "lies; leave it unchanged until then.",
            stacklevel=6,
        )
    finally:
        routes.close()
    return [
        [str(file.source), file.path, known.size, known.sha256, known.modified_ns // 1000]
        for file, known in zip(files, prints, strict=True)
    ]


def _seen(source: Path) -> tuple[int, int]:
    status = source.stat()
    return status.st_size, status.st_mtime_ns


def artifact_name(name: str | None, path: str | os.PathLike[str]) -> str:
    """Return the name given, else one made of a file's name; raises InvalidInput where that gives none."""
    if name is not None:
        return check_name(name, "artifact")
    stem = Path(path).name.split(".")[0].lower().replace(" ", "-")
    try:
        return check_name(stem, "artifact")
    except InvalidInput:
        raise InvalidInput(f"{Path(path).name!r} gives no name for an artifact; add name=….", field="name") from None
