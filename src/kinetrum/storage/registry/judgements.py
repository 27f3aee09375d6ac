"""What two tables of predictions came to, kept by everything that it depends on: it never changes."""

from __future__ import annotations

import json
from typing import Any

from kinetrum.storage.db.clock import now
from kinetrum.storage.tables.registry import RowsJudgement


def find_judgement(inputs: bytes) -> list[dict[str, Any]] | None:
    """Return the verdicts kept under a digest of their inputs; None where there are none."""
    row = RowsJudgement.get_or_none(RowsJudgement.inputs == inputs)
    verdicts: list[dict[str, Any]] | None = json.loads(row.verdicts) if row else None
    return verdicts


def keep_judgement(inputs: bytes, verdicts: list[dict[str, Any]]) -> None:
    """Keep verdicts under a digest of their inputs; two that judge at once keep the same."""
    RowsJudgement.insert(inputs=inputs, verdicts=json.dumps(verdicts), judged_at=now()).on_conflict_ignore().execute()
