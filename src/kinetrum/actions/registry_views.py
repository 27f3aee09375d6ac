"""The registry as it is shown: models, their ladders through time, versions side by side."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from kinetrum.actions.context import Actor, Place, enter
from kinetrum.actions.registry import Held, _standing, act_for, hold
from kinetrum.core.errors import KinetrumError, NotFound
from kinetrum.core.goals import Goal
from kinetrum.core.manifests import FileEntry
from kinetrum.core.permissions import Act, Role, permits
from kinetrum.core.registry import ladder as rules
from kinetrum.core.registry.ladder import Stage
from kinetrum.core.registry.review import Review
from kinetrum.core.values import Value
from kinetrum.storage import artifacts, manifests, models, people, projects, runs
from kinetrum.storage.artifacts import VersionRow
from kinetrum.storage.database import snapshot
from kinetrum.storage.models import EventRow, VerdictRow


@dataclass(frozen=True)
class StageView:
    """A stage, its occupant since when, what is wrong with the occupant, and whether the actor may place here."""

    stage: Stage
    occupant: int | None
    since: str | None
    placed_by: str | None
    warning: str | None
    may_place: bool


@dataclass(frozen=True)
class VersionView:
    """One version with its review, its place on the ladder, and the values of the run it came from."""

    model: str
    number: int
    artifact: VersionRow
    run: str | None
    origin: str | None
    comment: str
    registered_by: str
    registered_at: datetime
    review: Review
    retired: bool
    damaged: bool
    verdicts: list[VerdictRow]
    approvals_needed: int
    stages: list[str]
    values: dict[str, Value]
    goals: dict[str, Goal]


@dataclass(frozen=True)
class ModelView:
    """A model: ladder, versions (the newest first), timeline (the earliest first), lead version."""

    name: str
    project: str
    purpose: str
    person: str
    created_at: datetime
    approvals_needed: int
    stages: list[StageView]
    versions: list[VersionView]
    events: list[EventRow]
    lead: int | None
    lead_chosen: bool
    may: list[str]


@snapshot
def list_models(actor: Actor, project: str) -> list[ModelView]:
    """Return a project's models."""
    place = enter(actor, project)
    return [_view(hold(place, row.name, lock=False)) for row in models.models_of(place.project_id)]


@snapshot
def read_model(actor: Actor, project: str, name: str) -> ModelView:
    """Return one model."""
    return _view(hold(enter(actor, project), name, lock=False))


def _view(held: Held) -> ModelView:
    names = people.full_names()
    lead = _lead(held)
    return ModelView(
        name=held.model.name,
        project=held.place.project.name,
        purpose=held.model.purpose,
        person=names[held.model.created_by],
        created_at=held.model.created_at,
        approvals_needed=held.model.approvals_needed,
        stages=[_stage(held, stage) for stage in held.ladder],
        versions=_versions(held, names),
        events=models.events_of(held.model.model_id),
        lead=lead,
        lead_chosen=held.model.lead_number is not None,
        may=[
            word for word, act in _ACTS.items()
            if permits(held.place.role, act)
        ],
    )  # fmt: skip


_ACTS = {"register": Act.REGISTER, "review": Act.REVIEW, "retire": Act.RETIRE, "lead": Act.CHOOSE_LEAD}


def _lead(held: Held) -> int | None:
    try:
        return rules.lead_of(held.model.lead_number, held.ladder, held.stacks, held.standings, held.model.name)
    except KinetrumError:
        return None


def _stage(held: Held, stage: Stage) -> StageView:
    stack = held.stacks.get(stage.name, ())
    top = stack[-1] if stack else None
    warning = None
    if top:
        standing = held.standings[top.number]
        warning = rules.obstacle(stage, standing)
        if warning is None and standing.review is Review.REJECTED:
            warning = f"version {top.number} is rejected"
    return StageView(
        stage,
        top.number if top else None,
        top.placed_at if top else None,
        top.placed_by if top else None,
        warning,
        permits(held.place.role, act_for(stage)),
    )


def _versions(held: Held, names: dict[int, str]) -> list[VersionView]:
    verdicts = models.verdicts_of(held.model.model_id)
    found = []
    for row in models.versions_of_model(held.model.model_id):
        standing = held.standings[row.number]
        run = runs.run_by_id(row.run_id) if row.run_id else None
        goals = projects.goals_of(run.experiment_id) if run else {}
        found.append(
            VersionView(
                model=held.model.name, number=row.number, artifact=artifacts.version_by_id(row.version_id),
                run=run.reference if run else None, origin=row.origin, comment=row.comment,
                registered_by=names[row.created_by], registered_at=row.created_at, review=standing.review,
                retired=row.retired, damaged=standing.damaged,
                verdicts=[verdict for verdict in verdicts if verdict.number == row.number],
                approvals_needed=held.model.approvals_needed,
                stages=[s.name for s in held.ladder
                        if (stack := held.stacks.get(s.name)) and stack[-1].number == row.number],
                values=runs.load_doc(run.run_id).values(goals) if run else {}, goals=goals,
            )
        )  # fmt: skip
    return found


@dataclass(frozen=True)
class VersionDetailView:
    """One version with its files, and what still stands in the way of each stage."""

    version: VersionView
    files: tuple[FileEntry, ...]
    obstacles: dict[str, str | None]


@snapshot
def read_model_version(actor: Actor, project: str, name: str, which: str) -> VersionDetailView:
    """Return a version by number, by stage, or `lead`."""
    held = hold(enter(actor, project), name, lock=False)
    number = pick_version(held, which)
    version = next(view for view in _versions(held, people.full_names()) if view.number == number)
    obstacles = {stage.name: rules.obstacle(stage, held.standings[number]) for stage in held.ladder}
    return VersionDetailView(version, manifests.load_manifest(version.artifact.digest), obstacles)


def pick_version(held: Held, which: str) -> int:
    """Return the version number that a number, a stage or `lead` stands for."""
    model = held.model
    if which.isascii() and which.isdigit() and len(which) < 10:
        return _standing(held, int(which)).number
    if which == "lead":
        return rules.lead_of(model.lead_number, held.ladder, held.stacks, held.standings, model.name)
    stage = rules.find_stage(held.ladder, which, model.name)
    stack = held.stacks.get(stage.name, ())
    if not stack:
        raise NotFound(f"No version of {model.name} stands on {stage.name}.", field="version")
    return stack[-1].number


def thing_named(place: Place, name: str) -> str | None:
    """Return whether a name is an artifact, a model, an experiment, or nothing."""
    return artifacts.thing_of_name(place.project_id, name) or (
        "experiment" if projects.experiment_named(place.project_id, name) else None
    )


@dataclass(frozen=True)
class Named:
    """What a bare name names: every kind of thing that has it."""

    name: str
    things: list[str]
    role: Role


@snapshot
def what_is(actor: Actor, project: str, name: str) -> Named:
    """Tell what a bare name is: experiment, artifact, model, or several of them."""
    place = enter(actor, project)
    things = [thing for thing in [artifacts.thing_of_name(place.project_id, name)] if thing]
    if projects.experiment_named(place.project_id, name):
        things.insert(0, "experiment")
    if not things:
        raise NotFound(f"{place.project.name} has no experiment, artifact or model {name!r}.", field="name")
    return Named(name, things, place.role)
