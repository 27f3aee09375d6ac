"""Evidence of versions on named data: which run judged them, what came out, and where the rows are."""

from __future__ import annotations

import json
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from kinetrum.core.base.ids import id_text
from kinetrum.storage.db.clock import now
from kinetrum.storage.tables.registry import EvidenceRecord


@dataclass(frozen=True)
class EvidenceRow:
    """One piece of evidence. `rows_version`: the artifact version with its predictions row by row."""

    uid: str
    number: int
    on: str
    digest: str | None
    run_id: int
    rows_version: int | None
    results: dict[str, Any]
    person_id: int
    at: datetime
    imported_from: str | None


@dataclass(frozen=True)
class NewEvidenceRow:
    """Evidence to keep: results of a version, by its number, on named data."""

    uid: bytes
    number: int
    on: str
    digest: str | None
    run_id: int
    rows_version: int | None
    results: dict[str, Any]
    person_id: int


def add_evidence(
    model_id: int,
    new: NewEvidenceRow,
) -> bool:
    """Keep evidence; tells whether it is new. Sent again under the same id, nothing changes."""
    record = EvidenceRecord.insert(
        uid=new.uid,
        model_id=model_id,
        number=new.number,
        data_name=new.on,
        data_digest=new.digest,
        run_id=new.run_id,
        rows_version=new.rows_version,
        results=json.dumps(new.results),
        created_by=new.person_id,
        created_at=now(),
    )
    return bool(record.on_conflict_ignore().as_rowcount().execute())


def evidence_of(model_id: int, number: int | None = None) -> list[EvidenceRow]:
    """Return the evidence of a model's versions, or of one, the earliest first."""
    chosen = EvidenceRecord.model_id == model_id
    if number is not None:
        chosen &= EvidenceRecord.number == number
    rows = EvidenceRecord.select().where(chosen).order_by(EvidenceRecord.evidence_id)
    return [
        EvidenceRow(
            id_text(row.uid),
            row.number,
            row.data_name,
            row.data_digest,
            row.run_id,
            row.rows_version,
            json.loads(row.results),
            row.created_by,
            row.created_at,
            row.imported_from,
        )
        for row in rows
    ]


def model_of_evidence(uid: bytes) -> tuple[int, int] | None:
    """Return the model and version number of the evidence with that client-made id."""
    record = EvidenceRecord.get_or_none(EvidenceRecord.uid == uid)
    return (record.model_id, record.number) if record else None
