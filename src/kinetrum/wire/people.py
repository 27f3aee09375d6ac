"""Sessions, people, projects, and what one comes to see first."""

from __future__ import annotations

from typing import Literal

from kinetrum.actions.registry.model_list import Trouble
from kinetrum.core.base.goals import Goal
from kinetrum.storage.people.visits import NewNote, StageChange, WaitingVersion
from kinetrum.wire.base import In, JsonValue, Moment, Out
from kinetrum.wire.environment import Progress


class SignIn(In):
    name: str
    password: str


class Me(Out):
    name: str
    full_name: str
    is_admin: bool
    csrf_token: str | None = None
    instance: str = ""


class NewPerson(In):
    name: str
    full_name: str
    password: str
    is_admin: bool = False


class Person(Out):
    name: str
    full_name: str
    is_admin: bool


class NewPassword(In):
    password: str


class NewToken(In):
    name: str
    person: str | None = None


class Token(Out):
    name: str
    secret: str


class NewProject(In):
    name: str
    description: str = ""


class Project(Out):
    name: str
    description: str
    labels: dict[str, str] = {}
    role: str
    experiments: int
    runs: int
    last_activity: Moment | None


class Member(Out):
    name: str
    full_name: str
    role: str


class NewRole(In):
    role: str


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
