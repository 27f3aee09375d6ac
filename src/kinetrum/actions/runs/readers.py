"""Looking: projects, experiments, tables of runs, one run, curves and points."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from datetime import datetime

from kinetrum.actions.context import Actor, Place, enter, experiment_in, may, role_of, sight_of, visible_projects
from kinetrum.actions.search.references import find_run, find_run_by_tail, run_named
from kinetrum.core.base.errors import InvalidInput, NotFound
from kinetrum.core.base.goals import Goal
from kinetrum.core.base.permissions import Act, Role
from kinetrum.core.base.run_document import RunDoc
from kinetrum.core.base.values import Value
from kinetrum.core.points.columns import Points, shown
from kinetrum.storage.db.database import snapshot
from kinetrum.storage.people import names as experiment_names
from kinetrum.storage.people import notes, people, projects
from kinetrum.storage.people.notes import Note
from kinetrum.storage.people.projects import ExperimentRow, ExperimentSummary, ProjectRow
from kinetrum.storage.registry import models
from kinetrum.storage.runs import outputs, point_reading, resources, run_documents, run_families, runs
from kinetrum.storage.runs.runs import Run

PAGE_LIMIT = 500
CURVES_LIMIT = 100
CHILDREN_LIMIT = 500
WIDTH_RANGE = (10, 4_000)


@dataclass(frozen=True)
class ProjectView:
    """A project with the actor's role and its counts."""

    project: ProjectRow
    role: Role
    experiments: int
    runs: int
    last_activity: datetime | None


@dataclass(frozen=True)
class ExperimentView:
    """An experiment with its goals and, by its first goal, its best finished run."""

    summary: ExperimentSummary
    goals: list[Goal]
    best_reference: str | None
    best_value: Value
    earlier_names: list[str]


@dataclass(frozen=True)
class RunView:
    """One run with its document and what stands for each key."""

    run: Run
    author: str
    doc: RunDoc
    values: dict[str, Value]
    goals: dict[str, Goal]
    parent: str | None = None
    children: tuple[RunView, ...] = ()
    versions: tuple[str, ...] = ()
    metrics: tuple[str, ...] = ()
    notes: tuple[Note, ...] = ()
    may: tuple[str, ...] = ()
    binned_by: str | None = None
    previous: str | None = None
    output_lines: int = 0
    has_resources: bool = False


@snapshot
def list_projects(actor: Actor) -> list[ProjectView]:
    """Return the projects that the actor may see."""
    return [
        ProjectView(one.project, role, one.experiments, one.runs, one.active_at)
        for one in visible_projects(actor)
        if (role := role_of(actor, one.project.project_id)) is not None
    ]


@snapshot
def read_project(actor: Actor, name: str) -> ProjectView:
    """Return one project."""
    place = enter(actor, name)
    (one,) = projects.project_summaries([place.project_id])
    return ProjectView(one.project, place.role, one.experiments, one.runs, one.active_at)


@snapshot
def list_members(actor: Actor, project: str) -> list[tuple[str, str, Role]]:
    """Return (name, full name, role) of a project's members."""
    return people.members(enter(actor, project).project_id)


@snapshot
def list_experiments(actor: Actor, project: str) -> list[ExperimentView]:
    """Return a project's experiments, the last active first; without those of which everything was purged."""
    place = enter(actor, project)
    summaries = projects.experiment_summaries(place.project_id)
    return [_experiment(place, summary) for summary in summaries if not summary.purged]


@snapshot
def read_experiment(actor: Actor, project: str, experiment: str) -> ExperimentView:
    """Return one experiment."""
    place = enter(actor, project)
    row = experiment_in(place, experiment)
    summaries = projects.experiment_summaries(place.project_id)
    return _experiment(place, next(s for s in summaries if s.experiment_id == row.experiment_id))


def _experiment(place: Place, summary: ExperimentSummary) -> ExperimentView:
    goals = projects.goals_of(summary.experiment_id)
    best, value = None, None
    if goals:
        first = next(iter(goals.values()))
        best = runs.best_run(place.project_id, summary.experiment_id, first.key, first.higher)
        value = run_documents.load_doc(best.run_id).value(first.key, goals)[1] if best else None
    earlier = experiment_names.earlier_names(experiment_names.EXPERIMENT, summary.experiment_id)
    return ExperimentView(summary, list(goals.values()), best.reference if best else None, value, earlier)


def views_of(run_rows: list[Run]) -> list[RunView]:
    """Return runs with their documents and what stands for each key by the goals of their experiments."""
    docs = run_documents.load_docs([run.run_id for run in run_rows])
    names = people.full_names()
    goals = {
        experiment_id: projects.goals_of(experiment_id) for experiment_id in {run.experiment_id for run in run_rows}
    }
    return [
        RunView(
            run,
            names[run.author_id],
            docs[run.run_id],
            docs[run.run_id].values(goals[run.experiment_id]),
            goals[run.experiment_id],
        )
        for run in run_rows
    ]


@snapshot
def read_run(actor: Actor, project: str, experiment: str, run_ref: str) -> RunView:
    """Return one run."""
    place = enter(actor, project)
    return _detail(actor, place, find_run(place, experiment, run_ref))


