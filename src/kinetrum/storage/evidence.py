"""Evidence of versions on named data: which run judged them, what came out, and where the rows are."""

from __future__ import annotations

import json
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from kinetrum.core.ids import id_text
from kinetrum.storage.clock import now
from kinetrum.storage.database import execute, query


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


def add_evidence(
    model_id: int, uid: bytes, number: int, on: str, digest: str | None, run_id: int, rows_version: int | None,
    results: dict[str, Any], person_id: int,
) -> bool:  # fmt: skip
    """Keep evidence; tells whether it is new. Sent again under the same id, nothing changes."""
    return bool(
        execute(
            "INSERT IGNORE INTO evidence (uid, model_id, number, data_name, data_digest, run_id, rows_version, results,"
            " created_by, created_at) VALUES (%s, %s, %s, %s, %s, %s, %s, %s, %s, %s)",
            uid, model_id, number, on, digest, run_id, rows_version, json.dumps(results), person_id, now(),
        )
    )  # fmt: skip


def evidence_of(model_id: int, number: int | None = None) -> list[EvidenceRow]:
    """Return the evidence of a model's versions, or of one, the earliest first."""
    only, values = ("", ()) if number is None else (" AND number = %s", (number,))
    rows = query(
        "SELECT uid, number, data_name, data_digest, run_id, rows_version, results, created_by, created_at"
        f" FROM evidence WHERE model_id = %s{only} ORDER BY evidence_id",
        model_id, *values,
    )  # fmt: skip
    return [
        EvidenceRow(id_text(uid), of, on, digest, run_id, kept, json.loads(results), person_id, at)
        for uid, of, on, digest, run_id, kept, results, person_id, at in rows
    ]


def model_of_evidence(uid: bytes) -> tuple[int, int] | None:
    """Return the model and version number of the evidence with that client-made id."""
    rows = query("SELECT model_id, number FROM evidence WHERE uid = %s", uid)
    return rows[0] if rows else None
