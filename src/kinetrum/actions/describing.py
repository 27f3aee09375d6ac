"""Describing: names, labels, notes, goals, corrections."""

from __future__ import annotations

import hashlib
import math
from collections.abc import Sequence
from datetime import datetime

from kinetrum.actions.context import Actor, Place, enter, experiment_in
from kinetrum.actions.finding import find_run, in_lock_order, runs_named
from kinetrum.core.errors import InvalidInput, NotAllowed, NotFound
from kinetrum.core.goals import Goal
from kinetrum.core.ids import id_bytes
from kinetrum.core.permissions import Act, permits
from kinetrum.core.replicates import SEEDS_LIMIT
from kinetrum.core.values import NOTE_LIMIT, Value, check_key, check_label, check_run_name, same, to_json
from kinetrum.storage import journal, notes, projects, reindexing, runs
from kinetrum.storage.database import query, snapshot, transaction
from kinetrum.storage.notes import Note
from kinetrum.storage.runs import Run

LABELS_LIMIT = 100


@transaction
def rename_run(actor: Actor, project: str, experiment: str, run_ref: str, name: str | None) -> Run:
    """Give a run another name; None takes it away."""
    place = enter(actor, project, Act.DESCRIBE)
    run = runs.lock_run(find_run(place, experiment, run_ref).run_id)
    fresh = check_run_name(name)
    if fresh != run.name:
        runs.rename(run.run_id, fresh)
        _note(place, actor, "renamed", run, run.name, fresh)
    return runs.run_by_id(run.run_id)


def _note(place: Place, actor: Actor, act: str, run: Run, before: object, after: object, comment: str = "") -> None:
    journal.append(
        place.project_id, actor.person_id, act, run.subject, before=before, after=after, comment=comment,
        origin=actor.origin,
    )  # fmt: skip


@transaction
def label_runs(actor: Actor, project: str, references: Sequence[str], labels: dict[str, str | None]) -> list[Run]:
    """Set labels on runs; a label given as None is taken away, others stay."""
    place = enter(actor, project, Act.DESCRIBE)
    if not labels:
        raise InvalidInput("No label was given; write KEY=VALUE, or KEY= to take one away.", field="labels")
    for key, text in labels.items():
        check_label(key, text or "")
    found = in_lock_order(runs_named(place, references))
    for run in found:
        doc = runs.lock_doc(run.run_id)
        before = {key: doc.labels.get(key) for key in labels}
        if before == labels:
            continue
        doc.labels = {
            key: text for key, text in {**doc.labels, **labels}.items() if text is not None
        }  # fmt: skip
        if len(doc.labels) > LABELS_LIMIT:
            raise InvalidInput(f"{run.reference} would have over {LABELS_LIMIT} labels.", field="labels")
        runs.save_doc(run, doc, {})
        _note(place, actor, "labelled", run, before, labels)
    return found


@transaction
def describe_project(actor: Actor, project: str, description: str | None, labels: dict[str, str | None]) -> None:
    """Set a project's description and labels; None leaves the one, and takes a label away."""
    place = enter(actor, project, Act.DESCRIBE)
    row = place.project
    _describe(actor, place, "project", row.project_id, f"project:{row.name}", (row.description, row.labels),
              description, labels)  # fmt: skip


@transaction
def describe_experiment(
    actor: Actor, project: str, experiment: str, description: str | None, labels: dict[str, str | None]
) -> None:
    """Set an experiment's description and labels; None leaves the one, and takes a label away."""
    place = enter(actor, project, Act.DESCRIBE)
    row = experiment_in(place, experiment)
    _describe(actor, place, "experiment", row.experiment_id, f"experiment:{row.name}", (row.description, row.labels),
              description, labels)  # fmt: skip


