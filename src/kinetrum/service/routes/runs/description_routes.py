"""Routes for names, labels, notes, goals, corrections, and the bin."""

from __future__ import annotations

import json
from typing import Annotated

from fastapi import Query

from kinetrum.actions.people import note_records
from kinetrum.actions.runs import descriptions, readers, renames
from kinetrum.core.base.goals import Goal, make_goal
from kinetrum.service.http.access import SignedIn
from kinetrum.service.http.routers import make_router
from kinetrum.service.presenters import shapes
from kinetrum.storage.runs.runs import Run
from kinetrum.wire import disk_usage, people, search
from kinetrum.wire import runs as wire

router = make_router(prefix="/projects/{project}", tags=["describing"])
_EXPERIMENT = "/experiments/{experiment}"
_RUN = _EXPERIMENT + "/runs/{run}"
Of = Annotated[
    str,
    Query(max_length=250, description="A run, NAME@VERSION, or project:, experiment:, artifact:, model: and a name."),
]
Key = Annotated[str, Query(max_length=250, description="The key of the metric or result.")]


def _references(run_rows: list[Run]) -> wire.References:
    return wire.References(runs=[run.reference for run in run_rows])


@router.put(f"{_RUN}/name")
def rename_run(actor: SignedIn, project: str, experiment: str, run: str, body: wire.NewName) -> wire.References:
    """Give a run another name; null takes it away."""
    return _references([descriptions.rename_run(actor, project, experiment, run, body.name)])


@router.post(f"{_RUN}/corrections")
def correct_parameters(
    actor: SignedIn, project: str, experiment: str, run: str, body: wire.Correction
) -> wire.References:
    """Correct parameters that were set wrongly; the journal keeps what stood there."""
    params = shapes.read_values(body.params)
    return _references([descriptions.correct_params(actor, project, experiment, run, params, body.comment)])


@router.get(f"{_RUN}/results")
def list_results(actor: SignedIn, project: str, experiment: str, run: str) -> list[wire.ResultRecord]:
    """List every result that was recorded, also those that a later one replaced, the earliest first."""
    return [
        wire.ResultRecord(key=key, value=json.loads(value), recorded_at=at)
        for key, value, at in descriptions.result_records(actor, project, experiment, run)
    ]


@router.get("/notes")
def list_notes(actor: SignedIn, project: str, of: Of) -> list[wire.NoteOn]:
    """List the notes on a thing, the earliest first."""
    notes = note_records.list_notes(actor, project, of)
    return [wire.NoteOn(**vars(shapes.note(note)), may_remove=mine) for note, mine in notes]


@router.post("/notes")
def add_notes(actor: SignedIn, project: str, body: wire.NewNotes) -> disk_usage.Moved:
    """Put a note on one thing or many."""
    return disk_usage.Moved(references=note_records.add_notes(actor, project, body.things, body.id, body.text))


@router.delete("/notes/{note}", status_code=204)
def remove_note(actor: SignedIn, project: str, note: str, of: Of) -> None:
    """Remove a note: one's own, or as a maintainer anybody's."""
    note_records.remove_note(actor, project, of, note)


@router.post("/labels")
def label_runs(actor: SignedIn, project: str, body: wire.NewLabels) -> wire.References:
    """Set labels on one run or many; null takes a label away."""
    return _references(descriptions.label_runs(actor, project, body.runs, body.labels))


@router.patch(_EXPERIMENT)
def describe_experiment(
    actor: SignedIn, project: str, experiment: str, body: search.ExperimentDescription
) -> wire.Experiment:
    """Set an experiment's description and labels, and whether its runs get names; labels given as null go."""
    descriptions.describe_experiment(actor, project, experiment, body.description, body.labels, body.generates_names)
    return shapes.experiment(readers.read_experiment(actor, project, experiment))


@router.put(f"{_EXPERIMENT}/name")
def rename_experiment(actor: SignedIn, project: str, experiment: str, body: wire.ThingName) -> wire.Experiment:
    """Give an experiment another name; the earlier one goes on leading to it."""
    name = renames.rename_experiment(actor, project, experiment, body.name)
    return shapes.experiment(readers.read_experiment(actor, project, name))


@router.put("/models/{model}/name")
def rename_model(actor: SignedIn, project: str, model: str, body: wire.ThingName) -> wire.ThingName:
    """Give a model another name; the earlier one goes on leading to it."""
    return wire.ThingName(name=renames.rename_model(actor, project, model, body.name))


@router.patch("")
def describe_project(actor: SignedIn, project: str, body: search.Description) -> people.Project:
    """Set a project's description and labels."""
    descriptions.describe_project(actor, project, body.description, body.labels)
    return shapes.project(readers.read_project(actor, project))


@router.put(f"{_EXPERIMENT}/goal")
def set_goal(actor: SignedIn, project: str, experiment: str, key: Key, body: wire.NewGoal) -> list[Goal]:
    """Set or change the goal of a key; returns all goals of the experiment."""
    goal = make_goal(key, body.direction, body.unit, body.bound, body.aggregate)
    return descriptions.set_goal(actor, project, experiment, goal)


@router.put(f"{_EXPERIMENT}/seeds")
def set_seeds(actor: SignedIn, project: str, experiment: str, body: wire.NewSeeds) -> wire.NewSeeds:
    """Name the parameters in which replicates of the experiment differ."""
    return wire.NewSeeds(seeds=list(descriptions.set_seeds(actor, project, experiment, body.seeds)))


@router.delete(f"{_EXPERIMENT}/goal")
def remove_goal(actor: SignedIn, project: str, experiment: str, key: Key) -> list[Goal]:
    """Take the goal of a key away; returns the goals left."""
    return descriptions.remove_goal(actor, project, experiment, key)
