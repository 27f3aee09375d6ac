"""Models, their ladders, versions, verdicts and the stays of versions on stages."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from peewee import SQL, Field, Node, fn

from kinetrum.core.base.permissions import Role
from kinetrum.core.registry.ladder import Stack, Stage, Stay
from kinetrum.core.registry.review import Given, Standing, counting_approvals, review_of
from kinetrum.storage.db.clock import iso, now
from kinetrum.storage.db.database import insert_rows, named_rows, one_row
from kinetrum.storage.people import names
from kinetrum.storage.tables.data import ArtifactVersion, BlobFile, ManifestBlob
from kinetrum.storage.tables.people import Person
from kinetrum.storage.tables.registry import (
    EvidenceRecord,
    ModelVersion,
    RegisteredModel,
    StageEvent,
    StageRow,
    StageStay,
    Verdict,
)


@dataclass(frozen=True)
class ModelRow:
    """One model as stored."""

    model_id: int
    project_id: int
    name: str
    purpose: str
    approvals_needed: int
    second_pair: bool
    last_number: int
    lead_number: int | None
    created_by: int
    created_at: datetime
    card: str
    card_revision: int
    card_sections: list[str]
    gates: str
    owner_id: int | None
    labels: dict[str, str]
    image: str | None
    renewed_approvals: bool
    lead_approvals: int
    evidence_rules: dict[str, dict[str, Any]]
    imported_from: str | None
    binned_at: datetime | None
    binned_by: int | None


@dataclass(frozen=True)
class ModelVersionRow:
    """One version of a model as stored."""

    model_id: int
    number: int
    uid: bytes
    version_id: int
    run_id: int | None
    origin: str | None
    comment: str
    retired: bool
    created_by: int
    created_at: datetime
    labels: dict[str, str]
    added_values: dict[str, Any]
    signature: dict[str, Any] | None
    step: int | None
    imported_from: str | None


@dataclass(frozen=True)
class VerdictRow:
    """The standing verdict of one person on one version; `older`: than the version's newest evidence."""

    number: int
    person_id: int
    person: str
    approves: bool
    comment: str
    given_at: datetime
    older: bool


@dataclass(frozen=True)
class EventRow:
    """One change of a stage's occupant."""

    uid: bytes
    act: str
    stage: str
    before: int | None
    after: int | None
    person: str
    comment: str
    at: datetime
    checks: list[dict[str, Any]] | None
    override_reason: str | None
    imported_from: str | None


def model_named(project_id: int, name: str, lock: bool = False) -> ModelRow | None:
    """Return the model of that name, or else the one that had it before.

    `lock` holds its row, and so all acts on it, until the transaction ends.
    """
    found = _found((RegisteredModel.project_id == project_id) & (RegisteredModel.name == name), lock)
    if found is None:
        before = names.find_earlier(project_id, names.MODEL, name)
        found = None if before is None else _found(RegisteredModel.model_id == before, lock)
    return _model(found) if found else None


def _found(where: Any, lock: bool) -> RegisteredModel | None:
    chosen = RegisteredModel.select().where(where)
    found: RegisteredModel | None = (chosen.for_update() if lock else chosen).first()
    return found


def _model(found: RegisteredModel) -> ModelRow:
    return ModelRow(
        found.model_id,
        found.project_id,
        found.name,
        found.purpose,
        found.approvals_needed,
        bool(found.second_pair),
        found.last_number,
        found.lead_number,
        found.created_by,
        found.created_at,
        found.card,
        found.card_revision,
        json.loads(found.card_sections),
        found.gates,
        found.owner_id,
        json.loads(found.labels),
        found.image,
        bool(found.renewed_approvals),
        found.lead_approvals,
        json.loads(found.evidence_rules),
        found.imported_from,
        found.binned_at,
        found.binned_by,
    )


def model_by_id(model_id: int) -> ModelRow:
    """Return a model that is known to exist."""
    return _model(RegisteredModel.get(RegisteredModel.model_id == model_id))


def version_asked_for(model_id: int, which: str) -> tuple[int, int] | None:
    """Return number and artifact version of a model's version by number or stage, None where there is none such."""
    number: int | Node
    if which.isascii() and which.isdigit() and len(which) < 10:
        number = int(which)
    else:
        number = (
            StageStay.select(StageStay.number)
            .where(StageStay.model_id == model_id, StageStay.stage == which)
            .order_by(StageStay.depth.desc())
            .limit(1)
        )
    row = one_row(
        ModelVersion.select(ModelVersion.number, ModelVersion.version_id).where(
            ModelVersion.model_id == model_id, ModelVersion.number == number
        )
    )
    return (row.number, row.version_id) if row else None


