"""Many models at a glance, in a few statements however many versions they have."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import datetime

from kinetrum.core.base.permissions import Role
from kinetrum.core.registry.ladder import Stage
from kinetrum.core.registry.review import Review, Standing
from kinetrum.storage.db.database import places, query


@dataclass
class Occupied:
    """A stage and who stands on it: its number, since when, placed by whom, and how it is reviewed."""

    stage: Stage
    number: int | None = None
    since: datetime | None = None
    placed_by: str | None = None
    approvals_asked: int = 1
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
    renewed_approvals: bool
    lead_approvals: int
    stages: list[Occupied] = field(default_factory=list)
    reviews: dict[Review, int] = field(default_factory=lambda: dict.fromkeys(Review, 0))
    newest_at: datetime | None = None
    lead_standing: Standing | None = None


def models_in(project_ids: Sequence[int]) -> list[Summary]:
    """Return the models of projects by name, without their ladders and reviews."""
    wanted = list(project_ids)
    if not wanted:
        return []
    rows = query(
        "SELECT m.model_id, m.project_id, j.name, m.name, m.purpose, p.full_name, m.labels, m.image,"
        " m.approvals_needed, m.last_number, m.lead_number, m.created_at, m.renewed_approvals, m.lead_approvals"
        " FROM model m JOIN project j USING (project_id)"
        f" JOIN person p ON p.person_id = COALESCE(m.owner_id, m.created_by) WHERE m.project_id IN {places(wanted)}"
        " AND m.binned_at IS NULL ORDER BY m.name, j.name",
        *wanted,
    )
    found = []
    for row in rows:
        labels: dict[str, str] = json.loads(row[6])
        found.append(
            Summary(
                row[0],
                row[1],
                row[2],
                row[3],
                row[4],
                row[5],
                labels,
                row[7],
                row[8],
                row[9],
                row[10],
                row[11],
                bool(row[12]),
                row[13],
            )
        )
    return found


def complete(found: Sequence[Summary], reviews: bool = True) -> None:
    """Add ladders, how occupants and chosen lead versions stand, and how many versions stand where in review."""
    by_id = {one.model_id: one for one in found}
    if by_id:
        _add_ladders(by_id)
        _add_standings(by_id)
        if reviews:
            _add_reviews(by_id)


def _add_ladders(by_id: dict[int, Summary]) -> None:
    ids = list(by_id)
    rows = query(
        "SELECT s.model_id, s.name, s.asks_approved, s.least_role, s.placers, t.number, t.placed_at, p.full_name,"
        " COALESCE(t.approvals_asked, 1)"
        " FROM stage s LEFT JOIN (SELECT model_id, stage, MAX(depth) AS depth FROM stage_stay WHERE model_id IN"
        f" {places(ids)} GROUP BY model_id, stage) top ON top.model_id = s.model_id AND top.stage = s.name"
        " LEFT JOIN stage_stay t ON t.model_id = top.model_id AND t.stage = top.stage AND t.depth = top.depth"
        f" LEFT JOIN person p ON p.person_id = t.placed_by WHERE s.model_id IN {places(ids)}"
        " ORDER BY s.model_id, s.position",
        *ids,
        *ids,
    )
    for model_id, name, asks, role, placers, number, since, person, asked in rows:
        stage = Stage(name, bool(asks), Role(role), tuple(json.loads(placers)))
        by_id[model_id].stages.append(Occupied(stage, number, since, person, asked))


# Of each version: approvals that count, all approvals, rejections. An approval older than the newest evidence counts
# where the model does not ask for it again.
_VERDICTS = (
    "SELECT d.model_id, d.number, SUM(d.approves AND NOT (r.renewed_approvals AND d.given_at < COALESCE((SELECT"
    " MAX(e.created_at) FROM evidence e WHERE e.model_id = d.model_id AND e.number = d.number), d.given_at))) AS"
    " approves, SUM(d.approves) AS every, SUM(NOT d.approves) AS rejects"
    " FROM verdict d JOIN model r USING (model_id) WHERE d.model_id IN"
)


def _add_reviews(by_id: dict[int, Summary]) -> None:
    """Count versions by review, inside the database; the rule is that of `core.registry.review.review_of`."""
    ids = list(by_id)
    rows = query(
        "SELECT v.model_id, COUNT(*), MAX(v.created_at), SUM(COALESCE(d.rejects, 0) > 0),"
        " SUM(COALESCE(d.rejects, 0) = 0 AND COALESCE(d.approves, 0) > 0 AND d.approves >= m.approvals_needed)"
        f" FROM model_version v JOIN model m USING (model_id) LEFT JOIN ({_VERDICTS} {places(ids)}"
        " GROUP BY d.model_id, d.number) d ON d.model_id = v.model_id AND d.number = v.number"
        f" WHERE v.model_id IN {places(ids)} GROUP BY v.model_id",
        *ids,
        *ids,
    )
    for model_id, count, newest_at, rejected, approved in rows:
        model = by_id[model_id]
        model.newest_at = newest_at
        model.reviews[Review.REJECTED], model.reviews[Review.APPROVED] = int(rejected), int(approved)
        model.reviews[Review.PENDING] = int(count) - int(rejected) - int(approved)


def _add_standings(by_id: dict[int, Summary]) -> None:
    """Tell how occupants and chosen lead versions stand."""
    pairs = {(one.model_id, held.number) for one in by_id.values() for held in one.stages if held.number}
    pairs |= {(one.model_id, one.lead_number) for one in by_id.values() if one.lead_number}
    if not pairs:
        return
    damaged, among = _damaged(pairs), f"({', '.join(['(%s, %s)'] * len(pairs))})"
    flat = [part for pair in pairs for part in pair]
    rows = query(
        "SELECT v.model_id, v.number, v.retired, COALESCE(d.rejects, 0), COALESCE(d.approves, 0), COALESCE(d.every, 0)"
        f" FROM model_version v LEFT JOIN ({_VERDICTS} {places(list(by_id))} GROUP BY d.model_id, d.number) d"
        f" ON d.model_id = v.model_id AND d.number = v.number WHERE (v.model_id, v.number) IN {among}",
        *by_id,
        *flat,
    )
    for model_id, number, retired, rejects, approves, every in rows:
        model = by_id[model_id]
        enough = approves >= max(1, model.approvals_needed)
        review = Review.REJECTED if rejects else Review.APPROVED if enough else Review.PENDING
        standing = Standing(number, review, bool(retired), (model_id, number) in damaged, int(every))
        if number == model.lead_number:
            model.lead_standing = standing
        for held in model.stages:
            if held.number == number:
                held.standing = standing


def _damaged(pairs: set[tuple[int, int]]) -> set[tuple[int, int]]:
    """Return those versions of which a stored file no longer matches its digest."""
    if not query("SELECT 1 FROM blob_file WHERE damaged LIMIT 1"):
        return set()
    flat = [part for pair in pairs for part in pair]
    rows = query(
        "SELECT DISTINCT v.model_id, v.number FROM model_version v JOIN artifact_version a USING (version_id)"
        " JOIN manifest_blob mb ON mb.digest = a.digest JOIN blob_file b USING (sha256)"
        f" WHERE b.damaged AND (v.model_id, v.number) IN ({', '.join(['(%s, %s)'] * len(pairs))})",
        *flat,
    )
    return {(model_id, number) for model_id, number in rows}
