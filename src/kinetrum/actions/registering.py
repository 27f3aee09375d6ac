"""Registering versions: from what a run generated, from an artifact that one may see, or from files by reference."""

from __future__ import annotations

import json
from dataclasses import dataclass, field
from typing import Any

from kinetrum.actions.context import Actor, Place, enter
from kinetrum.actions.evidencing import evidence_in, keep_evidence
from kinetrum.actions.files import check_stored
from kinetrum.actions.finding import find_run, find_version
from kinetrum.actions.limiting import run_limited
from kinetrum.actions.registry import checked_comment, hold, log
from kinetrum.core.errors import Conflict, InvalidInput, KinetrumError, NotFound
from kinetrum.core.ids import id_bytes
from kinetrum.core.manifests import FileEntry
from kinetrum.core.permissions import Act
from kinetrum.core.refs import NameRef, RunRef, VersionRef, parse_ref
from kinetrum.core.registry.card import OUTLINE
from kinetrum.core.registry.ladder import DEFAULT_LADDER
from kinetrum.core.registry.reading import can_be, form_with_signature
from kinetrum.core.registry.signature import signature_from_json
from kinetrum.core.values import Value, check_key, check_label, check_name, check_value, to_json
from kinetrum.storage import artifacts, journal, links, manifests, models
from kinetrum.storage.artifacts import VersionRow
from kinetrum.storage.blobs import BlobStore
from kinetrum.storage.database import snapshot, transaction
from kinetrum.storage.models import ModelVersionRow

VALUES_LIMIT = 200


@dataclass(frozen=True)
class Candidate:
    """What is to be registered: `artifact` is `NAME@NUMBER`, or with `run` the bare name of what that run generated.

    Without a run that generated it, `origin` tells in words where it came from. `values` are added to those of the
    run. `signature` is inferred from a sample; without one it is read from the stored files, where they tell it.
    """

    artifact: str
    run: str | None = None
    origin: str | None = None
    comment: str = ""
    labels: dict[str, str] = field(default_factory=dict)
    values: dict[str, Value] = field(default_factory=dict)
    signature: dict[str, Any] | None = None


def register(
    actor: Actor, store: BlobStore, project: str, model_name: str, uid: str, candidate: Candidate
) -> ModelVersionRow:
    """Register an artifact version as the next version of a model, which is made on first use.

    Sent again under the same id, the version that is there comes back. Evidence that its run recorded comes with it.
    """
    for key, text in candidate.labels.items():
        check_label(key, text)
    if len(candidate.values) > VALUES_LIMIT:
        raise InvalidInput(f"A version is given up to {VALUES_LIMIT} values.", field="values")
    added = {check_key(key, "value"): to_json(check_value(value, key)) for key, value in candidate.values.items()}
    signature = signature_from_json(candidate.signature).to_json() if candidate.signature else None
    if signature is None:
        signature = _read_signature(store, _found(actor, project, candidate))
    return _register(actor, project, model_name, uid, candidate, added, signature)


@snapshot
def _found(actor: Actor, project: str, candidate: Candidate) -> VersionRow:
    return _source(actor, enter(actor, project, Act.REGISTER), candidate)[0]


@snapshot
def _stored_files(version: VersionRow) -> list[FileEntry]:
    try:
        check_stored(version)
    except KinetrumError:
        return []
    return list(manifests.files_of_version(version.version_id, version.digest))


def _read_signature(store: BlobStore, version: VersionRow) -> dict[str, Any] | None:
    """Read the signature out of the first file that tells one, apart from this process."""
    for entry in _stored_files(version):
        form = form_with_signature(entry.path)
        if form and store.has(entry.sha256) and _can_be(store, form, entry):
            answer = run_limited("signature", [store.path_of(entry.sha256)], {"form": form})
            found: dict[str, Any] | None = json.loads(answer) if answer else None
            if found:
                return found
    return None


def _can_be(store: BlobStore, form: str, entry: FileEntry) -> bool:
    with store.path_of(entry.sha256).open("rb") as file:
        return can_be(form, file.read(16), entry.size)


