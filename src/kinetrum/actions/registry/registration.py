"""Registering versions: from what a run generated, from an artifact that one may see, or from files by reference."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

from kinetrum.actions.context import Actor, Place, enter
from kinetrum.actions.data.artifact_versions import check_stored
from kinetrum.actions.registry.evidence_records import (
    evidence_in,
    experiment_names,
    keep_evidence,
    rule_refusal,
    why_not_own,
)
from kinetrum.actions.registry.model_state import ModelState, checked_comment, load_model, log
from kinetrum.actions.registry.version_values import best_step
from kinetrum.actions.sandbox.runner import run_limited
from kinetrum.actions.search.references import find_run, find_version
from kinetrum.core.base.errors import Conflict, InvalidInput, KinetrumError, NotFound
from kinetrum.core.base.ids import id_bytes
from kinetrum.core.base.manifests import FileEntry
from kinetrum.core.base.permissions import Act
from kinetrum.core.base.refs import NameRef, RunRef, VersionRef, parse_ref
from kinetrum.core.base.values import Value, check_key, check_label, check_name, check_value, to_json
from kinetrum.core.registry.card import OUTLINE
from kinetrum.core.registry.ladder import DEFAULT_LADDER
from kinetrum.core.registry.reading import can_be, form_with_signature
from kinetrum.core.registry.signature import signature_from_json
from kinetrum.storage.data import artifacts, links, manifests
from kinetrum.storage.data.artifacts import VersionRow
from kinetrum.storage.data.blobs import BlobStore
from kinetrum.storage.data.links import Generated
from kinetrum.storage.db.database import snapshot, transaction
from kinetrum.storage.people import journal, projects
from kinetrum.storage.registry import models
from kinetrum.storage.registry.models import ModelVersionRow
from kinetrum.storage.runs import run_documents, runs
from kinetrum.storage.runs.runs import Run

VALUES_LIMIT = 200


@dataclass(frozen=True)
class Candidate:
    """What is to be registered: `artifact` is `NAME@NUMBER`, or with `run` the bare name of what that run generated.

    Where the run generated several versions of that name, `step` chooses the checkpoint of a step, `best` the one at
    which a metric with a goal was best. Without a run that generated it, `origin` tells in words where it came from.
    `values` are added to those of the run. `signature` is inferred from a sample; without one it is read from the
    stored files, where they tell it.
    """

    artifact: str
    run: str | None = None
    step: int | None = None
    best: str | None = None
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
            signature: dict[str, Any] | None = json.loads(answer) if answer else None
            if signature:
                return signature
    return None


def _can_be(store: BlobStore, form: str, entry: FileEntry) -> bool:
    with store.path_of(entry.sha256).open("rb") as file:
        return can_be(form, file.read(16), entry.size)


@transaction
def _register(
    actor: Actor,
    project: str,
    model_name: str,
    uid: str,
    candidate: Candidate,
    added: dict[str, Any],
    signature: dict[str, Any] | None,
) -> ModelVersionRow:
    place = enter(actor, project, Act.REGISTER)
    raw = id_bytes(uid)
    known = models.version_by_uid(raw)
    if known is not None:
        model = models.model_named(place.project_id, model_name)
        if model is None or known.model_id != model.model_id:
            raise Conflict(f"The id {uid} belongs to another version.", field="id")
        return known
    version, run_id, step = _source(actor, place, candidate)
    _hold_stored(version)
    origin = (candidate.origin or "").strip()
    if run_id is None and not origin:
        raise InvalidInput(
            f"No run generated {version.reference}; tell in words where it came from (origin).", field="origin"
        )
    _make_model(actor, place, check_name(model_name, "model"))
    state = load_model(place, model_name, lock=True)
    number = models.add_model_version(
        state.model,
        models.NewModelVersion(
            raw,
            version.version_id,
            run_id,
            origin[:2000] or None,
            checked_comment(candidate.comment),
            actor.person_id,
            candidate.labels,
            added,
            signature,
            step,
        ),
    )
    made = models.version_by_uid(raw)
    if made is None:
        raise NotFound(f"{model_name}@{number} vanished.", field="version")
    _keep_evidence(actor, state, made, version)
    log(
        actor,
        state,
        "registered",
        f"{state.model.name}@{number}",
        None,
        # Who reads this journal may not see the project that the artifact is of; who does finds it by its digest.
        {"artifact": version.reference if version.project_id == place.project_id else f"sha256:{version.digest}"},
        candidate.comment,
    )
    return made


def _keep_evidence(actor: Actor, state: ModelState, row: ModelVersionRow, version: VersionRow) -> None:
    """Pin what the version's run found out about it, as far as the model's rules take it from who registers."""
    if row.run_id is None:
        return
    experiments = experiment_names(runs.run_by_id(row.run_id))
    for evidence in evidence_in(row.run_id):
        of_other = why_not_own(row, version.artifact_id, evidence.on)
        if of_other is None and rule_refusal(state.model, evidence.on, actor.name, experiments) is None:
            keep_evidence(state.model.model_id, row.number, evidence, actor.person_id)


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


def _source(actor: Actor, place: Place, candidate: Candidate) -> tuple[VersionRow, int | None, int | None]:
    """Return the artifact version to register, the run that made it, and at which step."""
    ref = parse_ref(candidate.artifact)
    if candidate.run is None:
        if not isinstance(ref, VersionRef) or ref.path:
            raise InvalidInput(
                f"{candidate.artifact!r} names no artifact version; write NAME@NUMBER.", field="artifact"
            )
        there = enter(actor, ref.project) if ref.project else place
        version = find_version(there, ref.name, ref.which)
        _check_unchosen(candidate)
        makers = _makers(version)
        return version, makers[0] if makers else None, links.step_of(makers[0], version.version_id) if makers else None
    run = parse_ref(candidate.run)
    if not isinstance(run, RunRef) or run.experiment is None:
        raise InvalidInput(f"{candidate.run!r} names no run; write EXPERIMENT/NUMBER.", field="run")
    there = enter(actor, run.project) if run.project else place
    source_run = find_run(there, run.experiment, run.pick)
    if isinstance(ref, NameRef):
        return _generated(source_run, ref.name, candidate)
    if not isinstance(ref, VersionRef):
        raise InvalidInput(f"{candidate.artifact!r} names no artifact.", field="artifact")
    version = find_version(there, ref.name, ref.which)
    if source_run.run_id not in _makers(version):
        raise Conflict(f"{source_run.reference} did not generate {version.reference}.", field="run")
    _check_unchosen(candidate)
    return version, source_run.run_id, links.step_of(source_run.run_id, version.version_id)


def _check_unchosen(candidate: Candidate) -> None:
    if candidate.step is not None or candidate.best is not None:
        raise InvalidInput(
            f"{candidate.artifact} names one version already; a step or the best is chosen among what a run generated: "
            "give the bare name and the run.",
            field="best" if candidate.step is None else "step",
        )


def _generated(run: Run, name: str, candidate: Candidate) -> tuple[VersionRow, int | None, int | None]:
    """Return the version of that name that a run generated: the only one, or the one that is chosen."""
    if candidate.step is not None and candidate.best is not None:
        raise InvalidInput("Choose a checkpoint by its step or by the best of a metric, not by both.", field="step")
    made = links.generated_under(run.run_id, name)
    if not made:
        version_id = links.latest_of_run(run.run_id, name)
        if version_id is None:
            raise NotFound(f"{run.reference} generated nothing named {name!r}.", field="artifact")
        return artifacts.version_by_id(version_id), run.run_id, links.step_of(run.run_id, version_id)
    steps = [one.step for one in made if one.step is not None]
    if candidate.best is not None:
        best = best_step(run, candidate.best, steps)
        if best is None:
            raise _no_best(run, name, candidate.best, steps)
        chosen = next(one for one in made if one.step == best[0])
    elif candidate.step is not None:
        candidates = [one for one in made if one.step == candidate.step]
        if not candidates:
            raise NotFound(
                f"{run.reference} generated no {name} at step {candidate.step}; {_steps(steps)}.", field="step"
            )
        chosen = candidates[-1]
    elif len({one.version_id for one in made}) > 1:
        raise _several(run, name, made)
    else:
        chosen = made[-1]
    return artifacts.version_by_id(chosen.version_id), run.run_id, chosen.step


def _steps(steps: Sequence[int]) -> str:
    if not steps:
        return "it told no steps"
    some = ", ".join(map(str, steps[:6])) + (f" … {steps[-1]}" if len(steps) > 6 else "")
    return f"it did at {'step' if len(steps) == 1 else 'steps'} {some}"


def _several(run: Run, name: str, made: Sequence[Generated]) -> InvalidInput:
    numbered = sorted({one.number for one in made})
    numbers = ", ".join(f"{name}@{number}" for number in numbered[:4])
    numbers += f" … {name}@{numbered[-1]}" if len(numbered) > 4 else ""
    steps = [one.step for one in made if one.step is not None]
    goals = [key for key in projects.goals_of(run.experiment_id) if key in run_documents.load_doc(run.run_id).stats]
    ways = [f"a step from {steps[0]} to {steps[-1]}"] if steps else []
    ways += [f"the best by {' or '.join(goals)}"] if steps and goals else []
    choice = ", or ".join([*ways, f"one of {numbers}"])
    return InvalidInput(
        f"{run.reference} generated {len(numbered)} versions of {name}: choose {choice}.", field="artifact"
    )


def _no_best(run: Run, name: str, key: str, steps: Sequence[int]) -> NotFound:
    goals = projects.goals_of(run.experiment_id)
    if key not in goals:
        known = ", ".join(goals) or "none"
        return NotFound(
            f"{run.experiment} has no goal for {key!r}, so no checkpoint is best; its goals: {known}.", field="best"
        )
    return NotFound(
        f"{run.reference} has no {key} at a step at which it generated {name}; {_steps(steps)}.", field="best"
    )


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
        journal.append(place.project_id, actor.person_id, "made the model", name, source=actor.source)
