"""Describing: names, labels, goals, seeds, corrections."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

from kinetrum.actions.context import Actor, Place, enter, experiment_in
from kinetrum.actions.search.references import find_run, in_lock_order, runs_named
from kinetrum.core.base.errors import InvalidInput, NotFound
from kinetrum.core.base.goals import Goal
from kinetrum.core.base.permissions import Act
from kinetrum.core.base.values import Value, check_key, check_run_name, merged_labels, same, to_json
from kinetrum.core.statistics.replicates import SEEDS_LIMIT
from kinetrum.storage.db.database import snapshot, transaction
from kinetrum.storage.people import journal, projects
from kinetrum.storage.runs import reindexing, run_documents, runs
from kinetrum.storage.runs import result_records as records
from kinetrum.storage.runs.runs import Run


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
        place.project_id,
        actor.person_id,
        act,
        run.subject,
        journal.Change(before, after),
        comment=comment,
        source=actor.source,
    )


@transaction
def label_runs(actor: Actor, project: str, references: Sequence[str], labels: dict[str, str | None]) -> list[Run]:
    """Set labels on runs; a label given as None is taken away, others stay."""
    place = enter(actor, project, Act.DESCRIBE)
    if not labels:
        raise InvalidInput("No label was given; write KEY=VALUE, or KEY= to take one away.", field="labels")
    run_rows = in_lock_order(runs_named(place, references))
    for run in run_rows:
        doc = run_documents.lock_doc(run.run_id)
        before = {key: doc.labels.get(key) for key in labels}
        if before == labels:
            continue
        doc.labels = merged_labels(doc.labels, labels, run.reference)
        run_documents.save_doc(run, doc, {})
        _note(place, actor, "labelled", run, before, labels)
    return run_rows


@transaction
def describe_project(actor: Actor, project: str, description: str | None, labels: dict[str, str | None]) -> None:
    """Set a project's description and labels; None leaves the one, and takes a label away."""
    place = enter(actor, project, Act.DESCRIBE)
    row = place.project
    _describe(
        actor,
        place,
        _Described("project", row.project_id, row.name, row.description, row.labels),
        description,
        labels,
    )


@transaction
def describe_experiment(
    actor: Actor,
    project: str,
    experiment: str,
    description: str | None,
    labels: dict[str, str | None],
    generates_names: bool | None = None,
) -> None:
    """Set an experiment's description and labels, and whether its runs get generated names.

    None leaves what it is given for, and takes a label away.
    """
    place = enter(actor, project, Act.DESCRIBE)
    row = experiment_in(place, experiment)
    if generates_names is not None and generates_names != row.generates_names:
        projects.set_generates_names(row.experiment_id, generates_names)
        journal.append(
            place.project_id,
            actor.person_id,
            "described",
            f"experiment:{row.name}",
            journal.Change({"generates_names": row.generates_names}, {"generates_names": generates_names}),
            source=actor.source,
        )
    _describe(
        actor,
        place,
        _Described("experiment", row.experiment_id, row.name, row.description, row.labels),
        description,
        labels,
    )


@dataclass(frozen=True)
class _Described:
    """A project or an experiment and how it is described now."""

    table: str
    row_id: int
    name: str
    description: str
    labels: dict[str, str]


def _describe(
    actor: Actor, place: Place, now: _Described, description: str | None, labels: dict[str, str | None]
) -> None:
    subject = f"{now.table}:{now.name}"
    before = (now.description, now.labels)
    after = (
        now.description if description is None else description.strip(),
        merged_labels(now.labels, labels, subject),
    )
    if after == before:
        return
    projects.set_description(now.table, now.row_id, *after)
    change = journal.Change(*({"description": text, "labels": named} for text, named in (before, after)))
    journal.append(place.project_id, actor.person_id, "described", subject, change, source=actor.source)


