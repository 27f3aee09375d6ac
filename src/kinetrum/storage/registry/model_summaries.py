"""Many models at a glance, in a few statements however many versions they have."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import datetime

from peewee import JOIN, SQL, Expression, ModelSelect, Tuple, fn

from kinetrum.core.base.permissions import Role
from kinetrum.core.registry.ladder import Stage
from kinetrum.core.registry.review import Review, Standing
from kinetrum.storage.db.database import named_rows, records
from kinetrum.storage.tables.data import ArtifactVersion, BlobFile, ManifestBlob
from kinetrum.storage.tables.people import Person, Project
from kinetrum.storage.tables.registry import EvidenceRecord, ModelVersion, RegisteredModel, StageRow, StageStay, Verdict


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
    rows = (
        RegisteredModel.select(
            RegisteredModel.model_id,
            RegisteredModel.project_id,
            Project.name.alias("project"),
            RegisteredModel.name,
            RegisteredModel.purpose,
            Person.full_name.alias("person"),
            RegisteredModel.labels,
            RegisteredModel.image,
            RegisteredModel.approvals_needed,
            RegisteredModel.last_number,
            RegisteredModel.lead_number,
            RegisteredModel.created_at,
            RegisteredModel.renewed_approvals,
            RegisteredModel.lead_approvals,
        )
        .join(Project, on=Project.project_id == RegisteredModel.project_id)
        .join(
            Person,
            on=Person.person_id == fn.COALESCE(RegisteredModel.owner_id, RegisteredModel.created_by),
            src=RegisteredModel,
        )
        .where(RegisteredModel.project_id.in_(wanted), RegisteredModel.binned_at.is_null())
        .order_by(RegisteredModel.name, Project.name)
    )
    return records(rows, Summary, labels=json.loads)


def complete(summaries: Sequence[Summary], reviews: bool = True) -> None:
    """Add ladders, how occupants and chosen lead versions stand, and how many versions stand where in review."""
    by_id = {one.model_id: one for one in summaries}
    if by_id:
        _add_ladders(by_id)
        _add_standings(by_id)
        if reviews:
            _add_reviews(by_id)


def _add_ladders(by_id: dict[int, Summary]) -> None:
    ids = list(by_id)
    top = (
        StageStay.select(StageStay.model_id, StageStay.stage, fn.MAX(StageStay.depth).alias("depth"))
        .where(StageStay.model_id.in_(ids))
        .group_by(StageStay.model_id, StageStay.stage)
        .alias("top")
    )
    rows = (
        StageRow.select(
            StageRow.model_id,
            StageRow.name,
            StageRow.asks_approved,
            StageRow.least_role,
            StageRow.placers,
            StageStay.number,
            StageStay.placed_at,
            Person.full_name,
            fn.COALESCE(StageStay.approvals_asked, 1).alias("approvals"),
        )
        .join(top, JOIN.LEFT_OUTER, on=(top.c.model_id == StageRow.model_id) & (top.c.stage == StageRow.name))
        .join(
            StageStay,
            JOIN.LEFT_OUTER,
            on=(StageStay.model_id == top.c.model_id)
            & (StageStay.stage == top.c.stage)
            & (StageStay.depth == top.c.depth),
            src=StageRow,
        )
        .join(Person, JOIN.LEFT_OUTER, on=Person.person_id == StageStay.placed_by, src=StageStay)
        .where(StageRow.model_id.in_(ids))
        .order_by(StageRow.model_id, StageRow.position)
    )
    for row in named_rows(rows):
        stage = Stage(row.name, bool(row.asks_approved), Role(row.least_role), tuple(json.loads(row.placers)))
        occupied = Occupied(stage, row.number, row.placed_at, row.full_name, row.approvals)
        by_id[row.model_id].stages.append(occupied)


def _counted_verdicts(model_ids: list[int]) -> ModelSelect[Verdict]:
    """Count, of each version, approvals that count, all approvals, and rejections.

    An approval older than the newest evidence counts where the model does not ask for it again.
    """
    newest = EvidenceRecord.select(fn.MAX(EvidenceRecord.created_at)).where(
        EvidenceRecord.model_id == Verdict.model_id, EvidenceRecord.number == Verdict.number
    )
    outdated = RegisteredModel.renewed_approvals & (Verdict.given_at < fn.COALESCE(newest, Verdict.given_at))
    return (
        Verdict.select(
            Verdict.model_id,
            Verdict.number,
            fn.SUM(Verdict.approves & ~outdated).alias("approves"),
            fn.SUM(Verdict.approves).alias("every"),
            fn.SUM(Verdict.approves == False).alias("rejects"),  # noqa: E712
        )
        .join(RegisteredModel, on=RegisteredModel.model_id == Verdict.model_id)
        .where(Verdict.model_id.in_(model_ids))
        .group_by(Verdict.model_id, Verdict.number)
        .alias("given")
    )


def _of_version(verdicts: ModelSelect[Verdict]) -> Expression:
    return (verdicts.c.model_id == ModelVersion.model_id) & (verdicts.c.number == ModelVersion.number)


def _add_reviews(by_id: dict[int, Summary]) -> None:
    """Count versions by review, inside the database; the rule is that of `core.registry.review.review_of`."""
    ids = list(by_id)
    verdicts = _counted_verdicts(ids)
    rejects, approves = fn.COALESCE(verdicts.c.rejects, 0), fn.COALESCE(verdicts.c.approves, 0)
    enough = (rejects == 0) & (approves > 0) & (verdicts.c.approves >= RegisteredModel.approvals_needed)
    rows = (
        ModelVersion.select(
            ModelVersion.model_id,
            fn.COUNT(SQL("*")).alias("versions"),
            fn.MAX(ModelVersion.created_at).alias("newest_at"),
            fn.SUM(rejects > 0).alias("rejected"),
            fn.SUM(enough).alias("approved"),
        )
        .join(RegisteredModel, on=RegisteredModel.model_id == ModelVersion.model_id)
        .join(verdicts, JOIN.LEFT_OUTER, on=_of_version(verdicts), src=ModelVersion)
        .where(ModelVersion.model_id.in_(ids))
        .group_by(ModelVersion.model_id)
    )
    for row in named_rows(rows):
        model, rejected, approved = by_id[row.model_id], int(row.rejected), int(row.approved or 0)
        model.newest_at = row.newest_at
        model.reviews[Review.REJECTED], model.reviews[Review.APPROVED] = rejected, approved
        model.reviews[Review.PENDING] = int(row.versions) - rejected - approved


def _add_standings(by_id: dict[int, Summary]) -> None:
    """Tell how occupants and chosen lead versions stand."""
    pairs = {(one.model_id, stage.number) for one in by_id.values() for stage in one.stages if stage.number}
    pairs |= {(one.model_id, one.lead_number) for one in by_id.values() if one.lead_number}
    if not pairs:
        return
    damaged = _damaged(pairs)
    verdicts = _counted_verdicts(list(by_id))
    rows = (
        ModelVersion.select(
            ModelVersion.model_id,
            ModelVersion.number,
            ModelVersion.retired,
            fn.COALESCE(verdicts.c.rejects, 0).alias("rejects"),
            fn.COALESCE(verdicts.c.approves, 0).alias("approves"),
            fn.COALESCE(verdicts.c.every, 0).alias("every"),
        )
        .join(verdicts, JOIN.LEFT_OUTER, on=_of_version(verdicts))
        .where(_among(pairs))
    )
    for row in named_rows(rows):
        model = by_id[row.model_id]
        enough = row.approves >= max(1, model.approvals_needed)
        review = Review.REJECTED if row.rejects else Review.APPROVED if enough else Review.PENDING
        is_damaged = (row.model_id, row.number) in damaged
        standing = Standing(row.number, review, bool(row.retired), is_damaged, int(row.every))
        if row.number == model.lead_number:
            model.lead_standing = standing
        for occupied in model.stages:
            if occupied.number == row.number:
                occupied.standing = standing


def _among(pairs: set[tuple[int, int]]) -> Expression:
    return Tuple(ModelVersion.model_id, ModelVersion.number).in_(sorted(pairs))


def _damaged(pairs: set[tuple[int, int]]) -> set[tuple[int, int]]:
    """Return those versions of which a stored file no longer matches its digest."""
    if not BlobFile.select().where(BlobFile.damaged).exists():
        return set()
    rows = (
        ModelVersion.select(ModelVersion.model_id, ModelVersion.number)
        .join(ArtifactVersion, on=ArtifactVersion.version_id == ModelVersion.version_id)
        .join(ManifestBlob, on=ManifestBlob.digest == ArtifactVersion.digest)
        .join(BlobFile, on=BlobFile.sha256 == ManifestBlob.sha256)
        .where(BlobFile.damaged, _among(pairs))
        .distinct()
    )
    return {(row.model_id, row.number) for row in named_rows(rows)}
