"""Models, their ladders, versions, verdicts and the stays of versions on stages."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from peewee import Node

from kinetrum.core.registry.ladder import Stage
from kinetrum.storage.db.clock import now
from kinetrum.storage.db.database import named_rows, one_row
from kinetrum.storage.people import names
from kinetrum.storage.registry.stage_records import insert_ladder
from kinetrum.storage.tables.registry import (
    ModelVersion,
    RegisteredModel,
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


def model_named(project_id: int, name: str, lock: bool = False) -> ModelRow | None:
    """Return the model of that name, or else the one that had it before.

    `lock` holds its row, and so all acts on it, until the transaction ends.
    """
    model = _found((RegisteredModel.project_id == project_id) & (RegisteredModel.name == name), lock)
    if model is None:
        before = names.find_earlier(project_id, names.MODEL, name)
        model = None if before is None else _found(RegisteredModel.model_id == before, lock)
    return _model(model) if model else None


def _found(where: Any, lock: bool) -> RegisteredModel | None:
    chosen = RegisteredModel.select().where(where)
    row: RegisteredModel | None = (chosen.for_update() if lock else chosen).first()
    return row


def _model(row: RegisteredModel) -> ModelRow:
    return ModelRow(
        row.model_id,
        row.project_id,
        row.name,
        row.purpose,
        row.approvals_needed,
        bool(row.second_pair),
        row.last_number,
        row.lead_number,
        row.created_by,
        row.created_at,
        row.card,
        row.card_revision,
        json.loads(row.card_sections),
        row.gates,
        row.owner_id,
        json.loads(row.labels),
        row.image,
        bool(row.renewed_approvals),
        row.lead_approvals,
        json.loads(row.evidence_rules),
        row.imported_from,
        row.binned_at,
        row.binned_by,
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


def _version(row: ModelVersion) -> ModelVersionRow:
    return ModelVersionRow(
        row.model_id,
        row.number,
        row.uid,
        row.version_id,
        row.run_id,
        row.origin,
        row.comment,
        bool(row.retired),
        row.created_by,
        row.created_at,
        json.loads(row.labels),
        json.loads(row.added_values),
        json.loads(row.signature) if row.signature else None,
        row.step,
        row.imported_from,
    )


def version_by_uid(uid: bytes) -> ModelVersionRow | None:
    """Return the version with that client-made id."""
    version = ModelVersion.get_or_none(ModelVersion.uid == uid)
    return _version(version) if version else None


def versions_of_model(model_id: int) -> list[ModelVersionRow]:
    """Return a model's versions, the newest first."""
    rows = ModelVersion.select().where(ModelVersion.model_id == model_id).order_by(ModelVersion.number.desc())
    return [_version(row) for row in rows]


def versions_from_run(run_id: int) -> list[tuple[int, str]]:
    """Return the versions that were registered from a run, with their projects: (project id, `NAME@NUMBER`)."""
    rows = (
        ModelVersion.select(RegisteredModel.project_id, RegisteredModel.name, ModelVersion.number)
        .join(RegisteredModel, on=(RegisteredModel.model_id == ModelVersion.model_id))
        .where(ModelVersion.run_id == run_id)
        .order_by(RegisteredModel.name, ModelVersion.number)
    )
    return [(row.project_id, f"{row.name}@{row.number}") for row in named_rows(rows)]


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
