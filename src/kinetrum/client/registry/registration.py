"""Registering versions from Python: from a run, an artifact's version, files from elsewhere; and lock files."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Mapping, Sequence
from pathlib import Path

from kinetrum.client.data.artifact_versions import keep
from kinetrum.client.registry.deployment import Fetched
from kinetrum.client.registry.models import ModelVersion
from kinetrum.client.spool.complete_segment import new_id
from kinetrum.client.transport.http import path_of
from kinetrum.client.transport.session import Session, open_session
from kinetrum.core.base.errors import Conflict, InvalidInput
from kinetrum.core.base.refs import VersionRef, parse_ref
from kinetrum.core.base.values import check_name, check_value, to_json
from kinetrum.core.registry.signature import signature_of_sample


def told(
    comment: str,
    labels: Mapping[str, str] | None,
    values: Mapping[str, object] | None,
    sample: object,
    sample_output: object,
) -> dict[str, object]:
    """Return what is told of a version beside its files, as the interface takes it."""
    signature = None
    if sample is not None or sample_output is not None:
        inferred = signature_of_sample(sample if sample is not None else {}, sample_output)
        signature = inferred.to_json()
    return {
        "comment": comment,
        "labels": dict(labels or {}),
        "signature": signature,
        "values": {key: to_json(check_value(value, key)) for key, value in (values or {}).items()},
    }


def _register(session: Session, project: str, model: str, body: dict[str, object]) -> ModelVersion:
    path = path_of("projects", project, "models", check_name(model, "model"), "versions")
    return ModelVersion(session, project, session.service.call("POST", path, json={"id": new_id(), **body}))


def register_from_run(address: dict[str, str], artifact: str, as_model: str, body: dict[str, object]) -> ModelVersion:
    """Register what a run generated; waits for the spool first."""
    session = open_session(address["project"])
    run = session.service.get(path_of("projects", address["project"], "runs", address["run"]))
    return register_recorded(session, address["project"], run["reference"], artifact, as_model, body)


def register_recorded(
    session: Session, project: str, run: str, artifact: str, as_model: str, body: dict[str, object]
) -> ModelVersion:
    """Register what a run that the service has generated."""
    return _register(session, project, as_model, {"artifact": artifact, "run": run, **body})


def register(  # noqa: PLR0913
    what: str | os.PathLike[str],
    *,
    as_model: str,
    run: str | None = None,
    step: int | None = None,
    best: str | None = None,
    origin: str | None = None,
    comment: str = "",
    labels: Mapping[str, str] | None = None,
    metrics: Mapping[str, object] | None = None,
    sample: object = None,
    sample_output: object = None,
    upload: bool = True,
    name: str | None = None,
    project: str | None = None,
    url: str | None = None,
) -> ModelVersion:
    """Register a version: an artifact version (`frost-net@3`), what a run generated (`frost-net`, `run=`), or a path.

    A path is uploaded (with `upload=False` only fingerprinted: by reference) as the artifact `name` (by default
    MODEL-files); it needs `origin`, words on where it came from. `OTHER/frost-net@3` is an artifact of another project.
    Where a run generated several versions of the name, `step` chooses the checkpoint of a step, `best` the one at which
    a metric with a goal was best (`best="val_loss"`). `metrics` are values added to those of the run. `sample` is an
    input (a table, an array, or names and arrays) from which the signature is inferred; without one it is read from
    ONNX and safetensors files. Raises NotFound, InvalidInput or Conflict as the service says.
    `as_model` is the model's name, made by its first version. `comment` and `labels` are the version's;
    `sample_output` is what the model answers to `sample`. `url` names another service than the connection's.
    """
    session = open_session(project, url)
    source = os.fspath(what)
    signature: dict[str, object] | None = None
    if run is None and ("/" in source or Path(source).exists()) and "@" not in source:
        if not origin:
            raise InvalidInput(
                "No run made these files; tell in words where they came from (origin=…).", field="origin"
            )
        if not upload and sample is None and sample_output is None:
            signature = _read_signature(Path(source))
        source = keep(source, name=name or f"{as_model}-files", kind="model", upload=upload, session=session)
    elif run is None:
        ref = parse_ref(source)
        if not isinstance(ref, VersionRef):
            raise InvalidInput(
                f"{source!r} is neither a path that is there nor NAME@NUMBER; with run=… a bare name will do.",
                field="what",
            )
    body = {
        "artifact": source,
        "run": run,
        "step": step,
        "best": best,
        "origin": origin,
        **told(comment, labels, metrics, sample, sample_output),
    }
    if signature is not None:
        body["signature"] = signature
    return _register(session, session.project, as_model, body)


def _read_signature(path: Path) -> dict[str, object] | None:
    """Read the signature of a model's file that stays where it is, None where it tells none or cannot be read here."""
    from kinetrum.core.registry.reading import can_be, form_with_signature, read_signature

    files = [path] if path.is_file() else sorted(path.rglob("*"))
    for file in files:
        form = form_with_signature(file.name)
        if form is None or not file.is_file():
            continue
        # Reading ONNX takes its package, which a plain client lacks.
        with contextlib.suppress(ImportError, ValueError, OSError), file.open("rb") as opened:
            if can_be(form, opened.read(16), file.stat().st_size):
                opened.seek(0)
                signature = read_signature(form, opened)
                if signature is not None:
                    return signature.to_json()
    return None


