"""Registering versions from Python: from a run, an artifact's version, files from elsewhere; and lock files."""

from __future__ import annotations

import os
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from kinetrum.client.http import path_of
from kinetrum.client.registry import ModelVersion
from kinetrum.client.session import Session, open_session
from kinetrum.client.spool import new_id
from kinetrum.client.stored import keep
from kinetrum.core.errors import Conflict, InvalidInput
from kinetrum.core.refs import VersionRef, parse_ref
from kinetrum.core.registry.signature import signature_of_sample
from kinetrum.core.values import check_name, check_value, to_json


def told(
    comment: str, labels: Mapping[str, str] | None, values: Mapping[str, Any] | None, sample: Any, sample_output: Any
) -> dict[str, Any]:
    """Return what is told of a version beside its files, as the interface takes it."""
    signature = None
    if sample is not None or sample_output is not None:
        found = signature_of_sample(sample if sample is not None else {}, sample_output)
        signature = found.to_json()
    return {
        "comment": comment, "labels": dict(labels or {}), "signature": signature,
        "values": {key: to_json(check_value(value, key)) for key, value in (values or {}).items()},
    }  # fmt: skip


def _register(session: Session, project: str, model: str, body: dict[str, Any]) -> ModelVersion:
    path = path_of("projects", project, "models", check_name(model, "model"), "versions")
    return ModelVersion(session, project, session.service.call("POST", path, json={"id": new_id(), **body}))


def register_from_run(address: dict[str, str], artifact: str, as_model: str, body: dict[str, Any]) -> ModelVersion:
    """Register what a run generated; waits for the spool first."""
    session = open_session(address["project"])
    run = session.service.get(path_of("projects", address["project"], "runs", address["run"]))
    return _register(
        session, address["project"], as_model, {"artifact": artifact, "run": run["reference"], **body}
    )  # fmt: skip


def register(
    what: str | os.PathLike[str],
    *,
    as_model: str,
    run: str | None = None,
    origin: str | None = None,
    comment: str = "",
    labels: Mapping[str, str] | None = None,
    metrics: Mapping[str, Any] | None = None,
    sample: Any = None,
    sample_output: Any = None,
    upload: bool = True,
    name: str | None = None,
    project: str | None = None,
    url: str | None = None,
) -> ModelVersion:
    """Register a version: an artifact version (`frost-net@3`), what a run generated (`frost-net`, `run=`), or a path.

    A path is uploaded (with `upload=False` only fingerprinted: by reference) as the artifact `name` (by default
    MODEL-files); it needs `origin`, words on where it came from. `OTHER/frost-net@3` is an artifact of another project.
    `metrics` are values added to those of the run. `sample` is an input (a table, an array, or names and arrays) from
    which the signature is inferred; without one it is read from ONNX and safetensors files.
    Raises NotFound, InvalidInput or Conflict as the service says.
    """
    session = open_session(project, url)
    source = os.fspath(what)
    if run is None and ("/" in source or Path(source).exists()) and "@" not in source:
        if not origin:
            raise InvalidInput(
                "No run made these files; tell in words where they came from (origin=…).", field="origin"
            )
        source = keep(source, name=name or f"{as_model}-files", kind="model", upload=upload, session=session)
    elif run is None:
        ref = parse_ref(source)
        if not isinstance(ref, VersionRef):
            raise InvalidInput(
                f"{source!r} is neither a path that is there nor NAME@NUMBER; with run=… a bare name will do.",
                field="what",
            )
    body = {"artifact": source, "run": run, "origin": origin, **told(comment, labels, metrics, sample, sample_output)}
    return _register(session, session.project, as_model, body)


def lock(
    references: Sequence[str], path: str | os.PathLike[str] | None = None, *, project: str | None = None,
    url: str | None = None,
) -> list[str]:  # fmt: skip
    """Return a line for each version (`frost-alarm@production`): its number and the digest of its files.

    With a path they are written there, for `fetch_locked`.
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
    path: str | os.PathLike[str], to: str | os.PathLike[str] = ".", *, url: str | None = None
) -> list[Path]:
    """Download the versions of a lock file, each below a folder of its model's name; returns the paths.

    Raises Conflict before anything is downloaded where a version's files are not those that were locked.
    """
    wanted = []
    for at, line in enumerate(Path(path).read_text("utf-8").splitlines(), 1):
        if line.strip() and not line.startswith("#"):
            wanted.append(_locked(f"{path}, line {at}", line, url))
    paths: list[Path] = []
    for version in wanted:
        paths += version.download(Path(to) / version.data["model"])
    return paths


def _locked(place: str, line: str, url: str | None) -> ModelVersion:
    reference, _, digest = line.strip().partition(" ")
    ref = parse_ref(reference)
    if not isinstance(ref, VersionRef) or not ref.which.isdigit() or not digest.startswith("sha256:"):
        raise InvalidInput(f"{place} is no lock; it reads PROJECT/MODEL@NUMBER sha256:DIGEST.", field="path")
    session = open_session(ref.project, url)
    version = ModelVersion.read(session, ref.project or session.project, ref.name, ref.which)
    if f"sha256:{version.digest}" != digest:
        raise Conflict(
            f"{place}: {reference} was locked with {digest[:19]}… and has sha256:{version.digest[:12]}…; this is "
            "another registry's version, or the lock was edited.",
            field="path",
        )
    return version
