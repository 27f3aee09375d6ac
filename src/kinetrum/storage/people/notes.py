"""Notes: Markdown texts, with author and time."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Any

from kinetrum.storage.db.clock import now
from kinetrum.storage.db.database import named_rows, places, query
from kinetrum.storage.tables.people import NoteRow, Person

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


def add_imported(
    project_id: int,
    kind: str,
    subject_id: int,
    uid: bytes,
    author_id: int,
    text: str,
    at: datetime,
    imported_from: str | None,
) -> None:
    """Put a note that comes from an archive on its subject; a known id changes nothing."""
    NoteRow.insert(
        uid=uid,
        project_id=project_id,
        subject_kind=kind,
        subject_id=subject_id,
        author_id=author_id,
        text=text,
        written_at=at,
        imported_from=imported_from,
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


_NAMES = {
    "project": "SELECT project_id, CONCAT('project:', name) FROM project WHERE project_id IN {0}",
    "experiment": "SELECT experiment_id, CONCAT('experiment:', name) FROM experiment WHERE experiment_id IN {0}",
    "run": "SELECT r.run_id, CONCAT(e.name, '/', r.number) FROM run r JOIN experiment e USING (experiment_id)"
    " WHERE r.run_id IN {0} AND r.binned_at IS NULL",
    "artifact": "SELECT artifact_id, CONCAT('artifact:', name) FROM artifact WHERE artifact_id IN {0}",
    "artifact@": "SELECT v.version_id, CONCAT(a.name, '@', v.number) FROM artifact_version v JOIN artifact a"
    " USING (artifact_id) WHERE v.version_id IN {0} AND v.binned_at IS NULL",
    "model": "SELECT model_id, CONCAT('model:', name) FROM model WHERE model_id IN {0}",
    "model@": "SELECT v.model_id * 4294967296 + v.number, CONCAT(m.name, '@', v.number) FROM model_version v"
    " JOIN model m USING (model_id) WHERE (v.model_id, v.number) IN ({0})",
}


def references_of(subjects: list[tuple[str, int]]) -> dict[tuple[str, int], str]:
    """Return the references of what notes stand on, by kind and id; what is in the bin has none."""
    found: dict[tuple[str, int], str] = {}
    for kind, statement in _NAMES.items():
        ids = sorted({row_id for one, row_id in subjects if one == kind})
        if not ids:
            continue
        if kind == "model@":
            pairs = [part for row_id in ids for part in divmod(row_id, VERSIONS_PER_MODEL)]
            rows = query(statement.format(", ".join(["(%s, %s)"] * len(ids))), *pairs)
        else:
            rows = query(statement.format(places(ids)), *ids)
        found |= {(kind, int(row_id)): reference for row_id, reference in rows}
    return found


def remove_note(uid: bytes) -> None:
    """Remove a note."""
    NoteRow.delete().where(NoteRow.uid == uid).execute()
