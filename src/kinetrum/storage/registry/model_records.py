"""Models as archives hold them: read whole, and inserted with the times and ids that they had elsewhere."""

from __future__ import annotations

import json
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from kinetrum.core.registry.ladder import Stage
from kinetrum.storage.db.clock import now
from kinetrum.storage.registry.stage_records import insert_ladder
from kinetrum.storage.tables.registry import (
    EvidenceRecord,
    ImportedVerdict,
    ModelVersion,
    RegisteredModel,
    StageEvent,
    StageStay,
    Verdict,
)


@dataclass(frozen=True)
class ImportedVerdictRow:
    """A verdict that stood where a version came from; it counts for nothing here."""

    number: int
    said_by: str
    approves: bool
    comment: str
    given_at: datetime


def versions_of(model_id: int) -> list[Any]:
    """Return the rows of a model's versions, the earliest first."""
    return list(ModelVersion.select().where(ModelVersion.model_id == model_id).order_by(ModelVersion.number))


def verdicts_of(model_id: int) -> list[Any]:
    """Return the rows of the standing verdicts on a model's versions."""
    return list(Verdict.select().where(Verdict.model_id == model_id).order_by(Verdict.number, Verdict.given_at))


def evidence_of(model_id: int) -> list[Any]:
    """Return the rows of the evidence on a model's versions, the earliest first."""
    return list(EvidenceRecord.select().where(EvidenceRecord.model_id == model_id).order_by(EvidenceRecord.evidence_id))


def stays_of(model_id: int) -> list[Any]:
    """Return the rows of the stacks of a model's stages, each from the lowest up."""
    return list(StageStay.select().where(StageStay.model_id == model_id).order_by(StageStay.stage, StageStay.depth))


def events_of(model_id: int) -> list[Any]:
    """Return the rows of the timeline of a model's stages, the earliest first."""
    return list(StageEvent.select().where(StageEvent.model_id == model_id).order_by(StageEvent.event_id))


def imported_verdicts_of(model_id: int) -> list[ImportedVerdictRow]:
    """Return the verdicts that came with the versions of a model, the earliest first."""
    rows = (
        ImportedVerdict.select()
        .where(ImportedVerdict.model_id == model_id)
        .order_by(ImportedVerdict.number, ImportedVerdict.position)
    )
    return [ImportedVerdictRow(row.number, row.said_by, bool(row.approves), row.comment, row.given_at) for row in rows]


def origin_of_model(model_id: int) -> str | None:
    """Return where a model came from, None where it was made here."""
    row = RegisteredModel.get_by_id(model_id)
    return str(row.imported_from) if row.imported_from is not None else None


def add_model(
    project_id: int,
    name: str,
    ladder: tuple[Stage, ...],
    person_id: int,
    at: datetime,
    imported_from: str,
    **columns: Any,
) -> int:
    """Insert a model with its ladder and return its id; `columns` are further ones, lists and mappings as JSON."""
    written = {key: json.dumps(one) if isinstance(one, list | dict) else one for key, one in columns.items()}
    fields: dict[str, Any] = {
        "project_id": project_id,
        "name": name,
        "created_by": person_id,
        "created_at": at,
        "card_revision": 1,
        "imported_at": now(),
        "imported_from": imported_from,
        "last_number": 0,
        "lead_number": None,
        "lead_approvals": 0,
        "image": None,
        "owner_id": None,
        **written,
    }
    model_id = int(RegisteredModel.insert(**fields).execute())
    insert_ladder(model_id, ladder)
    return model_id


def add_version(
    model_id: int,
    number: int,
    person_id: int,
    at: datetime,
    imported_from: str,
    **columns: Any,
) -> None:
    """Insert a version of a locked model under its number."""
    written = {key: json.dumps(one) if isinstance(one, list | dict) else one for key, one in columns.items()}
    ModelVersion.insert(
        model_id=model_id,
        number=number,
        created_by=person_id,
        created_at=at,
        imported_at=now(),
        imported_from=imported_from,
        **written,
    ).execute()
    RegisteredModel.update(last_number=number).where(
        (RegisteredModel.model_id == model_id) & (RegisteredModel.last_number < number)
    ).execute()


def add_verdict(model_id: int, position: int, verdict: ImportedVerdictRow) -> None:
    """Keep a verdict that came with a version."""
    ImportedVerdict.insert(
        model_id=model_id,
        number=verdict.number,
        position=position,
        said_by=verdict.said_by,
        approves=verdict.approves,
        comment=verdict.comment,
        given_at=verdict.given_at,
    ).execute()


@dataclass(frozen=True)
class ImportedEvidence:
    """Evidence that comes from an archive."""

    uid: bytes
    number: int
    on: str
    digest: str | None
    run_id: int
    rows_version: int | None
    results: dict[str, Any]
    person_id: int
    at: datetime
    imported_from: str


def add_evidence(
    model_id: int,
    imported: ImportedEvidence,
) -> None:
    """Keep evidence that came with a version; a known id changes nothing."""
    EvidenceRecord.insert(
        uid=imported.uid,
        model_id=model_id,
        number=imported.number,
        data_name=imported.on,
        data_digest=imported.digest,
        run_id=imported.run_id,
        rows_version=imported.rows_version,
        results=json.dumps(imported.results),
        created_by=imported.person_id,
        created_at=imported.at,
        imported_from=imported.imported_from,
    ).on_conflict_ignore().execute()


def add_stay(model_id: int, stage: str, depth: int, number: int, person_id: int, at: datetime) -> None:
    """Put a version on a stage's stack as it stood elsewhere; it asks for no approval to stay there."""
    StageStay.insert(
        model_id=model_id,
        stage=stage,
        depth=depth,
        number=number,
        placed_by=person_id,
        placed_at=at,
        approvals_asked=0,
    ).execute()


@dataclass(frozen=True)
class ImportedEvent:
    """A change of a stage's occupant that comes from an archive."""

    uid: bytes
    act: str
    stage: str
    before: int | None
    after: int | None
    person_id: int
    comment: str
    at: datetime
    checks: list[dict[str, Any]] | None
    override_reason: str | None
    imported_from: str


def add_event(
    model_id: int,
    imported: ImportedEvent,
) -> None:
    """Add a change of a stage that happened elsewhere to the timeline."""
    StageEvent.insert(
        model_id=model_id,
        uid=imported.uid,
        act=imported.act,
        stage=imported.stage,
        before_number=imported.before,
        after_number=imported.after,
        person_id=imported.person_id,
        comment=imported.comment,
        at=imported.at,
        checks=None if imported.checks is None else json.dumps(imported.checks),
        override_reason=imported.override_reason,
        imported_from=imported.imported_from,
    ).on_conflict_ignore().execute()