def marks_of(model_id: int, number: int) -> tuple[bool, bool]:
    """Return whether a rejection of a version stands, and whether it is retired."""
    version = (ModelVersion.model_id == model_id) & (ModelVersion.number == number)
    rejections = Verdict.select().where(
        (Verdict.model_id == model_id) & (Verdict.number == number) & (Verdict.approves == False)  # noqa: E712
    )
    return rejections.exists(), bool(ModelVersion.select(ModelVersion.retired).where(version).scalar())


def stages_of_versions(model_id: int) -> dict[int, list[str]]:
    """Return the stages on which versions of a model stand now, by version number."""
    found: dict[int, list[str]] = {}
    for stage, stack in stacks_of(model_id).items():
        if stack:
            found.setdefault(stack[-1].number, []).append(stage)
    return found


def models_of(project_id: int) -> list[ModelRow]:
    """Return a project's models by name."""
    rows = RegisteredModel.select().where(RegisteredModel.project_id == project_id).order_by(RegisteredModel.name)
    return [_model(row) for row in rows]


def add_model(project_id: int, name: str, purpose: str, ladder: tuple[Stage, ...], card: str, person_id: int) -> None:
    """Insert a model with its ladder."""
    model_id = RegisteredModel.insert(
        project_id=project_id,
        name=name,
        purpose=purpose,
        approvals_needed=1,
        second_pair=False,
        last_number=0,
        created_by=person_id,
        created_at=now(),
        card=card,
        card_revision=0,
        card_sections="[]",
        gates="",
        owner_id=person_id,
        labels="{}",
        image=None,
        renewed_approvals=True,
        lead_approvals=1,
        evidence_rules="{}",
    ).execute()
    insert_ladder(model_id, ladder)


def insert_ladder(model_id: int, ladder: tuple[Stage, ...]) -> None:
    """Insert the stages of a model that has none."""
    fields: list[Field[Any]] = [
        StageRow.model_id,
        StageRow.position,
        StageRow.name,
        StageRow.asks_approved,
        StageRow.least_role,
        StageRow.placers,
    ]
    rows = [
        (model_id, at, stage.name, stage.asks_approved, stage.least_role, json.dumps(stage.placers))
        for at, stage in enumerate(ladder)
    ]
    insert_rows(StageRow, fields, rows)


def set_ladder(model_id: int, ladder: tuple[Stage, ...]) -> None:
    """Put a ladder in the place of the one that a model has."""
    StageRow.delete().where(StageRow.model_id == model_id).execute()
    insert_ladder(model_id, ladder)


def set_model(model_id: int, **fields: Any) -> None:
    """Set columns of a model; lists and mappings are written as JSON."""
    written = {name: json.dumps(one) if isinstance(one, list | dict) else one for name, one in fields.items()}
    RegisteredModel.update(**written).where(RegisteredModel.model_id == model_id).execute()


def set_model_version(model_id: int, number: int, **fields: Any) -> None:
    """Set columns of a version; lists and mappings are written as JSON."""
    written = {name: json.dumps(one) if isinstance(one, list | dict) else one for name, one in fields.items()}
    ModelVersion.update(**written).where(
        (ModelVersion.model_id == model_id) & (ModelVersion.number == number)
    ).execute()


def ladder_of(model_id: int) -> tuple[Stage, ...]:
    """Return a model's stages from the lowest to the highest."""
    rows = StageRow.select().where(StageRow.model_id == model_id).order_by(StageRow.position)
    return tuple(
        Stage(row.name, bool(row.asks_approved), Role(row.least_role), tuple(json.loads(row.placers))) for row in rows
    )


def stacks_of(model_id: int) -> dict[str, Stack]:
    """Return the stack of every stage that was ever placed on and not emptied since."""
    found: dict[str, list[Stay]] = {}
    rows = (
        StageStay.select(
            StageStay.stage, StageStay.number, StageStay.placed_at, StageStay.approvals_asked, Person.full_name
        )
        .join(Person, on=(Person.person_id == StageStay.placed_by))
        .where(StageStay.model_id == model_id)
        .order_by(StageStay.stage, StageStay.depth)
    )
    for row in named_rows(rows):
        stay = Stay(row.number, row.full_name, iso(row.placed_at) or "", row.approvals_asked)
        found.setdefault(row.stage, []).append(stay)
    return {stage: tuple(stays) for stage, stays in found.items()}