@transaction
def _register(
    actor: Actor, project: str, model_name: str, uid: str, candidate: Candidate, added: dict[str, Any],
    signature: dict[str, Any] | None,
) -> ModelVersionRow:  # fmt: skip
    place = enter(actor, project, Act.REGISTER)
    raw = id_bytes(uid)
    known = models.version_by_uid(raw)
    if known is not None:
        model = models.model_named(place.project_id, model_name)
        if model is None or known.model_id != model.model_id:
            raise Conflict(f"The id {uid} belongs to another version.", field="id")
        return known
    version, run_id = _source(actor, place, candidate)
    _hold_stored(version)
    origin = (candidate.origin or "").strip()
    if run_id is None and not origin:
        raise InvalidInput(
            f"No run generated {version.reference}; tell in words where it came from (origin).", field="origin"
        )
    _make_model(actor, place, check_name(model_name, "model"))
    held = hold(place, model_name, lock=True)
    number = models.add_model_version(
        held.model, raw, version.version_id, run_id, origin[:2000] or None, checked_comment(candidate.comment),
        actor.person_id, candidate.labels, added, signature,
    )  # fmt: skip
    if run_id is not None:
        for found in evidence_in(run_id):
            keep_evidence(held.model.model_id, number, found, actor.person_id)
    log(actor, held, "registered", f"{model_name}@{number}", None, {"artifact": version.reference}, candidate.comment)
    made = models.version_by_uid(raw)
    if made is None:
        raise NotFound(f"{model_name}@{number} vanished.", field="version")
    return made


def _hold_stored(version: VersionRow) -> None:
    """Hold the content against a purge until it is registered; what is in the bin is restored first."""
    artifacts.lock_versions([version.version_id])
    row = artifacts.version_by_id(version.version_id)
    if row.purged_at is not None:
        raise Conflict(f"{version.reference} was purged; its bytes are gone.", field="artifact")
    if row.binned_at is not None:
        raise Conflict(f"{version.reference} is in the bin; restore it, then register it.", field="artifact")


def _makers(version: VersionRow) -> list[int]:
    """Return the runs that generated a version, the first one first."""
    return [link.run_id for link in links.links_of_versions([version.version_id]) if link.relation == "generated"]


def _source(actor: Actor, place: Place, candidate: Candidate) -> tuple[VersionRow, int | None]:
    ref = parse_ref(candidate.artifact)
    if candidate.run is None:
        if not isinstance(ref, VersionRef) or ref.path:
            raise InvalidInput(
                f"{candidate.artifact!r} names no artifact version; write NAME@NUMBER.", field="artifact"
            )
        there = enter(actor, ref.project) if ref.project else place
        version = find_version(there, ref.name, ref.which)
        makers = _makers(version)
        return version, makers[0] if makers else None
    run = parse_ref(candidate.run)
    if not isinstance(run, RunRef) or run.experiment is None:
        raise InvalidInput(f"{candidate.run!r} names no run; write EXPERIMENT/NUMBER.", field="run")
    there = enter(actor, run.project) if run.project else place
    found = find_run(there, run.experiment, run.pick)
    if isinstance(ref, NameRef):
        version_id = links.latest_of_run(found.run_id, ref.name)
        if version_id is None:
            raise NotFound(f"{found.reference} generated nothing named {ref.name!r}.", field="artifact")
        return artifacts.version_by_id(version_id), found.run_id
    if not isinstance(ref, VersionRef):
        raise InvalidInput(f"{candidate.artifact!r} names no artifact.", field="artifact")
    version = find_version(there, ref.name, ref.which)
    if found.run_id not in _makers(version):
        raise Conflict(f"{found.reference} did not generate {version.reference}.", field="run")
    return version, found.run_id


def _make_model(actor: Actor, place: Place, name: str) -> None:
    if models.model_named(place.project_id, name) is not None:
        return
    if not artifacts.claim_name(place.project_id, name, "model"):
        raise Conflict(
            f"{name!r} names an artifact of this project, and a name is one thing; choose another for the model.",
            field="model",
        )
    if models.model_named(place.project_id, name) is None:
        models.add_model(place.project_id, name, "", DEFAULT_LADDER, OUTLINE, actor.person_id)
        journal.append(place.project_id, actor.person_id, "made the model", name, origin=actor.origin)
