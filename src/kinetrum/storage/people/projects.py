"""Projects, experiments and their goals."""

from __future__ import annotations

import json
from collections.abc import Collection
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

from peewee import JOIN, SQL, Expression, ModelSelect, fn

from kinetrum.core.base.goals import Direction, Goal
from kinetrum.core.statistics.replicates import SEEDS
from kinetrum.storage.db.clock import now
from kinetrum.storage.db.database import lock_rows, named_rows
from kinetrum.storage.people import names
from kinetrum.storage.tables.people import EarlierProjectName, Experiment, GoalRow, Project
from kinetrum.storage.tables.runs import RunRow


@dataclass(frozen=True)
class ProjectRow:
    """One project as stored."""

    project_id: int
    name: str
    description: str
    labels: dict[str, str] = field(default_factory=dict)
    is_open: bool = False
    archived_at: datetime | None = None
    deleted_at: datetime | None = None


# A name that no project can be given: what is left of one that is gone.
GONE = "~gone-"


@dataclass(frozen=True)
class ExperimentRow:
    """One experiment as stored."""

    experiment_id: int
    project_id: int
    name: str
    description: str
    labels: dict[str, str] = field(default_factory=dict)
    seeds: tuple[str, ...] = SEEDS
    generates_names: bool = True


@dataclass(frozen=True)
class ExperimentSummary:
    """An experiment with counts of its runs and its last activity; `purged` where all that it had was purged."""

    name: str
    description: str
    runs: int
    running: int
    last_activity: datetime | None
    experiment_id: int
    labels: dict[str, str] = field(default_factory=dict)
    seeds: tuple[str, ...] = SEEDS
    purged: bool = False
    generates_names: bool = True


@dataclass(frozen=True)
class ProjectSummary:
    """A project with counts of its experiments and runs and its last activity."""

    project: ProjectRow
    experiments: int
    runs: int
    active_at: datetime | None


def _project(row: Any) -> ProjectRow:
    return ProjectRow(
        row.project_id,
        row.name,
        row.description,
        json.loads(row.labels),
        bool(row.is_open),
        row.archived_at,
        row.deleted_at,
    )


def project_named(name: str) -> ProjectRow | None:
    """Return the project of that name, or the one that had it before; none that was deleted."""
    project = Project.get_or_none(Project.name == name, Project.deleted_at.is_null())
    if project is None:
        earlier = EarlierProjectName.get_or_none(EarlierProjectName.name == name)
        if earlier is not None:
            project = Project.get_or_none(Project.project_id == earlier.project_id, Project.deleted_at.is_null())
    return _project(project) if project else None


def deleted_project_named(name: str) -> ProjectRow | None:
    """Return the deleted project of that name."""
    project = Project.get_or_none(Project.name == name, Project.deleted_at.is_null(False))
    return _project(project) if project and not name.startswith(GONE) else None


def deleted_projects() -> list[ProjectRow]:
    """Return the projects that were deleted and may come back, the latest first."""
    rows = Project.select().where(Project.deleted_at.is_null(False), ~Project.name.startswith(GONE))
    return [_project(row) for row in rows.order_by(Project.deleted_at.desc())]


def is_name_free(name: str) -> bool:
    """Tell whether a project may be called so: none is, was, or was before it was deleted."""
    taken = Project.select().where(Project.name == name).exists()
    return not taken and EarlierProjectName.get_or_none(EarlierProjectName.name == name) is None


def project_by_id(project_id: int) -> ProjectRow:
    """Return a project that is known to exist."""
    return _project(Project.get(Project.project_id == project_id))


def lock_project(project_id: int) -> ProjectRow:
    """Lock a project's row until the transaction ends, and return it."""
    lock_rows(Project.select(Project.project_id).where(Project.project_id == project_id))
    return project_by_id(project_id)


def add_project(name: str, description: str, person_id: int, is_open: bool = False) -> int:
    """Insert a project and return its id."""
    made = Project.insert(name=name, description=description, created_by=person_id, created_at=now(), is_open=is_open)
    return int(made.execute())


def set_project(project_id: int, **fields: Any) -> None:
    """Change columns of a project."""
    Project.update(**fields).where(Project.project_id == project_id).execute()


def rename_project(project: ProjectRow, name: str) -> None:
    """Give a project another name; the one that it had leads to it from now on. `name` is known to be free or its."""
    EarlierProjectName.delete().where(
        EarlierProjectName.name == name, EarlierProjectName.project_id == project.project_id
    ).execute()
    EarlierProjectName.insert(name=project.name, project_id=project.project_id, since=now()).execute()
    set_project(project.project_id, name=name)


def earlier_names_of(project_id: int) -> list[str]:
    """Return the names that a project had before, the earliest first."""
    rows = EarlierProjectName.select().where(EarlierProjectName.project_id == project_id)
    return [row.name for row in rows.order_by(EarlierProjectName.since)]


