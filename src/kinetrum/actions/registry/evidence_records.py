"""Evidence: what a run found out about a version on named data, pinned to the version."""

from __future__ import annotations

import os
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from kinetrum.actions.context import Actor, enter
from kinetrum.actions.registry.model_state import ModelState, load_model, log, standing_of
from kinetrum.actions.search.references import run_named
from kinetrum.core.base.errors import Conflict, InvalidInput, NotAllowed
from kinetrum.core.base.ids import id_bytes, uuid7
from kinetrum.core.base.permissions import Act
from kinetrum.core.base.run_document import RunDoc
from kinetrum.core.base.values import check_key, from_json, to_json
from kinetrum.core.registry.evidence import predictions_name, read_rules
from kinetrum.core.registry.gates import Evidence
from kinetrum.storage.data import artifacts, links
from kinetrum.storage.db.clock import now
from kinetrum.storage.db.database import transaction
from kinetrum.storage.people import names, people
from kinetrum.storage.registry import evidence, models
from kinetrum.storage.registry.evidence import EvidenceRow
from kinetrum.storage.registry.models import ModelRow, ModelVersionRow
from kinetrum.storage.runs import plots, run_documents, runs
from kinetrum.storage.runs.runs import Run

ON_LIMIT = 50


@dataclass(frozen=True)
class Finding:
    """What a run found out on named data."""

    on: str
    digest: str | None
    run_id: int
    rows_version: int | None
    results: dict[str, Any]


def evidence_in(run_id: int) -> list[Finding]:
    """Return what a run evaluated: names of data of which it kept predictions or plots, with results beside them."""
    run, doc = runs.run_by_id(run_id), run_documents.load_doc(run_id)
    table_names = {link.name for link in doc.generated if link.kind == "table"}
    drawn = {row.name.rsplit("/", 1)[0] for row in plots.plots_of_runs([run_id]) if "/" in row.name}
    evaluated = dict.fromkeys((*(key.rsplit("/", 1)[0] for key in doc.results if "/" in key), *sorted(drawn)))
    experiments = experiment_names(run)
    return [
        found_on(run_id, experiments, doc, on)
        for on in evaluated
        if on in drawn or table_names & {predictions_name(experiment, on) for experiment in experiments}
    ][:ON_LIMIT]


def experiment_names(run: Run) -> list[str]:
    """Return the names of a run's experiment: under which one the run recorded is not known once it was renamed."""
    return names.every_name(names.EXPERIMENT, run.experiment_id, run.experiment)


def found_on(run_id: int, experiments: Sequence[str], doc: RunDoc, on: str) -> Finding:
    """Gather what a run says on named data: its results `ON/…`, its predictions, and the data's fingerprint.

    `experiments` are the names of its experiment, under any of which the predictions may be kept.
    """
    prefix = f"{on}/"
    results = {
        key[len(prefix) :]: to_json(result.value) for key, result in doc.results.items() if key.startswith(prefix)
    }
    predictions = (links.latest_of_run(run_id, predictions_name(experiment, on)) for experiment in experiments)
    rows = next((version for version in predictions if version is not None), None)
    # The data by its role or name; a run that used one thing alone was judged on that.
    named = [link.digest for link in doc.used if on in {link.role, link.name}]
    data = [link.digest for link in doc.used if link.kind != "model"]
    digest = named[0] if named else data[0] if len(data) == 1 else None
    return Finding(on, digest, run_id, rows, results)


def keep_evidence(model_id: int, number: int, finding: Finding, person_id: int, uid: str | None = None) -> bool:
    """Pin what was found to a version; tells whether it is new."""
    made = uid or uuid7(int(now().timestamp() * 1000), os.urandom(10))
    return evidence.add_evidence(
        model_id,
        evidence.NewEvidenceRow(
            id_bytes(made),
            number,
            finding.on,
            finding.digest,
            finding.run_id,
            finding.rows_version,
            finding.results,
            person_id,
        ),
    )


