"""Today: what is running, what ended, what waits."""

from __future__ import annotations

from typing import Literal

from kinetrum.wire.base import JsonValue, Moment, Out
from kinetrum.wire.runs import Goal
from kinetrum.wire.surroundings import Progress


class SeenRun(Out):
    """A run with the value of the goal that leads in its experiment; `look` says why it needs one."""

    project: str
    reference: str
    experiment: str
    number: int
    name: str | None
    status: str
    author: str
    started_at: Moment
    ended_at: Moment | None
    goal: Goal | None
    value: JsonValue = None
    is_best: bool
    progress: Progress | None
    expected_end: Moment | None
    expected_by: Literal["progress", "earlier runs"] | None
    look: str | None


class WaitingVersion(Out):
    project: str
    model: str
    number: int
    comment: str
    registered_by: str
    registered_at: Moment
    run: str | None


class StageChange(Out):
    project: str
    model: str
    act: str
    stage: str
    before: int | None
    after: int | None
    person: str
    at: Moment


class NewNote(Out):
    """A note of somebody else, and what it stands on: a run, `NAME@VERSION`, or kind, colon and name."""

    project: str
    kind: Literal["project", "experiment", "run", "artifact", "model"]
    reference: str
    author: str
    text: str
    written_at: Moment


class Trouble(Out):
    """An occupant of a stage that is rejected, retired or damaged."""

    project: str
    model: str
    stage: str
    number: int
    warning: str


class Today(Out):
    at: Moment
    since: Moment
    first_visit: bool
    running: list[SeenRun]
    ended: list[SeenRun]
    ended_more: bool
    waiting: list[WaitingVersion]
    stage_changes: list[StageChange]
    troubles: list[Trouble]
    notes: list[NewNote]