def push_stay(model_id: int, stage: str, depth: int, number: int, person_id: int, approvals_asked: int) -> None:
    """Put a version on top of a stage's stack, with how many approvals the stage takes now (0: none)."""
    StageStay.insert(
        model_id=model_id,
        stage=stage,
        depth=depth,
        number=number,
        placed_by=person_id,
        placed_at=now(),
        approvals_asked=approvals_asked,
    ).execute()


def cut_stack(model_id: int, stage: str, height: int) -> None:
    """Keep the lowest `height` stays of a stage."""
    above = (StageStay.model_id == model_id) & (StageStay.stage == stage) & (StageStay.depth >= height)
    StageStay.delete().where(above).execute()


@dataclass(frozen=True)
class NewEvent:
    """A change of a stage's occupant, with the outcome of every gate that was asked."""

    uid: bytes
    act: str
    stage: str
    before: int | None
    after: int | None
    person_id: int
    comment: str
    checks: list[dict[str, Any]] | None = None
    override_reason: str | None = None


def add_event(
    model_id: int,
    event: NewEvent,
) -> None:
    """Add to the timeline of stages, with the outcome of every gate that was asked."""
    StageEvent.insert(
        model_id=model_id,
        uid=event.uid,
        act=event.act,
        stage=event.stage,
        before_number=event.before,
        after_number=event.after,
        person_id=event.person_id,
        comment=event.comment,
        at=now(),
        checks=None if event.checks is None else json.dumps(event.checks),
        override_reason=event.override_reason,
    ).execute()


def event_by_uid(uid: bytes) -> tuple[int, str, str, int | None] | None:
    """Return (model id, act, stage, after) of the event with that client-made id."""
    event = StageEvent.get_or_none(StageEvent.uid == uid)
    return (event.model_id, event.act, event.stage, event.after_number) if event else None


def events_of(model_id: int) -> list[EventRow]:
    """Return the timeline of a model's stages, the earliest first."""
    rows = (
        StageEvent.select(StageEvent, Person.full_name)
        .join(Person, on=(Person.person_id == StageEvent.person_id))
        .where(StageEvent.model_id == model_id)
        .order_by(StageEvent.event_id)
    )
    return [
        EventRow(
            row.uid,
            row.act,
            row.stage,
            row.before_number,
            row.after_number,
            row.full_name,
            row.comment,
            row.at,
            json.loads(row.checks) if row.checks else None,
            row.override_reason,
            row.imported_from,
        )
        for row in named_rows(rows)
    ]


def _version(found: ModelVersion) -> ModelVersionRow:
    return ModelVersionRow(
        found.model_id,
        found.number,
        found.uid,
        found.version_id,
        found.run_id,
        found.origin,
        found.comment,
        bool(found.retired),
        found.created_by,
        found.created_at,
        json.loads(found.labels),
        json.loads(found.added_values),
        json.loads(found.signature) if found.signature else None,
        found.step,
        found.imported_from,
    )


def version_by_uid(uid: bytes) -> ModelVersionRow | None:
    """Return the version with that client-made id."""
    found = ModelVersion.get_or_none(ModelVersion.uid == uid)
    return _version(found) if found else None


def versions_of_model(model_id: int) -> list[ModelVersionRow]:
    """Return a model's versions, the newest first."""
    rows = ModelVersion.select().where(ModelVersion.model_id == model_id).order_by(ModelVersion.number.desc())
    return [_version(row) for row in rows]


def references_from_run(run_id: int) -> list[str]:
    """Return the versions that were registered from a run, as `NAME@NUMBER`."""
    rows = (
        ModelVersion.select(RegisteredModel.name, ModelVersion.number)
        .join(RegisteredModel, on=(RegisteredModel.model_id == ModelVersion.model_id))
        .where(ModelVersion.run_id == run_id)
        .order_by(RegisteredModel.name, ModelVersion.number)
    )
    return [f"{row.name}@{row.number}" for row in named_rows(rows)]


def versions_on(version_ids: Sequence[int]) -> list[ModelVersionRow]:
    """Return the versions of models, whichever, that were registered from some artifact versions."""
    return [_version(row) for row in ModelVersion.select().where(ModelVersion.version_id.in_(list(version_ids)))]


