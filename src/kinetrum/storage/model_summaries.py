"""Many models at a glance, in a few statements however many versions they have."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import datetime

from kinetrum.core.permissions import Role
from kinetrum.core.registry.ladder import Stage
from kinetrum.core.registry.review import Review, Standing
from kinetrum.storage.database import places, query


@dataclass
class Occupied:
    """A stage and who stands on it: its number, since when, placed by whom, and how it is reviewed."""

    stage: Stage
    number: int | None = None
    since: datetime | None = None
    placed_by: str | None = None
    standing: Standing | None = None


@dataclass
class Summary:
    """One model: its ladder from the lowest stage, and how many of its versions stand where in review."""

    model_id: int
    project_id: int
    project: str
    name: str
    purpose: str
    person: str
    labels: dict[str, str]
    image: str | None
    approvals_needed: int
    last_number: int
    lead_number: int | None
    created_at: datetime
    stages: list[Occupied] = field(default_factory=list)
    reviews: dict[Review, int] = field(default_factory=lambda: dict.fromkeys(Review, 0))
    newest_at: datetime | None = None
    lead_standing: Standing | None = None


def summaries_of(project_ids: Sequence[int]) -> list[Summary]:
    """Return the models of projects by name."""
    wanted = list(project_ids)
    if not wanted:
        return []
    rows = query(
        "SELECT m.model_id, m.project_id, j.name, m.name, m.purpose, p.full_name, m.labels, m.image,"
        " m.approvals_needed, m.last_number, m.lead_number, m.created_at FROM model m JOIN project j USING (project_id)"
        f" JOIN person p ON p.person_id = COALESCE(m.owner_id, m.created_by) WHERE m.project_id IN {places(wanted)}"
        " ORDER BY m.name, j.name",
        *wanted,
    )
    found = []
    for row in rows:
        labels: dict[str, str] = json.loads(row[6])
        found.append(
            Summary(row[0], row[1], row[2], row[3], row[4], row[5], labels, row[7], row[8], row[9], row[10], row[11])
        )
    by_id = {one.model_id: one for one in found}
    _add_ladders(by_id)
    _add_reviews(by_id)
    return found


def _add_ladders(by_id: dict[int, Summary]) -> None:
    ids = list(by_id)
    if not ids:
        return
    rows = query(
        "SELECT s.model_id, s.name, s.asks_approved, s.least_role, s.placers, t.number, t.placed_at, p.full_name"
        " FROM stage s LEFT JOIN (SELECT model_id, stage, MAX(depth) AS depth FROM stage_stay WHERE model_id IN"
        f" {places(ids)} GROUP BY model_id, stage) top ON top.model_id = s.model_id AND top.stage = s.name"
        " LEFT JOIN stage_stay t ON t.model_id = top.model_id AND t.stage = top.stage AND t.depth = top.depth"
        f" LEFT JOIN person p ON p.person_id = t.placed_by WHERE s.model_id IN {places(ids)}"
        " ORDER BY s.model_id, s.position",
        *ids, *ids,
    )  # fmt: skip
    for model_id, name, asks, role, placers, number, since, person in rows:
        stage = Stage(name, bool(asks), Role(role), tuple(json.loads(placers)))
        by_id[model_id].stages.append(Occupied(stage, number, since, person))


def _add_reviews(by_id: dict[int, Summary]) -> None:
    """Count versions by review, and tell how occupants and chosen lead versions stand."""
    ids = list(by_id)
    if not ids:
        return
    damaged = _damaged(by_id)
    rows = query(
        "SELECT v.model_id, v.number, v.retired, v.created_at, COALESCE(d.approves, 0), COALESCE(d.rejects, 0)"
        " FROM model_version v LEFT JOIN (SELECT model_id, number, SUM(approves) AS approves,"
        f" SUM(NOT approves) AS rejects FROM verdict WHERE model_id IN {places(ids)} GROUP BY model_id, number) d"
        f" ON d.model_id = v.model_id AND d.number = v.number WHERE v.model_id IN {places(ids)}",
        *ids, *ids,
    )  # fmt: skip
    for model_id, number, retired, created_at, approves, rejects in rows:
        model = by_id[model_id]
        enough = int(approves) >= model.approvals_needed
        review = Review.REJECTED if rejects else Review.APPROVED if approves and enough else Review.PENDING
        model.reviews[review] += 1
        if model.newest_at is None or created_at > model.newest_at:
            model.newest_at = created_at
        standing = Standing(number, review, bool(retired), (model_id, number) in damaged)
        if number == model.lead_number:
            model.lead_standing = standing
        for held in model.stages:
            if held.number == number:
                held.standing = standing


def _damaged(by_id: dict[int, Summary]) -> set[tuple[int, int]]:
    """Return the occupants and lead versions of which a stored file no longer matches its digest."""
    pairs = {(one.model_id, held.number) for one in by_id.values() for held in one.stages if held.number}
    pairs |= {(one.model_id, one.lead_number) for one in by_id.values() if one.lead_number}
    if not pairs or not query("SELECT 1 FROM blob_file WHERE damaged LIMIT 1"):
        return set()
    flat = [part for pair in pairs for part in pair]
    rows = query(
        "SELECT DISTINCT v.model_id, v.number FROM model_version v JOIN artifact_version a USING (version_id)"
        " JOIN manifest_blob mb ON mb.digest = a.digest JOIN blob_file b USING (sha256)"
        f" WHERE b.damaged AND (v.model_id, v.number) IN ({', '.join(['(%s, %s)'] * len(pairs))})",
        *flat,
    )
    return {(model_id, number) for model_id, number in rows}