@transaction
def add_evidence(actor: Actor, project: str, model_name: str, number: int, uid: str, on: str, run_ref: str) -> None:
    """Pin what a run found out on named data to a version. Sent again under the same id, nothing changes.

    Raises InvalidInput where the run has no results on that data, or was of other files than the version's; NotAllowed
    where the model binds evidence on that name to other people or another experiment.
    """
    place = enter(actor, project, Act.EVIDENCE)
    state = load_model(place, model_name, lock=True)
    standing_of(state, number)
    check_key(on, "on")
    known = evidence.model_of_evidence(id_bytes(uid))
    if known is not None:
        if known != (state.model.model_id, number):
            raise Conflict(f"The id {uid} belongs to other evidence.", field="id")
        return
    run = run_named(place, run_ref)
    doc = run_documents.load_doc(run.run_id)
    experiments = experiment_names(run)
    finding = found_on(run.run_id, experiments, doc, on)
    if not finding.results and finding.rows_version is None:
        there = ", ".join(sorted({key.rsplit("/", 1)[0] for key in doc.results if "/" in key})) or "none"
        raise InvalidInput(f"{run.reference} has no results on {on!r}; it has some on: {there}.", field="on")
    _check_about(state, number, run.run_id, doc, run.reference, on)
    refusal = rule_refusal(state.model, on, actor.name, experiments)
    if refusal:
        raise NotAllowed(f"For {model_name}, {refusal}.")
    keep_evidence(state.model.model_id, number, finding, actor.person_id, uid)
    log(actor, state, "added evidence", f"{state.model.name}@{number}", None, {"on": on, "run": run.reference}, "")


def _check_about(state: ModelState, number: int, run_id: int, doc: RunDoc, reference: str, on: str) -> None:
    """Refuse a run that neither made the version's files nor used them: it is evidence of something else.

    A run that went on after it made a checkpoint found out about a later one.
    """
    row = next(row for row in models.versions_of_model(state.model.model_id) if row.number == number)
    artifact = artifacts.version_by_id(row.version_id)
    if artifact.digest in {link.digest for link in doc.used}:
        return
    if row.run_id == run_id:
        reason = why_not_own(row, artifact.artifact_id, on)
        if reason:
            raise InvalidInput(
                f"{reason}; use the version in a run that judges it, or give its predictions.", field="run"
            )
        return
    if artifact.digest in {link.digest for link in doc.generated}:
        return
    raise InvalidInput(
        f"{reference} neither made the files of {state.model.name}@{number} nor used them; it says nothing of them.",
        field="run",
    )


def why_not_own(row: ModelVersionRow, artifact_id: int, on: str) -> str | None:
    """Say why what a version's own run found on named data is not about the version; None where it is."""
    if row.run_id is None or row.step is None:
        return None
    last = links.last_steps([row.run_id]).get((row.run_id, artifact_id), row.step)
    if last <= row.step:
        return None
    return (
        f"its run went on to step {last} after the checkpoint of step {row.step}: what it found on {on} is not about "
        "this version"
    )


def rule_refusal(model: ModelRow, on: str, person: str, experiments: Sequence[str]) -> str | None:
    """Say why the model's rules do not take evidence on a name from a person and an experiment, by all its names."""
    rule = read_rules(model.evidence_rules).get(on)
    return rule.refusal(on, person, experiments) if rule else None


def refusal_of(state: ModelState, row: EvidenceRow) -> str | None:
    """Say why evidence that is there does not count under the model's rules; None where it does."""
    if row.on not in state.model.evidence_rules:
        return None
    accounts = {person.person_id: person.name for person in people.people()}
    return rule_refusal(state.model, row.on, accounts[row.person_id], experiment_names(runs.run_by_id(row.run_id)))


def allowed_evidence(state: ModelState, rows: list[EvidenceRow]) -> list[EvidenceRow]:
    """Return the evidence that counts under the model's rules."""
    return [row for row in rows if refusal_of(state, row) is None]


def latest_by_data(rows: list[EvidenceRow], number: int) -> dict[str, EvidenceRow]:
    """Return a version's newest evidence on each named data."""
    return {row.on: row for row in rows if row.number == number}


def facts_of_evidence(row: EvidenceRow) -> Evidence:
    """Return evidence as gates look at it."""
    results = {key: from_json(value, key) for key, value in row.results.items()}
    return Evidence(row.uid, row.on, row.digest, results, row.at.timestamp(), row.rows_version is not None)