@dataclass(frozen=True)
class NewModelVersion:
    """A version to insert."""

    uid: bytes
    version_id: int
    run_id: int | None
    origin: str | None
    comment: str
    person_id: int
    labels: dict[str, str]
    added_values: dict[str, Any]
    signature: dict[str, Any] | None
    step: int | None


def add_model_version(
    model: ModelRow,
    new: NewModelVersion,
) -> int:
    """Insert the next version of a locked model and return its number."""
    number = model.last_number + 1
    RegisteredModel.update(last_number=number).where(RegisteredModel.model_id == model.model_id).execute()
    ModelVersion.insert(
        model_id=model.model_id,
        number=number,
        uid=new.uid,
        version_id=new.version_id,
        run_id=new.run_id,
        origin=new.origin,
        comment=new.comment,
        retired=False,
        created_by=new.person_id,
        created_at=now(),
        labels=json.dumps(new.labels),
        added_values=json.dumps(new.added_values),
        signature=None if new.signature is None else json.dumps(new.signature),
        step=new.step,
    ).execute()
    return number


def set_retired(model_id: int, number: int, retired: bool) -> None:
    """Put or take the mark of retirement."""
    ModelVersion.update(retired=retired).where(
        (ModelVersion.model_id == model_id) & (ModelVersion.number == number)
    ).execute()


def set_lead(model_id: int, number: int | None, approvals_needed: int) -> None:
    """Choose the lead version, with how many approvals it takes now, or leave it to the ladder."""
    RegisteredModel.update(lead_number=number, lead_approvals=approvals_needed).where(
        RegisteredModel.model_id == model_id
    ).execute()


def verdicts_of(model_id: int) -> list[VerdictRow]:
    """Return the standing verdicts on all versions of a model."""
    newest = newest_evidence(model_id)
    rows = (
        Verdict.select(
            Verdict.number, Verdict.person_id, Person.full_name, Verdict.approves, Verdict.comment, Verdict.given_at
        )
        .join(Person, on=(Person.person_id == Verdict.person_id))
        .where(Verdict.model_id == model_id)
        .order_by(Verdict.given_at)
    )
    return [
        VerdictRow(
            row.number,
            row.person_id,
            row.full_name,
            bool(row.approves),
            row.comment,
            row.given_at,
            row.number in newest and row.given_at < newest[row.number],
        )
        for row in named_rows(rows)
    ]


def newest_evidence(model_id: int) -> dict[int, datetime]:
    """Return when the newest evidence of each version came, by its number."""
    rows = (
        EvidenceRecord.select(EvidenceRecord.number, fn.MAX(EvidenceRecord.created_at).alias("newest"))
        .where(EvidenceRecord.model_id == model_id)
        .group_by(EvidenceRecord.number)
    )
    return {row.number: row.newest for row in named_rows(rows)}


def set_verdict(model_id: int, number: int, person_id: int, approves: bool | None, comment: str) -> None:
    """Give, replace or (None) take back a person's verdict."""
    if approves is None:
        theirs = (Verdict.model_id == model_id) & (Verdict.number == number) & (Verdict.person_id == person_id)
        Verdict.delete().where(theirs).execute()
        return
    Verdict.replace(
        model_id=model_id, number=number, person_id=person_id, approves=approves, comment=comment, given_at=now()
    ).execute()


def standings_of(model: ModelRow) -> dict[int, Standing]:
    """Return what decides whether each version may stand on a stage."""
    verdicts: dict[int, list[Given]] = {}
    for verdict in verdicts_of(model.model_id):
        verdicts.setdefault(verdict.number, []).append(Given(verdict.approves, verdict.older))
    broken = (
        ArtifactVersion.select(SQL("1"))
        .join(ManifestBlob, on=ManifestBlob.digest == ArtifactVersion.digest)
        .join(BlobFile, on=BlobFile.sha256 == ManifestBlob.sha256)
        .where(ArtifactVersion.version_id == ModelVersion.version_id, BlobFile.damaged)
    )
    rows = ModelVersion.select(ModelVersion.number, ModelVersion.retired, fn.EXISTS(broken).alias("damaged")).where(
        ModelVersion.model_id == model.model_id
    )
    return {
        row.number: _standing(model, row.number, verdicts.get(row.number, []), bool(row.retired), bool(row.damaged))
        for row in named_rows(rows)
    }


def _standing(model: ModelRow, number: int, verdicts: list[Given], retired: bool, damaged: bool) -> Standing:
    review = review_of(verdicts, model.approvals_needed, model.renewed_approvals)
    return Standing(number, review, retired, damaged, counting_approvals(verdicts, renewed=False))
