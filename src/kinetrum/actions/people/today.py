"""Today: what is running, what ended since the last visit, what waits for one, what changed stage."""

from __future__ import annotations

import math
from dataclasses import dataclass
from datetime import datetime, timedelta
from statistics import median

from kinetrum.actions.context import Actor, role_of, visible_projects
from kinetrum.actions.registry.model_list import Trouble, occupants_in_trouble
from kinetrum.core.base.goals import Goal
from kinetrum.core.base.permissions import Act, permits
from kinetrum.core.base.run_document import RunDoc
from kinetrum.core.base.values import Value
from kinetrum.core.compare.environment import expected_end
from kinetrum.storage.db.clock import from_micros, now
from kinetrum.storage.db.database import snapshot, transaction
from kinetrum.storage.people import people as people_store
from kinetrum.storage.people import projects, visits
from kinetrum.storage.people.visits import NewNote, StageChange, WaitingVersion
from kinetrum.storage.runs import run_documents, runs
from kinetrum.storage.runs.runs import Run

RUNNING_LIMIT, ENDED_LIMIT, OTHERS_LIMIT = 100, 200, 50
FIRST_LOOK = timedelta(days=1)


@dataclass(frozen=True)
class SeenRun:
    """A run with what leads in its experiment: the goal declared first, the run's value, whether it is the best.

    `expected_by` says what `expected_end` rests on: the run's own `progress`, or the length of `earlier runs`.
    """

    run: Run
    author: str
    goal: Goal | None
    value: Value
    is_best: bool
    doc: RunDoc
    expected_end: datetime | None = None
    expected_by: str | None = None


@dataclass(frozen=True)
class Today:
    """What a person comes to see first."""

    at: datetime
    since: datetime
    first_visit: bool
    running: list[SeenRun]
    ended: list[SeenRun]
    ended_more: bool
    waiting: list[WaitingVersion]
    stage_changes: list[StageChange]
    troubles: list[Trouble]
    notes: list[NewNote]


@transaction
def note_visit(actor: Actor) -> None:
    """Note that the actor is here; over an hour of absence begins another visit."""
    visits.visit(actor.person_id)


@snapshot
def read_today(actor: Actor, since: datetime | None) -> Today:
    """Return what happened in all projects that the actor may see, since the last visit or a given moment."""
    last = visits.last_visit(actor.person_id)
    moment = now()
    begin = since or last or moment - FIRST_LOOK
    visible = [one.project.project_id for one in visible_projects(actor)]
    reviewing = [one for one in visible if _may_review(actor, one)]
    going = visits.running(visible, RUNNING_LIMIT)
    ended = visits.ended_since(visible, begin, ENDED_LIMIT + 1)
    seen = _seen(going + ended[:ENDED_LIMIT])
    return Today(
        at=moment,
        since=begin,
        first_visit=last is None,
        running=_with_ends(seen[: len(going)], moment),
        ended=seen[len(going) :],
        ended_more=len(ended) > ENDED_LIMIT,
        waiting=visits.waiting_versions(reviewing, visible, actor.person_id, OTHERS_LIMIT),
        stage_changes=visits.stage_changes(visible, begin, OTHERS_LIMIT),
        troubles=occupants_in_trouble(visible),
        notes=visits.new_notes(visible, begin, actor.person_id, OTHERS_LIMIT),
    )


def _may_review(actor: Actor, project_id: int) -> bool:
    role = role_of(actor, project_id)
    return role is not None and permits(role, Act.REVIEW)


def _seen(run_rows: list[Run]) -> list[SeenRun]:
    docs = run_documents.load_docs([run.run_id for run in run_rows])
    names = people_store.full_names()
    goals = {run.experiment_id: projects.goals_of(run.experiment_id) for run in run_rows}
    best = {one.experiment_id: _best(one, goals[one.experiment_id]) for one in run_rows}
    return [
        _one(
            run, names[run.author_id], docs[run.run_id], goals[run.experiment_id], best[run.experiment_id] == run.run_id
        )
        for run in run_rows
    ]


def _best(run: Run, goals: dict[str, Goal]) -> int | None:
    goal = next(iter(goals.values()), None)
    best_run = runs.best_run(run.project_id, run.experiment_id, goal.key, goal.higher) if goal else None
    return best_run.run_id if best_run else None


def _one(run: Run, author: str, doc: RunDoc, goals: dict[str, Goal], is_best: bool) -> SeenRun:
    goal = next((goal for goal in goals.values() if doc.value(goal.key, goals)[0]), None)
    value = doc.value(goal.key, goals)[1] if goal else None
    return SeenRun(run, author, goal, value, is_best, doc)


def _with_ends(seen: list[SeenRun], moment: datetime) -> list[SeenRun]:
    """Add when each run is expected to end."""
    earlier = visits.seconds_of_earlier(sorted({one.run.experiment_id for one in seen}))
    return [_with_end(one, earlier.get(one.run.experiment_id, []), moment) for one in seen]


def _with_end(one: SeenRun, earlier: list[float], moment: datetime) -> SeenRun:
    progress = one.doc.progress
    end = expected_end(progress.done, progress.total, progress.since, progress.at) if progress else None
    if end is not None and end < 2**55:
        return SeenRun(**{**vars(one), "expected_end": from_micros(end), "expected_by": "progress"})
    if len(earlier) >= 3:
        guess = one.run.started_at + timedelta(seconds=median(earlier))
        if guess > moment:
            return SeenRun(**{**vars(one), "expected_end": guess, "expected_by": "earlier runs"})
    return one


def needs_a_look(one: SeenRun) -> str | None:
    """Say why a run that ended wants a person: failed, lost, a problem, or NaN where a goal stands."""
    run, doc = one.run, one.doc
    if run.status in {"failed", "lost"}:
        return (run.reason or run.status).strip().splitlines()[-1][:300]
    if doc.problems:
        return doc.problems[-1].text[:300]
    if one.goal and isinstance(one.value, float) and math.isnan(one.value):
        return f"{one.goal.key} is NaN"
    return None
