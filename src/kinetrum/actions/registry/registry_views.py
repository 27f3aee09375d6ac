"""The registry as it is shown: models, their ladders through time, versions side by side."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from kinetrum.actions.context import Actor, Sight, enter, sight_of, why_not
from kinetrum.actions.registry.evidence_records import (
    evidence_in,
    experiment_names,
    refusal_of,
    rule_refusal,
    why_not_own,
)
from kinetrum.actions.registry.model_state import ModelState, load_model
from kinetrum.actions.registry.stage_acts import why_not_place
from kinetrum.actions.registry.version_lookup import lead_or_none, pick_version
from kinetrum.actions.registry.version_values import values_of_versions
from kinetrum.core.base.goals import Goal
from kinetrum.core.base.manifests import FileEntry
from kinetrum.core.base.permissions import Act
from kinetrum.core.registry import ladder as rules
from kinetrum.core.registry.card import missing_sections
from kinetrum.core.registry.ladder import Stage
from kinetrum.core.registry.review import Review, Standing, fault_of
from kinetrum.core.registry.values import VersionValues
from kinetrum.storage.data import artifacts, manifests, texts
from kinetrum.storage.data.artifacts import VersionRow
from kinetrum.storage.db.database import snapshot
from kinetrum.storage.people import people, projects
from kinetrum.storage.registry import evidence, model_records, models, stage_records, verdict_records
from kinetrum.storage.registry.evidence import EvidenceRow
from kinetrum.storage.registry.model_records import ImportedVerdictRow
from kinetrum.storage.registry.models import ModelRow, ModelVersionRow
from kinetrum.storage.registry.stage_records import EventRow
from kinetrum.storage.registry.verdict_records import VerdictRow
from kinetrum.storage.runs import run_documents, runs


@dataclass(frozen=True)
class StageView:
    """A stage, its occupant since when, what is wrong with the occupant, and why the actor may not place here."""

    stage: Stage
    occupant: int | None
    since: str | None
    placed_by: str | None
    warning: str | None
    why_not: str | None


@dataclass(frozen=True)
class EvidenceView:
    """Evidence of a version on named data: the run that judged it, and where its predictions row by row are.

    `replaces`: the id of the evidence on the same name that it came after. `refusal`: why it does not count under the
    model's rules, None where it does.
    """

    uid: str
    number: int
    on: str
    digest: str | None
    run: str
    rows: str | None
    results: dict[str, Any]
    person: str
    at: datetime
    replaces: str | None
    refusal: str | None
    imported_from: str | None


@dataclass(frozen=True)
class VersionView:
    """One version with its review, its place on the ladder, and its values: those of its run, and those added.

    Of one that was made from a checkpoint the values are those at its step; see `core.registry.values`. `warning`: what
    is wrong with it for whoever fetches it, None where nothing is. `artifact_project` is None where the actor may not
    see the project that the artifact is of; its name is then not to be shown either.
    """

    model: str
    number: int
    artifact: VersionRow
    artifact_project: str | None
    run: str | None
    origin: str | None
    comment: str
    labels: dict[str, str]
    registered_by: str
    registered_at: datetime
    review: Review
    retired: bool
    damaged: bool
    verdicts: list[VerdictRow]
    approvals_needed: int
    stages: list[str]
    values: VersionValues
    goals: dict[str, Goal]
    signature: dict[str, Any] | None
    overrides: list[str]
    warning: str | None
    imported_from: str | None


@dataclass(frozen=True)
class ModelView:
    """A model: card, rules, ladder, versions (the newest first), timeline (the earliest first), lead version.

    `why_not` tells of each act why the actor may not do it, None where that is allowed.
    """

    row: ModelRow
    project: str
    person: str
    person_name: str
    stages: list[StageView]
    versions: list[VersionView]
    events: list[EventRow]
    lead: int | None
    missing_sections: list[str]
    why_not: dict[str, str | None]


@snapshot
def read_model(actor: Actor, project: str, name: str) -> ModelView:
    """Return one model."""
    return _view(actor, load_model(enter(actor, project), name, lock=False))


_ACTS = {
    "register": Act.REGISTER,
    "evidence": Act.EVIDENCE,
    "review": Act.REVIEW,
    "card": Act.WRITE_CARD,
    "describe": Act.DESCRIBE,
    "retire": Act.RETIRE,
    "lead": Act.CHOOSE_LEAD,
    "rule": Act.RULE,
    "override": Act.OVERRIDE,
}


def _view(actor: Actor, state: ModelState) -> ModelView:
    owner = state.model.owner_id or state.model.created_by
    names = people.full_names()
    return ModelView(
        row=state.model,
        project=state.place.project.name,
        person=names[owner],
        person_name=next(person.name for person in people.people() if person.person_id == owner),
        stages=[_stage(actor, state, stage) for stage in state.ladder],
        versions=_versions(actor, state, names),
        events=stage_records.events_of(state.model.model_id),
        lead=lead_or_none(state),
        missing_sections=missing_sections(state.model.card, state.model.card_sections),
        why_not={word: why_not(actor, state.place, act) for word, act in _ACTS.items()},
    )


def warning_of(stage: Stage, standing: Standing) -> str | None:
    """Say what is wrong with an occupant, None where nothing is."""
    obstacle = rules.obstacle(stage, standing)
    if obstacle is None and standing.review is Review.REJECTED:
        return f"version {standing.number} is rejected"
    return obstacle


def _stage(actor: Actor, state: ModelState, stage: Stage) -> StageView:
    stack = state.stacks.get(stage.name, ())
    top = stack[-1] if stack else None
    standing = state.standing_on(stage)
    return StageView(
        stage,
        top.number if top else None,
        top.placed_at if top else None,
        top.placed_by if top else None,
        warning_of(stage, standing) if standing else None,
        why_not_place(actor, state.place, stage),
    )


def _versions(actor: Actor, state: ModelState, names: dict[int, str], only: int | None = None) -> list[VersionView]:
    verdicts = verdict_records.verdicts_of(state.model.model_id)
    overridden: dict[int, list[str]] = {}
    for event in stage_records.events_of(state.model.model_id):
        if event.override_reason and event.after is not None:
            overridden.setdefault(event.after, []).append(f"{event.stage}: {event.override_reason} ({event.person})")
    version_views = []
    sight = sight_of(actor)
    rows = [row for row in models.versions_of_model(state.model.model_id) if only in {None, row.number}]
    values = values_of_versions(rows)
    for row in rows:
        standing = state.standings[row.number]
        run = runs.run_by_id(row.run_id) if row.run_id else None
        goals = projects.goals_of(run.experiment_id) if run else {}
        artifact = artifacts.version_by_id(row.version_id)
        version_views.append(
            VersionView(
                model=state.model.name,
                number=row.number,
                artifact=artifact,
                artifact_project=projects.project_by_id(artifact.project_id).name
                if sight.covers(artifact.project_id)
                else None,
                run=sight.name_from(state.place, run.project_id, run.reference) if run else None,
                origin=row.origin,
                comment=row.comment,
                labels=row.labels,
                registered_by=names[row.created_by],
                registered_at=row.created_at,
                review=standing.review,
                retired=row.retired,
                damaged=standing.damaged,
                verdicts=[verdict for verdict in verdicts if verdict.number == row.number],
                approvals_needed=state.model.approvals_needed,
                stages=[
                    s.name
                    for s in state.ladder
                    if (stack := state.stacks.get(s.name)) and stack[-1].number == row.number
                ],
                values=values[row.number],
                goals=goals,
                signature=row.signature,
                overrides=overridden.get(row.number, []),
                warning=fault_of(standing),
                imported_from=row.imported_from,
            )
        )
    return version_views


@dataclass(frozen=True)
class VersionDetailView:
    """One version with its files, evidence and dependencies, and what still stands in the way of each stage.

    `left_out`: evidence that its run has and that was not pinned to it, with the reason, by the name of the data.
    `why_not_approve`: why the actor may not approve it, None where that is allowed. `imported_verdicts`: what stood on
    it where it was imported from.
    """

    version: VersionView
    files: tuple[FileEntry, ...]
    evidence: list[EvidenceView]
    dependencies: dict[str, str]
    obstacles: dict[str, str | None]
    why_not_approve: str | None
    left_out: dict[str, str]
    imported_verdicts: list[ImportedVerdictRow]


@snapshot
def read_model_version(actor: Actor, project: str, name: str, which: str) -> VersionDetailView:
    """Return a version by number, by stage, `lead`, `newest`, or the digest of its files."""
    state = load_model(enter(actor, project), name, lock=False)
    number = pick_version(state, which)
    names = people.full_names()
    (version,) = _versions(actor, state, names, number)
    row = next(row for row in models.versions_of_model(state.model.model_id) if row.number == number)
    every = evidence.evidence_of(state.model.model_id, number)
    return VersionDetailView(
        version,
        manifests.load_manifest(version.artifact.digest),
        [_evidence(sight_of(actor), state, one, names, every[:at]) for at, one in enumerate(every)],
        _dependencies(row),
        {stage.name: rules.obstacle(stage, state.standings[number]) for stage in state.ladder},
        why_not_approve(actor, state, row),
        _left_out(state, row, version.artifact.artifact_id, {one.on for one in every}),
        [one for one in model_records.imported_verdicts_of(state.model.model_id) if one.number == number],
    )


def _evidence(
    sight: Sight, state: ModelState, row: EvidenceRow, names: dict[int, str], earlier: Sequence[EvidenceRow]
) -> EvidenceView:
    run = runs.run_by_id(row.run_id)
    rows = artifacts.version_by_id(row.rows_version) if row.rows_version else None
    before = [one.uid for one in earlier if one.on == row.on]
    return EvidenceView(
        row.uid,
        row.number,
        row.on,
        row.digest,
        sight.name_from(state.place, run.project_id, run.reference),
        sight.name_from(state.place, rows.project_id, rows.reference) if rows else None,
        row.results,
        names[row.person_id],
        row.at,
        before[-1] if before else None,
        refusal_of(state, row),
        row.imported_from,
    )


def _left_out(state: ModelState, row: ModelVersionRow, artifact_id: int, pinned: set[str]) -> dict[str, str]:
    """Say of what the version's run found out on named data why it was not pinned to the version."""
    if row.run_id is None:
        return {}
    registrar = next(person.name for person in people.people() if person.person_id == row.created_by)
    experiments = experiment_names(runs.run_by_id(row.run_id))
    reasons = {}
    for one in evidence_in(row.run_id):
        reason = why_not_own(row, artifact_id, one.on) or rule_refusal(state.model, one.on, registrar, experiments)
        if reason and one.on not in pinned:
            reasons[one.on] = reason
    return reasons


def _dependencies(row: ModelVersionRow) -> dict[str, str]:
    """Return the packages that the version's run recorded."""
    if row.run_id is None:
        return {}
    digest = run_documents.load_doc(row.run_id).texts.get("packages")
    text = texts.read_text(runs.run_by_id(row.run_id).project_id, digest) if digest else None
    packages: dict[str, str] = json.loads(text) if text else {}
    return packages


def why_not_approve(actor: Actor, state: ModelState, row: ModelVersionRow) -> str | None:
    """Say why the actor may not approve a version, None where that is allowed."""
    reason = why_not(actor, state.place, Act.REVIEW)
    if reason is None and state.model.second_pair and row.created_by == actor.person_id:
        name, number = state.model.name, row.number
        return f"{name} asks for a second pair of eyes: who registered version {number} may not approve it."
    return reason
