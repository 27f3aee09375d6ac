"""Notes: Markdown on projects, experiments, runs, artifacts, models and versions of either, with author and time."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from dataclasses import dataclass

from kinetrum.actions.context import Actor, Place, enter, experiment_in, may
from kinetrum.actions.registry.model_state import load_model
from kinetrum.actions.registry.version_lookup import pick_version, thing_named
from kinetrum.actions.search.references import find_artifact, find_version, in_lock_order, run_named, runs_named
from kinetrum.core.base.errors import InvalidInput, NotAllowed, NotFound
from kinetrum.core.base.ids import id_bytes
from kinetrum.core.base.permissions import Act
from kinetrum.core.base.refs import VersionRef, parse_ref
from kinetrum.core.base.values import NOTE_LIMIT
from kinetrum.storage.db.database import snapshot, transaction
from kinetrum.storage.people import journal, notes
from kinetrum.storage.people.notes import Note
from kinetrum.storage.runs import runs

_WHOLE = ("project", "experiment", "artifact", "model")


@dataclass(frozen=True)
class Thing:
    """What a note stands on: kind and number as the notes keep them, reference, and name in the journal."""

    kind: str
    row_id: int
    reference: str
    subject: str


def thing_of(place: Place, reference: str) -> Thing:
    """Return what a reference names: a run, `NAME@WHICH`, or `project:`, `experiment:`, `artifact:`, `model:` NAME."""
    kind, colon, name = reference.partition(":")
    if colon and kind in _WHOLE:
        return _whole(place, kind, name, reference)
    if "@" in reference:
        return _version(place, reference)
    run = run_named(place, reference)
    return Thing("run", run.run_id, run.reference, run.subject)


def _whole(place: Place, kind: str, name: str, reference: str) -> Thing:
    if kind == "model":
        return Thing(kind, load_model(place, name, lock=False).model.model_id, reference, name)
    if kind == "artifact":
        return Thing(kind, find_artifact(place, name).artifact_id, reference, reference)
    if kind == "experiment":
        return Thing(kind, experiment_in(place, name).experiment_id, reference, reference)
    if name != place.project.name:
        raise InvalidInput(f"{reference!r} is not this project, which is {place.project.name}.", field="things")
    return Thing(kind, place.project_id, reference, reference)


def _version(place: Place, reference: str) -> Thing:
    ref = parse_ref(reference)
    if not isinstance(ref, VersionRef) or ref.path:
        raise InvalidInput(f"{reference!r} names no version; write NAME@NUMBER.", field="things")
    if thing_named(place, ref.name) == "model":
        state = load_model(place, ref.name, lock=False)
        number = pick_version(state, ref.which)
        row_id, plain = state.model.model_id * notes.VERSIONS_PER_MODEL + number, f"{ref.name}@{number}"
        return Thing("model@", row_id, plain, plain)
    version = find_version(place, ref.name, ref.which)
    return Thing("artifact@", version.version_id, version.reference, version.reference)


@transaction
def add_notes(actor: Actor, project: str, references: Sequence[str], uid: str, text: str) -> list[str]:
    """Put a note on things. Sent again with the same id, nothing changes. Returns their references."""
    place = enter(actor, project, Act.DESCRIBE)
    _check_note(text)
    first = id_bytes(uid)
    others = [reference for reference in references if "@" in reference or reference.partition(":")[0] in _WHOLE]
    plain = [reference for reference in references if reference not in others]
    run_rows = in_lock_order(runs_named(place, plain)) if plain else []
    # One client-made id for all: each thing's note gets one of its own that a repeat makes again.
    ids = [(hashlib.sha256(first + run.uid).digest()[:16], run.run_id) for run in run_rows]
    notes.add_notes(place.project_id, "run", ids, actor.person_id, text)
    for run in run_rows:
        runs.touch(run.run_id)
    things = {thing.reference: thing for thing in (thing_of(place, reference) for reference in others)}
    for thing in things.values():
        _add(place, actor, thing, hashlib.sha256(first + thing.reference.encode()).digest()[:16], text)
    return [*(run.reference for run in run_rows), *things]


def _add(place: Place, actor: Actor, thing: Thing, uid: bytes, text: str) -> None:
    if any(note.uid == uid for note in notes.notes_on(thing.kind, thing.row_id)):
        return
    notes.add_notes(place.project_id, thing.kind, [(uid, thing.row_id)], actor.person_id, text)
    journal.append(
        place.project_id,
        actor.person_id,
        "noted on",
        thing.subject,
        journal.Change(after=text[:500]),
        source=actor.source,
    )


def _check_note(text: str) -> None:
    if not text.strip():
        raise InvalidInput("The note is empty; write what is to be known.", field="text")
    if len(text) > NOTE_LIMIT:
        raise InvalidInput(f"The note has {len(text)} characters; at most {NOTE_LIMIT} are kept.", field="text")


@snapshot
def list_notes(actor: Actor, project: str, reference: str) -> list[tuple[Note, bool]]:
    """Return the notes on a thing, the earliest first, each with whether the actor may remove it."""
    place = enter(actor, project)
    thing = thing_of(place, reference)
    return [(note, _may_remove(actor, place, note)) for note in notes.notes_on(thing.kind, thing.row_id)]


def _may_remove(actor: Actor, place: Place, note: Note) -> bool:
    mine = note.author_id == actor.person_id and may(actor, place, Act.DESCRIBE)
    return mine or may(actor, place, Act.BIN_OTHERS)


@transaction
def remove_note(actor: Actor, project: str, reference: str, uid: str) -> None:
    """Remove a note: one's own, or as a maintainer anybody's."""
    place = enter(actor, project, Act.DESCRIBE)
    thing = thing_of(place, reference)
    raw = id_bytes(uid, "note")
    note = next((note for note in notes.notes_on(thing.kind, thing.row_id) if note.uid == raw), None)
    if note is None:
        raise NotFound(f"{thing.reference} has no note {uid}.", field="note")
    if not _may_remove(actor, place, note):
        raise NotAllowed(f"The note is {note.author}'s; its author or a maintainer removes it.")
    notes.remove_note(raw)
    if thing.kind == "run":
        runs.touch(thing.row_id)
    journal.append(
        place.project_id,
        actor.person_id,
        "removed a note",
        thing.subject,
        journal.Change(note.text[:500]),
        source=actor.source,
    )