def lock(
    references: Sequence[str],
    path: str | os.PathLike[str] | None = None,
    *,
    project: str | None = None,
    url: str | None = None,
) -> list[str]:
    """Return a line for each version (`frost-alarm@production`): its number and the digest of its files.

    With a path they are written there, for `fetch_locked`.
    `references` name versions by number or stage. `project` and `url` say where; without them the environment's
    connection does, or the one that `kinetrum connect` saved.
    """
    lines = []
    for reference in references:
        ref = parse_ref(reference)
        if not isinstance(ref, VersionRef) or ref.path:
            raise InvalidInput(f"{reference!r} names no version; write MODEL@NUMBER or MODEL@STAGE.", field="version")
        session = open_session(ref.project or project, url)
        lines.append(ModelVersion.read(session, ref.project or session.project, ref.name, ref.which).lock)
    if path is not None:
        Path(path).write_text("".join(f"{line}\n" for line in lines), encoding="utf-8")
    return lines


def fetch_locked(
    path: str | os.PathLike[str],
    to: str | os.PathLike[str] = ".",
    *,
    replace: bool = False,
    keep: int = 0,
    strict: bool = False,
    url: str | None = None,
) -> list[Fetched]:
    """Download the versions of a lock file as `fetch` lays them out: one into `to`, of several each into `to`/MODEL.

    `replace`, `keep` and `strict` are those of `ModelVersion.download`. Raises Conflict before anything is downloaded
    where a version's files are not those that were locked, or with `strict` something is wrong with a version.
    `path` is the lock file's. `url` names another service than the connection's.
    """
    wanted: list[tuple[str, ModelVersion]] = []
    for at, line in enumerate(Path(path).read_text("utf-8").splitlines(), 1):
        if line.strip() and not line.startswith("#"):
            wanted.append(_locked(f"{path}, line {at}", line, url))
    wrong = [version for _, version in wanted if version.data["warning"]] if strict else []
    if wrong:
        raise Conflict(f"{wrong[0].reference} was not fetched: {wrong[0].data['warning']}.", field="version")
    folder = Path(to)
    return [
        version.download(folder if len(wanted) == 1 else folder / name, replace=replace, keep=keep, strict=strict)
        for name, version in wanted
    ]


def _locked(place: str, line: str, url: str | None) -> tuple[str, ModelVersion]:
    """Return the model's name as the lock has it, which may be an earlier one, and the version."""
    reference, _, digest = line.strip().partition(" ")
    ref = parse_ref(reference)
    if not isinstance(ref, VersionRef) or not ref.which.isdigit() or not digest.startswith("sha256:"):
        raise InvalidInput(f"{place} is not a lock; it reads PROJECT/MODEL@NUMBER sha256:DIGEST.", field="path")
    session = open_session(ref.project, url)
    version = ModelVersion.read(session, ref.project or session.project, ref.name, ref.which)
    if f"sha256:{version.digest}" != digest:
        raise Conflict(
            f"{place}: {reference} was locked with {digest[:19]}… and has sha256:{version.digest[:12]}…; this is "
            "another registry's version, or the lock was edited.",
            field="path",
        )
    return ref.name, version