def forget_project(project: ProjectRow) -> None:
    """Let the name of a deleted project go, and those that it had before; its row stays, under no name."""
    EarlierProjectName.delete().where(EarlierProjectName.project_id == project.project_id).execute()
    set_project(project.project_id, name=f"{GONE}{project.project_id}", description="", labels="{}")


def project_summaries(project_ids: Collection[int] | None) -> list[ProjectSummary]:
    """Return projects (all of them for None) that were not deleted, by name, with how much is in each."""
    rows = (
        Project.select(
            Project,
            fn.COUNT(Experiment.experiment_id.distinct()).alias("experiments"),
            fn.COUNT(RunRow.run_id).alias("runs"),
            fn.MAX(RunRow.changed_at).alias("active_at"),
        )
        .join(Experiment, JOIN.LEFT_OUTER, on=Experiment.project_id == Project.project_id)
        .join(RunRow, JOIN.LEFT_OUTER, on=_in_sight())
        .where(Project.deleted_at.is_null())
        .group_by(Project.project_id)
        .order_by(Project.name)
    )
    if project_ids is not None:
        rows = rows.where(Project.project_id.in_(list(project_ids)))
    return [
        ProjectSummary(_project(row), int(row.experiments), int(row.runs), row.active_at) for row in named_rows(rows)
    ]


def _in_sight() -> Expression:
    return (RunRow.experiment_id == Experiment.experiment_id) & RunRow.binned_at.is_null()


def experiment_named(project_id: int, name: str) -> ExperimentRow | None:
    """Return the experiment of that name in a project, or else the one that had it before."""
    experiment = Experiment.get_or_none((Experiment.project_id == project_id) & (Experiment.name == name))
    if experiment is None:
        before = names.find_earlier(project_id, names.EXPERIMENT, name)
        return experiment_by_id(before) if before is not None else None
    return _experiment(experiment)


def experiment_by_id(experiment_id: int) -> ExperimentRow:
    """Return an experiment that is known to exist."""
    return _experiment(Experiment.get_by_id(experiment_id))


def _experiment(experiment: Experiment) -> ExperimentRow:
    return ExperimentRow(
        experiment.experiment_id,
        experiment.project_id,
        experiment.name,
        experiment.description,
        json.loads(experiment.labels),
        tuple(json.loads(experiment.seeds)),
        bool(experiment.generates_names),
    )


def set_generates_names(experiment_id: int, generates: bool) -> None:
    """Set whether runs of an experiment that are begun without a name get a generated one."""
    Experiment.update(generates_names=generates).where(Experiment.experiment_id == experiment_id).execute()


def set_seeds(experiment_id: int, seeds: tuple[str, ...]) -> None:
    """Set the parameters in which an experiment's replicates differ; its runs wait to be marked anew."""
    Experiment.update(seeds=json.dumps(list(seeds)), marked_to=0).where(
        Experiment.experiment_id == experiment_id
    ).execute()


def seeds_of(experiment_ids: list[int]) -> list[str]:
    """Return the parameters in which replicates of any of some experiments differ."""
    if not experiment_ids:
        return []
    rows = Experiment.select(Experiment.seeds).where(Experiment.experiment_id.in_(experiment_ids)).distinct()
    return list(dict.fromkeys(name for row in rows for name in json.loads(row.seeds)))


def experiments_to_mark() -> list[int]:
    """Return the experiments some of whose runs wait to be marked anew."""
    waiting = Experiment.select(Experiment.experiment_id).where(Experiment.marked_to.is_null(False))
    return [row.experiment_id for row in waiting]


def experiments_in(project_id: int) -> list[tuple[int, str]]:
    """Return (id, name) of a project's experiments."""
    rows = Experiment.select().where(Experiment.project_id == project_id).order_by(Experiment.name)
    return [(row.experiment_id, row.name) for row in rows]


def set_description(table: str, row_id: int, description: str, labels: dict[str, str]) -> None:
    """Set the description and labels of a `project` or an `experiment`."""
    fields = {"description": description, "labels": json.dumps(labels)}
    if table == "project":
        Project.update(**fields).where(Project.project_id == row_id).execute()
    else:
        Experiment.update(**fields).where(Experiment.experiment_id == row_id).execute()


def embedding_origins(project_id: int) -> list[str]:
    """Return the origins whose pages may show this project's views."""
    return list(json.loads(Project.get_by_id(project_id).embedding_origins))


def set_embedding_origins(project_id: int, origins: list[str]) -> None:
    """Set the origins whose pages may show this project's views."""
    Project.update(embedding_origins=json.dumps(origins)).where(Project.project_id == project_id).execute()


def add_experiment(project_id: int, name: str, person_id: int) -> bool:
    """Insert an experiment unless it is there; tells whether it is new."""
    experiment = Experiment.insert(
        project_id=project_id, name=name, description="", last_number=0, created_by=person_id, created_at=now()
    )
    return bool(experiment.on_conflict_ignore().as_rowcount().execute())


