"""What an archive of a whole project has beyond runs and versions: description, views, notes, and models."""

from __future__ import annotations

import json
import math
from typing import Any

from kinetrum.actions.context import Actor, Place
from kinetrum.core.archives.archive import NoteRecord, Person
from kinetrum.core.archives.project import (
    EventRecord,
    EvidenceRecord,
    ModelRecord,
    ModelVersionRecord,
    ProjectRecord,
    StayRecord,
    ThingNote,
    VerdictRecord,
    ViewRecord,
)
from kinetrum.core.base.ids import id_text
from kinetrum.storage.data import artifacts
from kinetrum.storage.data.artifacts import VersionRow
from kinetrum.storage.db.clock import to_micros
from kinetrum.storage.people import notes, people
from kinetrum.storage.registry import model_records, models, stage_records
from kinetrum.storage.registry.models import ModelRow
from kinetrum.storage.runs import runs
from kinetrum.storage.search import views


class _Names:
    """What ids stand for: people, runs, and artifact versions that the archive has."""

    def __init__(self, versions: list[VersionRow]) -> None:
        self._people = {person.person_id: Person(person.name, person.full_name) for person in people.people()}
        self._versions = {row.version_id: (row.name, row.number) for row in versions}

    def person(self, person_id: int | None, imported_from: str | None = None) -> Person:
        """Return who did something; of what was itself imported, who is said to have done it where it came from."""
        if imported_from is not None:
            return Person("imported", imported_from)
        return self._people.get(person_id or 0, Person("unknown", ""))

    def account(self, person_id: int | None) -> str | None:
        person = self._people.get(person_id or 0)
        return person.name if person else None

    def version(self, version_id: int | None) -> tuple[str, int] | None:
        return self._versions.get(version_id or 0)


def record_project(actor: Actor, place: Place, versions: list[VersionRow], of_runs: set[int]) -> ProjectRecord:
    """Record what a project has beyond its runs and `versions`; with the views that are shared, and the actor's own.

    `of_runs` are the ids of the runs that the archive has: evidence of others, which are in the bin, stays behind.
    """
    names = _Names(versions)
    return ProjectRecord(
        place.project.name,
        place.project.description,
        dict(place.project.labels),
        tuple(
            ViewRecord(
                id_text(view.uid),
                view.experiment,
                view.name,
                view.shared,
                view.arrangement,
                names.person(view.author_id),
            )
            for view in views.views_of(place.project_id, actor.person_id, None)
        ),
        tuple(_notes(place, names)),
        tuple(_model(model, names, of_runs) for model in _models(place)),
    )


def artifact_versions_of_models(place: Place) -> set[int]:
    """Return the ids of the artifact versions that a project's models were registered from or judged by."""
    version_ids: set[int] = set()
    for model in _models(place):
        version_ids |= {row.version_id for row in model_records.versions_of(model.model_id)}
        version_ids |= {
            row.rows_version for row in model_records.evidence_of(model.model_id) if row.rows_version is not None
        }
    of_project = {
        row.version_id for row in artifacts.versions_by_ids(sorted(version_ids)) if row.project_id == place.project_id
    }
    return version_ids & of_project


def _models(place: Place) -> list[ModelRow]:
    """Return the models of a project that are not in the bin."""
    return [model for model in models.models_of(place.project_id) if model.binned_at is None]


def _notes(place: Place, names: _Names) -> list[ThingNote]:
    thing_notes = notes.notes_on_other_things(place.project_id)
    references = notes.references_of([(kind, note.subject_id) for kind, note in thing_notes])
    listed = []
    for kind, note in thing_notes:
        reference = references.get((kind, note.subject_id))
        if reference is None:
            continue
        name, _, number = reference.rpartition(":")[2].partition("@")
        by = names.person(note.author_id, note.imported_from)
        record = NoteRecord(id_text(note.uid), by, note.text, to_micros(note.written_at))
        listed.append(ThingNote(kind, name, int(number) if number else None, record))
    return listed


def _model(model: ModelRow, names: _Names, of_runs: set[int]) -> ModelRecord:
    model_id = model.model_id
    rows = model_records.versions_of(model_id)
    judged = model_records.evidence_of(model_id)
    uids = _run_uids({row.run_id for row in (*rows, *judged) if row.run_id in of_runs})
    return ModelRecord(
        name=model.name,
        purpose=model.purpose,
        approvals_needed=model.approvals_needed,
        second_pair=model.second_pair,
        renewed_approvals=model.renewed_approvals,
        card=model.card,
        card_sections=tuple(model.card_sections),
        gates=model.gates,
        evidence_rules=model.evidence_rules,
        owner=names.account(model.owner_id),
        labels=model.labels,
        image=model.image,
        lead=model.lead_number,
        by=names.person(model.created_by, model_records.origin_of_model(model_id)),
        made_at=to_micros(model.created_at),
        ladder=stage_records.ladder_of(model_id),
        versions=tuple(_version(row, names, uids) for row in rows),
        stays=tuple(
            StayRecord(row.stage, row.number, to_micros(row.placed_at)) for row in model_records.stays_of(model_id)
        ),
        events=tuple(_event(row, names) for row in model_records.events_of(model_id)),
        verdicts=(
            *(
                VerdictRecord(
                    row.number, Person("imported", row.said_by), row.approves, row.comment, to_micros(row.given_at)
                )
                for row in model_records.imported_verdicts_of(model_id)
            ),
            *(
                VerdictRecord(
                    row.number, names.person(row.person_id), bool(row.approves), row.comment, to_micros(row.given_at)
                )
                for row in model_records.verdicts_of(model_id)
            ),
        ),
        evidence=tuple(
            EvidenceRecord(
                id_text(row.uid),
                row.number,
                row.data_name,
                row.data_digest,
                uids[row.run_id],
                names.version(row.rows_version),
                json.loads(row.results),
                names.person(row.created_by, row.imported_from),
                to_micros(row.created_at),
            )
            for row in judged
            if row.run_id in uids
        ),
    )


def _run_uids(run_ids: set[int]) -> dict[int, str]:
    return {run.run_id: id_text(run.uid) for run in runs.runs_by_ids(sorted(run_ids))}


def _version(row: Any, names: _Names, uids: dict[int, str]) -> ModelVersionRecord:
    signature = json.loads(row.signature) if row.signature else None
    return ModelVersionRecord(
        id_text(row.uid),
        row.number,
        names.version(row.version_id),
        uids.get(row.run_id),
        row.origin,
        row.comment,
        bool(row.retired),
        names.person(row.created_by, row.imported_from),
        to_micros(row.created_at),
        json.loads(row.labels),
        json.loads(row.added_values),
        signature,
        row.step,
    )


def _event(row: Any, names: _Names) -> EventRecord:
    return EventRecord(
        id_text(row.uid),
        row.act,
        row.stage,
        row.before_number,
        row.after_number,
        names.person(row.person_id, row.imported_from),
        row.comment,
        to_micros(row.at),
        [_finite(check) for check in json.loads(row.checks)] if row.checks else None,
        row.override_reason,
    )


def _finite(check: dict[str, Any]) -> dict[str, Any]:
    figures = check["figures"].items()
    return {
        **check,
        "figures": {name: one if one is not None and math.isfinite(one) else None for name, one in figures},
    }