def _describe(
    actor: Actor, place: Place, table: str, row_id: int, subject: str, before: tuple[str, dict[str, str]],
    description: str | None, labels: dict[str, str | None],
) -> None:  # fmt: skip
    for key, text in labels.items():
        check_label(key, text or "")
    merged = {key: text for key, text in {**before[1], **labels}.items() if text is not None}
    if len(merged) > LABELS_LIMIT:
        raise InvalidInput(f"{subject} would have over {LABELS_LIMIT} labels.", field="labels")
    after = (before[0] if description is None else description.strip(), merged)
    if after == before:
        return
    projects.set_description(table, row_id, *after)
    journal.append(
        place.project_id, actor.person_id, "described", subject,
        before={"description": before[0], "labels": before[1]},
        after={"description": after[0], "labels": after[1]}, origin=actor.origin,
    )  # fmt: skip


@transaction
def add_note(actor: Actor, project: str, references: Sequence[str], uid: str, text: str) -> list[Run]:
    """Put a note on runs. Sent again with the same id, nothing changes."""
    place = enter(actor, project, Act.DESCRIBE)
    _check_note(text)
    found = in_lock_order(runs_named(place, references))
    first = id_bytes(uid)
    # One client-made id for all: each run's note gets one of its own that a repeat makes again.
    ids = [(hashlib.sha256(first + run.uid).digest()[:16], run.run_id) for run in found]
    notes.add_notes(place.project_id, "run", ids, actor.person_id, text)
    for run in found:
        runs.touch(run.run_id)
    return found


@transaction
def add_experiment_note(actor: Actor, project: str, experiment: str, uid: str, text: str) -> None:
    """Put a note on an experiment. Sent again with the same id, nothing changes."""
    place = enter(actor, project, Act.DESCRIBE)
    _check_note(text)
    row = experiment_in(place, experiment)
    notes.add_notes(place.project_id, "experiment", [(id_bytes(uid), row.experiment_id)], actor.person_id, text)


def _check_note(text: str) -> None:
    if not text.strip():
        raise InvalidInput("The note is empty; write what is to be known.", field="text")
    if len(text) > NOTE_LIMIT:
        raise InvalidInput(f"The note has {len(text)} characters; at most {NOTE_LIMIT} are kept.", field="text")


@snapshot
def list_notes(actor: Actor, project: str, experiment: str, run_ref: str | None) -> list[Note]:
    """Return the notes on a run, or without one on the experiment, the earliest first."""
    place = enter(actor, project)
    if run_ref is None:
        return notes.notes_on("experiment", experiment_in(place, experiment).experiment_id)
    return notes.notes_on("run", find_run(place, experiment, run_ref).run_id)


@transaction
def remove_note(actor: Actor, project: str, experiment: str, run_ref: str, uid: str) -> None:
    """Remove a note: one's own, or as a maintainer anybody's."""
    place = enter(actor, project, Act.DESCRIBE)
    run = find_run(place, experiment, run_ref)
    raw = id_bytes(uid, "note")
    note = next((note for note in notes.notes_on("run", run.run_id) if note.uid == raw), None)
    if note is None:
        raise NotFound(f"{run.reference} has no note {uid}.", field="note")
    if note.author_id != actor.person_id and not permits(place.role, Act.BIN_OTHERS):
        raise NotAllowed(f"The note is {note.author}'s; its author or a maintainer removes it.")
    notes.remove_note(raw)
    runs.touch(run.run_id)
    _note(place, actor, "removed a note", run, note.text[:500], None)


@transaction
def correct_params(
    actor: Actor, project: str, experiment: str, run_ref: str, params: dict[str, Value], comment: str
) -> Run:
    """Correct parameters that were set wrongly; the journal keeps what stood there and why it changed."""
    place = enter(actor, project, Act.DESCRIBE)
    run = find_run(place, experiment, run_ref)
    if not params:
        raise InvalidInput("No parameter was given to correct.", field="params")
    doc = runs.lock_doc(run.run_id)
    for key in params:
        if key not in doc.params:
            known = ", ".join(list(doc.params)[:12]) or "none"
            raise NotFound(f"{run.reference} has no parameter {key!r} to correct; it has {known}.", field=key)
    changed = {key: value for key, value in params.items() if not same(doc.params[key], value)}
    if changed:
        before = {key: to_json(doc.params[key]) for key in changed}
        doc.params.update(changed)
        runs.save_doc(run, doc, {}, params=changed)
        after = {key: to_json(value) for key, value in changed.items()}
        _note(place, actor, "corrected", run, before, after, comment[:2_000])
    return runs.run_by_id(run.run_id)


