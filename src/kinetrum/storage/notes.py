"""Notes: Markdown texts on runs and experiments, with author and time."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from kinetrum.storage.clock import now
from kinetrum.storage.database import execute, insert_many, query


@dataclass(frozen=True)
class Note:
    """One note; `subject_id` is the id of the run or experiment that it stands on."""

    uid: bytes
    subject_id: int
    author_id: int
    author: str
    text: str
    written_at: datetime


def add_notes(project_id: int, kind: str, notes: list[tuple[bytes, int]], author_id: int, text: str) -> None:
    """Put one text on several subjects, given as (note id, subject id); known note ids change nothing."""
    moment = now()
    insert_many(
        "INSERT IGNORE INTO note (uid, project_id, subject_kind, subject_id, author_id, text, written_at)",
        [(uid, project_id, kind, subject, author_id, text, moment) for uid, subject in sorted(notes)],
    )


def add_imported(
    project_id: int, kind: str, subject_id: int, uid: bytes, author_id: int, text: str, at: datetime
) -> None:
    """Put a note that comes from an archive on its subject; a known id changes nothing."""
    execute(
        "INSERT IGNORE INTO note (uid, project_id, subject_kind, subject_id, author_id, text, written_at)"
        " VALUES (%s, %s, %s, %s, %s, %s, %s)", uid, project_id, kind, subject_id, author_id, text, at,
    )  # fmt: skip


def notes_on(kind: str, subject_id: int) -> list[Note]:
    """Return the notes on a subject, the earliest first."""
    rows = query(
        "SELECT n.uid, n.subject_id, n.author_id, p.full_name, n.text, n.written_at FROM note n"
        " JOIN person p ON p.person_id = n.author_id WHERE n.subject_kind = %s AND n.subject_id = %s"
        " ORDER BY n.note_id",
        kind, subject_id,
    )  # fmt: skip
    return [Note(*row) for row in rows]


def remove_note(uid: bytes) -> None:
    """Remove a note."""
    execute("DELETE FROM note WHERE uid = %s", uid)
