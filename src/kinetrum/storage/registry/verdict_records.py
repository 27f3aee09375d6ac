"""Verdicts on versions, and how versions stand by them."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from peewee import SQL, fn

from kinetrum.core.registry.review import Given, Standing, counting_approvals, review_of
from kinetrum.storage.db.clock import now
from kinetrum.storage.db.database import named_rows
from kinetrum.storage.registry.models import ModelRow
from kinetrum.storage.tables.data import ArtifactVersion, BlobFile, ManifestBlob
from kinetrum.storage.tables.people import Person
from kinetrum.storage.tables.registry import (
    EvidenceRecord,
    ModelVersion,
    Verdict,
)


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