@transaction
def set_goal(actor: Actor, project: str, experiment: str, goal: Goal) -> list[Goal]:
    """Set or change the goal of a key; tables, sorts and arrows follow at once. Returns all goals."""
    place = enter(actor, project, Act.DESCRIBE)
    row = experiment_in(place, experiment)
    projects.lock_experiment(row.experiment_id)
    standing = projects.goals_of(row.experiment_id)
    known = standing.get(goal.key)
    if known == goal:
        return list(standing.values())
    if known is None:
        projects.add_goal(row.experiment_id, goal, _next_position(row.experiment_id))
    else:
        projects.change_goal(row.experiment_id, goal)
    return _goal_changed(actor, place, experiment, row.experiment_id, goal.key, known)


@transaction
def set_seeds(actor: Actor, project: str, experiment: str, names: Sequence[str]) -> tuple[str, ...]:
    """Name the parameters in which replicates of an experiment differ; groups and comparisons follow at once."""
    place = enter(actor, project, Act.DESCRIBE)
    seeds = tuple(dict.fromkeys(check_key(name, "seed") for name in names))
    if not 1 <= len(seeds) <= SEEDS_LIMIT:
        raise InvalidInput(f"An experiment names 1 to {SEEDS_LIMIT} seeds, not {len(seeds)}.", field="seeds")
    row = experiment_in(place, experiment)
    projects.lock_experiment(row.experiment_id)
    before = projects.experiment_by_id(row.experiment_id).seeds
    if before == seeds:
        return seeds
    projects.set_seeds(row.experiment_id, seeds)
    reindexing.mark_replicates(row.experiment_id, seeds)
    journal.append(
        place.project_id, actor.person_id, "named the seeds of", f"experiment:{experiment}",
        before={"seeds": ", ".join(before)}, after={"seeds": ", ".join(seeds)}, origin=actor.origin,
    )  # fmt: skip
    return seeds


@transaction
def remove_goal(actor: Actor, project: str, experiment: str, key: str) -> list[Goal]:
    """Take the goal of a key away; a metric's last value stands for it again. Returns all goals."""
    place = enter(actor, project, Act.DESCRIBE)
    row = experiment_in(place, experiment)
    projects.lock_experiment(row.experiment_id)
    known = projects.goals_of(row.experiment_id).get(key)
    if known is None:
        names = ", ".join(projects.goals_of(row.experiment_id)) or "none"
        raise NotFound(f"{experiment} has no goal for {key!r}; it has {names}.", field="key")
    projects.remove_goal(row.experiment_id, key)
    return _goal_changed(actor, place, experiment, row.experiment_id, key, known)


def _next_position(experiment_id: int) -> int:
    ((last,),) = query("SELECT COALESCE(MAX(position), -1) FROM goal WHERE experiment_id = %s", experiment_id)
    return int(last) + 1


def _goal_changed(
    actor: Actor, place: Place, experiment: str, experiment_id: int, key: str, before: Goal | None
) -> list[Goal]:
    goals = projects.goals_of(experiment_id)
    reindexing.reindex(place.project_id, experiment_id, key, goals.get(key), goals)
    journal.append(
        place.project_id, actor.person_id, "set a goal" if key in goals else "removed a goal",
        f"experiment:{experiment}", before=_told(before), after=_told(goals.get(key)), origin=actor.origin,
    )  # fmt: skip
    return list(goals.values())


def _told(goal: Goal | None) -> dict[str, object] | None:
    if goal is None:
        return None
    bound = goal.bound if goal.bound is not None and math.isfinite(goal.bound) else None
    return {"key": goal.key, "direction": goal.direction.value, "unit": goal.unit, "bound": bound,
            "aggregate": goal.aggregate}  # fmt: skip


@snapshot
def result_records(actor: Actor, project: str, experiment: str, run_ref: str) -> list[tuple[str, str, datetime]]:
    """Return (key, value as JSON, time) of every result that was recorded, also those that a later one replaced."""
    place = enter(actor, project)
    return runs.result_records(find_run(place, experiment, run_ref).run_id)
