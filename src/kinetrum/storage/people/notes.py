"""Notes: Markdown texts, with author and time."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from peewee import ModelSelect, Tuple, fn

from kinetrum.storage.db.clock import now
from kinetrum.storage.db.database import named_rows
from kinetrum.storage.tables.data import Artifact, ArtifactVersion
from kinetrum.storage.tables.people import Experiment, NoteRow, Person, Project
from kinetrum.storage.tables.registry import ModelVersion, RegisteredModel
from kinetrum.storage.tables.runs import RunRow

# The version of a model that a note stands on is the model's id times this, plus the number within the model.
VERSIONS_PER_MODEL = 2**32
_ROWS_AT_ONCE = 500


@dataclass(frozen=True)
class Note:
    """One note; `subject_id` is the id of what it stands on."""

    uid: bytes
    subject_id: int
    author_id: int
    author: str
    text: str
    written_at: datetime
    imported_from: str | None = None


def add_notes(project_id: int, kind: str, notes: list[tuple[bytes, int]], author_id: int, text: str) -> None:
    """Put one text on several subjects, given as (note id, subject id); known note ids change nothing."""
    moment = now()
    rows = [
        {
            "uid": uid,
            "project_id": project_id,
            "subject_kind": kind,
            "subject_id": subject,
            "author_id": author_id,
            "text": text,
            "written_at": moment,
        }
        for uid, subject in sorted(notes)
    ]
    for start in range(0, len(rows), _ROWS_AT_ONCE):
        NoteRow.insert_many(rows[start : start + _ROWS_AT_ONCE]).on_conflict_ignore().execute()


@dataclass(frozen=True)
class ImportedNote:
    """A note that comes from an archive."""

    uid: bytes
    author_id: int
    text: str
    at: datetime
    imported_from: str | None


def add_imported(
    project_id: int,
    kind: str,
    subject_id: int,
    note: ImportedNote,
) -> None:
    """Put a note that comes from an archive on its subject; a known id changes nothing."""
    NoteRow.insert(
        uid=note.uid,
        project_id=project_id,
        subject_kind=kind,
        subject_id=subject_id,
        author_id=note.author_id,
        text=note.text,
        written_at=note.at,
        imported_from=note.imported_from,
    ).on_conflict_ignore().execute()


def notes_on_other_things(project_id: int) -> list[tuple[str, Note]]:
    """Return (kind, note) of every note of a project that stands on something that is no run."""
    rows = (
        NoteRow.select(NoteRow, Person.full_name)
        .join(Person, on=(Person.person_id == NoteRow.author_id))
        .where((NoteRow.project_id == project_id) & (NoteRow.subject_kind != "run"))
        .order_by(NoteRow.note_id)
    )
    return [(row.subject_kind, _note(row)) for row in named_rows(rows)]


def notes_on(kind: str, subject_id: int) -> list[Note]:
    """Return the notes on a subject, the earliest first."""
    rows = (
        NoteRow.select(NoteRow, Person.full_name)
        .join(Person, on=(Person.person_id == NoteRow.author_id))
        .where((NoteRow.subject_kind == kind) & (NoteRow.subject_id == subject_id))
        .order_by(NoteRow.note_id)
    )
    return [_note(row) for row in named_rows(rows)]


def _note(row: Any) -> Note:
    return Note(row.uid, row.subject_id, row.author_id, row.full_name, row.text, row.written_at, row.imported_from)


def _artifact_versions(ids: list[int]) -> ModelSelect[ArtifactVersion]:
    return (
        ArtifactVersion.select(ArtifactVersion.version_id, fn.CONCAT(Artifact.name, "@", ArtifactVersion.number))
        .join(Artifact, on=Artifact.artifact_id == ArtifactVersion.artifact_id)
        .where(ArtifactVersion.version_id.in_(ids), ArtifactVersion.binned_at.is_null())
    )


def _runs(ids: list[int]) -> ModelSelect[RunRow]:
    return (
        RunRow.select(RunRow.run_id, fn.CONCAT(Experiment.name, "/", RunRow.number))
        .join(Experiment, on=Experiment.experiment_id == RunRow.experiment_id)
        .where(RunRow.run_id.in_(ids), RunRow.binned_at.is_null())
    )


def _model_versions(ids: list[int]) -> ModelSelect[ModelVersion]:
    subject = ModelVersion.model_id * VERSIONS_PER_MODEL + ModelVersion.number
    pairs = [divmod(row_id, VERSIONS_PER_MODEL) for row_id in ids]
    return (
        ModelVersion.select(subject, fn.CONCAT(RegisteredModel.name, "@", ModelVersion.number))
        .join(RegisteredModel, on=RegisteredModel.model_id == ModelVersion.model_id)
        .where(Tuple(ModelVersion.model_id, ModelVersion.number).in_(pairs))
    )


def _named(
    table: type[Project | Experiment | Artifact | RegisteredModel], prefix: str
) -> Callable[[list[int]], ModelSelect[Any]]:
    key: Any = table._meta.primary_key
    return lambda ids: table.select(key, fn.CONCAT(prefix, table.name)).where(key.in_(ids))


_REFERENCES: dict[str, Callable[[list[int]], ModelSelect[Any]]] = {
    "project": _named(Project, "project:"),
    "experiment": _named(Experiment, "experiment:"),
    "run": _runs,
    "artifact": _named(Artifact, "artifact:"),
    "artifact@": _artifact_versions,
    "model": _named(RegisteredModel, "model:"),
    "model@": _model_versions,
}


def references_of(subjects: list[tuple[str, int]]) -> dict[tuple[str, int], str]:
    """Return the references of what notes stand on, by kind and id; what is in the bin has none."""
    references: dict[tuple[str, int], str] = {}
    for kind, select in _REFERENCES.items():
        ids = sorted({row_id for one, row_id in subjects if one == kind})
        if ids:
            references |= {(kind, int(row_id)): reference for row_id, reference in select(ids).tuples()}
    return references


def remove_note(uid: bytes) -> None:
    """Remove a note."""
    NoteRow.delete().where(NoteRow.uid == uid).execute()