def next_run_number(experiment_id: int) -> int:
    """Take the next run number; the experiment's row stays locked until the transaction ends."""
    (row,) = lock_rows(Experiment.select(Experiment.last_number).where(Experiment.experiment_id == experiment_id))
    Experiment.update(last_number=row.last_number + 1).where(Experiment.experiment_id == experiment_id).execute()
    return int(row.last_number) + 1


def take_run_number(experiment_id: int, wanted: int) -> int:
    """Take a certain run number where it is free, else the next one; the experiment's row stays locked."""
    lock_experiment(experiment_id)
    if RunRow.select().where(RunRow.experiment_id == experiment_id, RunRow.number == wanted).exists():
        return next_run_number(experiment_id)
    raise_last_number(experiment_id, wanted)
    return wanted


def raise_last_number(experiment_id: int, number: int) -> None:
    """Give out no number up to this one any more, but those that are asked for."""
    Experiment.update(last_number=fn.GREATEST(Experiment.last_number, number)).where(
        Experiment.experiment_id == experiment_id
    ).execute()


def describe_experiment(experiment_id: int, description: str) -> None:
    """Set the description of an experiment that has none."""
    Experiment.update(description=description).where(
        (Experiment.experiment_id == experiment_id) & (Experiment.description == "")
    ).execute()


def experiment_summaries(project_id: int) -> list[ExperimentSummary]:
    """Return a project's experiments, the last active first."""
    any_run = RunRow.alias()
    recorded = any_run.select(SQL("1")).where(any_run.experiment_id == Experiment.experiment_id)
    last = fn.MAX(RunRow.changed_at)
    rows = (
        Experiment.select(
            Experiment,
            fn.COUNT(RunRow.run_id).alias("runs"),
            fn.COALESCE(fn.SUM(RunRow.status == "running"), 0).alias("running"),
            last.alias("last_activity"),
            (fn.EXISTS(recorded) & ~fn.EXISTS(recorded.where(any_run.purged_at.is_null()))).alias("purged"),
        )
        .join(RunRow, JOIN.LEFT_OUTER, on=_in_sight())
        .where(Experiment.project_id == project_id)
        .group_by(Experiment.experiment_id)
        .order_by(last.is_null(), last.desc(), Experiment.name)
    )
    return [
        ExperimentSummary(
            row.name,
            row.description,
            int(row.runs),
            int(row.running),
            row.last_activity,
            row.experiment_id,
            json.loads(row.labels),
            tuple(json.loads(row.seeds)),
            bool(row.purged),
            bool(row.generates_names),
        )
        for row in named_rows(rows)
    ]


def goals_of(experiment_id: int) -> dict[str, Goal]:
    """Return an experiment's goals by key, in the order in which they were declared."""
    rows = GoalRow.select().where(GoalRow.experiment_id == experiment_id).order_by(GoalRow.position)
    return {row.name: Goal(row.name, Direction(row.direction), row.unit, row.bound, row.aggregate) for row in rows}


def goals_to_index(experiment_id: int) -> dict[str, Goal]:
    """Return the goals for writing index rows; they cannot change until the transaction ends."""
    lock_rows(_id_alone(experiment_id), "LOCK IN SHARE MODE")
    return goals_of(experiment_id)


def lock_experiment(experiment_id: int) -> None:
    """Keep others from changing the goals, and from indexing by them, until the transaction ends."""
    lock_rows(_id_alone(experiment_id))


def _id_alone(experiment_id: int) -> ModelSelect[Experiment]:
    return Experiment.select(Experiment.experiment_id).where(Experiment.experiment_id == experiment_id)


def change_goal(experiment_id: int, goal: Goal) -> None:
    """Change a goal that is there."""
    changes = GoalRow.update(direction=goal.direction, unit=goal.unit, bound=goal.bound, aggregate=goal.aggregate)
    changes.where(GoalRow.experiment_id == experiment_id, GoalRow.name == goal.key).execute()


def remove_goal(experiment_id: int, key: str) -> None:
    """Remove a goal."""
    GoalRow.delete().where(GoalRow.experiment_id == experiment_id, GoalRow.name == key).execute()


def next_goal_position(experiment_id: int) -> int:
    """Return the place behind the last goal of an experiment."""
    last = GoalRow.select(fn.MAX(GoalRow.position)).where(GoalRow.experiment_id == experiment_id).scalar()
    return 0 if last is None else int(last) + 1


def add_goal(experiment_id: int, goal: Goal, position: int) -> None:
    """Insert a goal that is not there yet."""
    GoalRow.insert(
        experiment_id=experiment_id,
        name=goal.key,
        position=position,
        direction=goal.direction,
        unit=goal.unit,
        bound=goal.bound,
        aggregate=goal.aggregate,
    ).on_conflict_ignore().execute()