@snapshot
def read_run_by_id(actor: Actor, project: str, tail: str) -> RunView:
    """Return the run whose id is or ends in `tail`."""
    place = enter(actor, project)
    return _detail(actor, place, find_run_by_tail(place, tail))


def plain_view(run: Run) -> RunView:
    """Return a run with its document and the names of its metrics."""
    view = views_of([run])[0]
    return replace(view, metrics=tuple(point_reading.metric_names(run.run_id)))


def _detail(actor: Actor, place: Place, run: Run) -> RunView:
    view = plain_view(run)
    parent = runs.run_by_uid(run.parent_uid) if run.parent_uid else None
    children = run_families.children_of(run.uid, place.project_id, CHILDREN_LIMIT)
    before = runs.previous_run(run)
    visible_parent = parent if parent and parent.project_id == place.project_id else None
    return replace(
        view,
        parent=visible_parent.reference if visible_parent else None,
        previous=before.reference if before else None,
        children=tuple(views_of(children)),
        versions=tuple(sight_of(actor).names_from(place, models.versions_from_run(run.run_id))),
        notes=tuple(notes.notes_on("run", run.run_id)),
        may=_may(actor, place, run),
        binned_by=people.full_names().get(run.binned_by) if run.binned_by else None,
        output_lines=outputs.line_count(run.run_id),
        has_resources=resources.any_of(run.run_id),
    )


def _may(actor: Actor, place: Place, run: Run) -> tuple[str, ...]:
    """Name what the actor may do to the run, so that nothing is offered that would be refused."""
    words = [word for word, act in (("describe", Act.DESCRIBE), ("record", Act.RECORD)) if may(actor, place, act)]
    return (*words, "bin") if may_bin(actor, place, run) else tuple(words)


def may_bin(actor: Actor, place: Place, run: Run) -> bool:
    """Tell whether the actor may bin or restore this run."""
    own = run.author_id == actor.person_id and may(actor, place, Act.BIN_OWN)
    return own or may(actor, place, Act.BIN_OTHERS)


@dataclass(frozen=True)
class Curve:
    """One run's metric, reduced to a chart's width."""

    run: Run
    metric: str
    points: Points
    against: list[float] | None = None


@dataclass(frozen=True)
class CurveWindow:
    """How many pixels a chart has, between which steps, and along which metric in the place of steps."""

    width: int
    first: int | None
    last: int | None
    against: str | None = None


@snapshot
def read_curves(
    actor: Actor,
    project: str,
    references: list[str],
    metric: str,
    window: CurveWindow,
) -> list[Curve]:
    """Return one metric of up to 100 runs (`experiment/number`), each reduced to `width` pixel columns.

    With `against`, another metric's value at the same step comes along for each point, and steps that only
    one of the two has are left out.
    """
    low, high = WIDTH_RANGE
    if not low <= window.width <= high:
        raise InvalidInput(f"A width is {low} to {high} pixels, not {window.width}.", field="width")
    if len(references) > CURVES_LIMIT:
        raise InvalidInput(f"{len(references)} runs were named; at most {CURVES_LIMIT} are drawn.", field="run")
    place = enter(actor, project)
    curves = []
    for reference in references:
        run = run_named(place, reference)
        if window.against is not None:
            curves.append(_paired(run, metric, window.against, window.width, window.first, window.last))
        else:
            curves.append(
                Curve(
                    run, metric, point_reading.read_curve(run.run_id, metric, window.width, window.first, window.last)
                )
            )
    return curves


def _paired(run: Run, metric: str, against: str, width: int, first: int | None, last: int | None) -> Curve:
    import numpy as np

    ours, theirs = (shown(point_reading.read_points(run.run_id, key)) for key in (metric, against))
    _, at, other = np.intersect1d(ours.steps, theirs.steps, assume_unique=True, return_indices=True)
    steps = ours.steps[at]
    inside = (steps >= (-(2**62) if first is None else first)) & (steps <= (2**62 if last is None else last))
    at, other = at[inside], other[inside]
    if len(at) > 4 * width:
        # A cloud of points has no lowest and highest per pixel column: evenly thinned it keeps its shape.
        chosen = np.linspace(0, len(at) - 1, 4 * width).round().astype(np.int64)
        at, other = at[chosen], other[chosen]
    return Curve(run, metric, ours.cut(at), theirs.values[other].tolist())


@snapshot
def read_points(actor: Actor, project: str, experiment: str, run_ref: str, metric: str) -> Points:
    """Return every point of a metric, also those of repeated steps that are not shown."""
    place = enter(actor, project)
    run = find_run(place, experiment, run_ref)
    points = point_reading.read_points(run.run_id, metric)
    if not len(points):
        known = ", ".join(point_reading.metric_names(run.run_id)[:12]) or "none"
        raise NotFound(f"{run.reference} has no metric {metric!r}; it has {known}.", field="metric")
    return points


def finite(value: float) -> float | None:
    """Return None for what JSON has no number for: a gap in a chart."""
    return value if math.isfinite(value) else None


__all__ = [
    "Curve",
    "ExperimentRow",
    "ExperimentView",
    "ProjectView",
    "RunView",
    "finite",
    "list_experiments",
    "list_members",
    "list_projects",
    "read_curves",
    "read_experiment",
    "read_points",
    "read_project",
    "read_run",
    "read_run_by_id",
]