@transaction
def correct_params(
    actor: Actor, project: str, experiment: str, run_ref: str, params: dict[str, Value], comment: str
) -> Run:
    """Correct parameters that were set wrongly; the journal keeps what stood there and why it changed."""
    place = enter(actor, project, Act.DESCRIBE)
    run = find_run(place, experiment, run_ref)
    if not params:
        raise InvalidInput("No parameter was given to correct.", field="params")
    doc = run_documents.lock_doc(run.run_id)
    for key in params:
        if key not in doc.params:
            known = ", ".join(list(doc.params)[:12]) or "none"
            raise NotFound(f"{run.reference} has no parameter {key!r} to correct; it has {known}.", field=key)
    changed = {key: value for key, value in params.items() if not same(doc.params[key], value)}
    if changed:
        before = {key: to_json(doc.params[key]) for key in changed}
        doc.params.update(changed)
        run_documents.save_doc(run, doc, {}, params=changed)
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
        projects.add_goal(row.experiment_id, goal, projects.next_goal_position(row.experiment_id))
    else:
        projects.change_goal(row.experiment_id, goal)
    return _goal_changed(actor, place, experiment, row.experiment_id, goal.key, known)


def set_seeds(actor: Actor, project: str, experiment: str, names: Sequence[str]) -> tuple[str, ...]:
    """Name the parameters in which replicates of an experiment differ; groups and comparisons follow.

    Runs are marked anew a few at a time, so that who records waits for none of it; what is cut off goes on by itself.
    """
    experiment_id, seeds = _name_seeds(actor, project, experiment, names)
    while mark_some(experiment_id):
        pass
    return seeds


def mark_what_waits() -> None:
    """Go on where a change of seeds was cut off."""
    for experiment_id in _to_mark():
        while mark_some(experiment_id):
            pass


@transaction
def mark_some(experiment_id: int) -> bool:
    """Mark a few runs of an experiment anew; tells whether there were any to mark."""
    return reindexing.mark_some(experiment_id)


@snapshot
def _to_mark() -> list[int]:
    return projects.experiments_to_mark()


@transaction
def _name_seeds(actor: Actor, project: str, experiment: str, names: Sequence[str]) -> tuple[int, tuple[str, ...]]:
    place = enter(actor, project, Act.DESCRIBE)
    seeds = tuple(dict.fromkeys(check_key(name, "seed") for name in names))
    if not 1 <= len(seeds) <= SEEDS_LIMIT:
        raise InvalidInput(f"An experiment names 1 to {SEEDS_LIMIT} seeds, not {len(seeds)}.", field="seeds")
    row = experiment_in(place, experiment)
    projects.lock_experiment(row.experiment_id)
    before = projects.experiment_by_id(row.experiment_id).seeds
    if before == seeds:
        return row.experiment_id, seeds
    projects.set_seeds(row.experiment_id, seeds)
    journal.append(
        place.project_id,
        actor.person_id,
        "named the seeds of",
        f"experiment:{experiment}",
        journal.Change({"seeds": ", ".join(before)}, {"seeds": ", ".join(seeds)}),
        source=actor.source,
    )
    return row.experiment_id, seeds


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


def _goal_changed(
    actor: Actor, place: Place, experiment: str, experiment_id: int, key: str, before: Goal | None
) -> list[Goal]:
    goals = projects.goals_of(experiment_id)
    reindexing.reindex(place.project_id, experiment_id, key, goals.get(key), goals)
    journal.append(
        place.project_id,
        actor.person_id,
        "set a goal" if key in goals else "removed a goal",
        f"experiment:{experiment}",
        journal.Change(_told(before), _told(goals.get(key))),
        source=actor.source,
    )
    return list(goals.values())


def _told(goal: Goal | None) -> dict[str, object] | None:
    if goal is None:
        return None
    bound = goal.bound if goal.bound is not None and math.isfinite(goal.bound) else None
    return {
        "key": goal.key,
        "direction": goal.direction.value,
        "unit": goal.unit,
        "bound": bound,
        "aggregate": goal.aggregate,
    }


@snapshot
def result_records(actor: Actor, project: str, experiment: str, run_ref: str) -> list[tuple[str, str, datetime]]:
    """Return (key, value as JSON, time) of every result that was recorded, also those that a later one replaced."""
    place = enter(actor, project)
    result_rows = records.results_of(find_run(place, experiment, run_ref).run_id)
    return [(row.key, row.value, row.recorded_at) for row in result_rows]
