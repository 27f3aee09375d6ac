"""When people looked in last, and what happened since."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Literal

from peewee import SQL, Case, ModelSelect, Select, fn

from kinetrum.core.lineage.graph import HIDDEN
from kinetrum.storage.db.clock import Moment, now
from kinetrum.storage.db.database import database, named_rows, records
from kinetrum.storage.people import notes
from kinetrum.storage.runs.runs import Run, runs_by_ids
from kinetrum.storage.tables.people import Experiment, NoteRow, Person, Project, Visit
from kinetrum.storage.tables.registry import ModelVersion, RegisteredModel, StageEvent, Verdict
from kinetrum.storage.tables.runs import RunRow

# Whoever comes back after a longer pause begins another visit.
PAUSE = timedelta(hours=1)


@dataclass(frozen=True)
class WaitingVersion:
    """A version that waits for a person's review."""

    project: str
    model: str
    number: int
    comment: str
    registered_by: str
    registered_at: Moment
    run: str | None


@dataclass(frozen=True)
class StageChange:
    """A change of a stage's occupant."""

    project: str
    model: str
    act: str
    stage: str
    before: int | None
    after: int | None
    person: str
    at: Moment


@dataclass(frozen=True)
class NewNote:
    """A note, and what it stands on: whether project, experiment, run, artifact or model, and the reference."""

    project: str
    kind: Literal["project", "experiment", "run", "artifact", "model"]
    reference: str
    author: str
    text: str
    written_at: Moment


def visit(person_id: int) -> datetime | None:
    """Note that a person is here; returns when the visit before this one ended, None at the first."""
    moment = now()
    before = fn.IF(Visit.visited_at < moment - PAUSE, Visit.visited_at, Visit.before_at)
    here = Visit.insert(person_id=person_id, visited_at=moment, before_at=None)
    # In this order: what is set first reads the time that is replaced after it.
    here.on_conflict(update={Visit.before_at: before, Visit.visited_at: moment}).execute()
    return last_visit(person_id)


def last_visit(person_id: int) -> datetime | None:
    """Return when the visit before the present one ended."""
    row = Visit.get_or_none(Visit.person_id == person_id)
    return row.before_at if row else None


def _in_sight(project_ids: list[int]) -> ModelSelect[RunRow]:
    return (
        RunRow.select(RunRow.run_id)
        .join(Experiment, on=Experiment.experiment_id == RunRow.experiment_id)
        .where(RunRow.binned_at.is_null(), Experiment.project_id.in_(project_ids))
    )


def running(project_ids: list[int], limit: int) -> list[Run]:
    """Return running runs of projects, the latest first."""
    rows = _in_sight(project_ids).where(RunRow.status == "running").order_by(RunRow.started_at.desc()).limit(limit)
    return runs_by_ids([row.run_id for row in named_rows(rows)]) if project_ids else []


def ended_since(project_ids: list[int], since: datetime, limit: int) -> list[Run]:
    """Return runs of projects that ended after a moment, the latest first."""
    rows = _in_sight(project_ids).where(RunRow.ended_at > since).order_by(RunRow.ended_at.desc()).limit(limit)
    return runs_by_ids([row.run_id for row in named_rows(rows)]) if project_ids else []


def seconds_of_earlier(experiment_ids: list[int], each: int = 5) -> dict[int, list[float]]:
    """Return how long the last finished runs of experiments took."""
    if not experiment_ids:
        return {}
    place = fn.ROW_NUMBER().over(partition_by=[RunRow.experiment_id], order_by=[RunRow.ended_at.desc()])
    finished = RunRow.select(RunRow.experiment_id, RunRow.started_at, RunRow.ended_at, place.alias("place")).where(
        RunRow.status == "finished", RunRow.binned_at.is_null(), RunRow.experiment_id.in_(experiment_ids)
    )
    last = finished.alias("last")
    rows = Select([last], [last.c.experiment_id, last.c.started_at, last.c.ended_at]).where(last.c.place <= each)
    seconds: dict[int, list[float]] = {}
    for row in rows.bind(database).namedtuples():
        seconds.setdefault(row.experiment_id, []).append((row.ended_at - row.started_at).total_seconds())
    return seconds


