"""Notes from Python: read, put and removed alike on all that can have them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from kinetrum.client.spool.complete_segment import new_id
from kinetrum.client.transport.http import path_of
from kinetrum.client.transport.session import Session

THINGS_AT_ONCE = 1_000


@dataclass(frozen=True)
class Note:
    """A Markdown text on something; `written_at` is ISO 8601, UTC.

    `imported_from` tells where it came from with an archive, and who is said to have written it; the author took it in.
    """

    id: str
    author: str
    text: str
    written_at: str
    imported_from: str | None = None


def tell_things(session: Session, project: str, what: str, refs: Sequence[str], **texts: str) -> list[str]:
    """Say something of many things, a thousand at a time; returns their references."""
    done: list[str] = []
    for start in range(0, len(refs), THINGS_AT_ONCE):
        body = {"things": list(refs[start : start + THINGS_AT_ONCE]), **texts}
        path = path_of("projects", project, *what.split("/"))
        done += session.service.call("POST", path, json=body)["references"]
    return done


def note_things(session: Session, project: str, refs: Sequence[str], text: str) -> list[str]:
    """Put a note on runs, versions, `model:NAME` and the like; returns their references."""
    return tell_things(session, project, "notes", refs, id=new_id(), text=text)


def notes_on(session: Session, project: str, ref: str) -> list[Note]:
    """Return the notes on a thing, the earliest first."""
    answer = session.service.get(path_of("projects", project, "notes"), of=ref)
    return [
        Note(item["id"], item["author"], item["text"], item["written_at"], item["imported_from"]) for item in answer
    ]


def remove_note(session: Session, project: str, ref: str, note: str) -> None:
    """Remove a note by its id. Raises NotAllowed for somebody else's, unless one is maintainer."""
    session.service.remove(path_of("projects", project, "notes", note), of=ref)


class Noted:
    """What has notes."""

    def _noted(self) -> tuple[Session, str, str]:
        """Return the session, the project, and the reference that the notes stand under."""
        raise NotImplementedError

    @property
    def notes(self) -> list[Note]:
        """Notes, the earliest first."""
        return notes_on(*self._noted())

    def note(self, text: str) -> None:
        """Put a note (Markdown) on it.

        `text` has up to 50,000 characters.
        """
        session, project, ref = self._noted()
        note_things(session, project, [ref], text)

    def remove_note(self, note: Note) -> None:
        """Remove one of the notes. Raises NotAllowed for somebody else's, unless one is maintainer.

        `note` is its id.
        """
        remove_note(*self._noted(), note.id)