def waiting_versions(project_ids: list[int], seen: list[int], person_id: int, limit: int) -> list[WaitingVersion]:
    """Return versions of some projects that wait for this person's review, the earliest first.

    `seen` are the projects that the person sees: a run of another one is not named.
    """
    if not project_ids:
        return []
    verdicts = Verdict.select(SQL("1")).where(
        Verdict.model_id == ModelVersion.model_id, Verdict.number == ModelVersion.number
    )
    approvals = verdicts.columns(fn.COUNT(SQL("*"))).where(Verdict.approves)
    home = Project.alias()
    reference = fn.CONCAT(Experiment.name, "/", RunRow.number)
    named = (
        (Experiment.project_id == RegisteredModel.project_id, reference),
        (Experiment.project_id.in_(seen), fn.CONCAT(home.name, "/", reference)),
    )
    trained_by = (
        RunRow.select(Case(None, named, HIDDEN))
        .join(Experiment, on=Experiment.experiment_id == RunRow.experiment_id)
        .join(home, on=home.project_id == Experiment.project_id)
        .where(RunRow.run_id == ModelVersion.run_id)
    )
    rows = (
        ModelVersion.select(
            Project.name.alias("project"),
            RegisteredModel.name.alias("model"),
            ModelVersion.number,
            ModelVersion.comment,
            Person.full_name.alias("registered_by"),
            ModelVersion.created_at.alias("registered_at"),
            trained_by.alias("run"),
        )
        .join(RegisteredModel, on=RegisteredModel.model_id == ModelVersion.model_id)
        .join(Project, on=Project.project_id == RegisteredModel.project_id)
        .join(Person, on=Person.person_id == ModelVersion.created_by, src=ModelVersion)
        .where(
            RegisteredModel.project_id.in_(project_ids),
            RegisteredModel.binned_at.is_null(),
            ModelVersion.retired == False,  # noqa: E712
            ~(RegisteredModel.second_pair & (ModelVersion.created_by == person_id)),
            ~fn.EXISTS(verdicts.where((Verdict.approves == False) | (Verdict.person_id == person_id))),  # noqa: E712
            approvals < RegisteredModel.approvals_needed,
        )
        .order_by(ModelVersion.created_at)
        .limit(limit)
    )
    return records(rows, WaitingVersion)


def stage_changes(project_ids: list[int], since: datetime, limit: int) -> list[StageChange]:
    """Return changes of stages after a moment, the latest first."""
    if not project_ids:
        return []
    rows = (
        StageEvent.select(
            Project.name.alias("project"),
            RegisteredModel.name.alias("model"),
            StageEvent.act,
            StageEvent.stage,
            StageEvent.before_number.alias("before"),
            StageEvent.after_number.alias("after"),
            Person.full_name.alias("person"),
            StageEvent.at,
        )
        .join(RegisteredModel, on=RegisteredModel.model_id == StageEvent.model_id)
        .join(Project, on=Project.project_id == RegisteredModel.project_id)
        .join(Person, on=Person.person_id == StageEvent.person_id, src=StageEvent)
        .where(RegisteredModel.project_id.in_(project_ids), StageEvent.at > since)
        .order_by(StageEvent.at.desc())
        .limit(limit)
    )
    return records(rows, StageChange)


def new_notes(project_ids: list[int], since: datetime, but_of: int, limit: int) -> list[NewNote]:
    """Return notes that others wrote after a moment, the latest first; none on what is in the bin."""
    if not project_ids:
        return []
    rows = named_rows(
        NoteRow.select(
            Project.name, NoteRow.subject_kind, NoteRow.subject_id, Person.full_name, NoteRow.text, NoteRow.written_at
        )
        .join(Project, on=Project.project_id == NoteRow.project_id)
        .join(Person, on=Person.person_id == NoteRow.author_id, src=NoteRow)
        .where(NoteRow.project_id.in_(project_ids), NoteRow.written_at > since, NoteRow.author_id != but_of)
        .order_by(NoteRow.written_at.desc())
        .limit(limit)
    )
    references = notes.references_of([(row.subject_kind, row.subject_id) for row in rows])
    return [
        NewNote(
            row.name,
            row.subject_kind.removesuffix("@"),
            references[row.subject_kind, row.subject_id],
            row.full_name,
            row.text,
            row.written_at,
        )
        for row in rows
        if (row.subject_kind, row.subject_id) in references
    ]
