"""Sessions, people, projects, and what one comes to see first."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from kinetrum.actions.registry.model_list import Trouble
from kinetrum.core.base.goals import Goal
from kinetrum.storage.people.visits import NewNote, StageChange, WaitingVersion
from kinetrum.wire.base import In, JsonValue, Moment, Out
from kinetrum.wire.environment import Progress


class SignIn(In):
    name: str
    password: str


class WaysIn(Out):
    """How people sign in: with passwords, and at which provider, by its name; null where there is none."""

    passwords: bool
    elsewhere: str | None


class Me(Out):
    name: str
    full_name: str
    is_admin: bool
    csrf_token: str | None = None
    instance: str = ""
    time_zone: str = ""
    theme: str = ""


class NewPerson(In):
    """Who is to have an account. Without a password they are invited, and choose it by the link that is answered."""

    name: str
    full_name: str
    password: str | None = None
    is_admin: bool = False
    mail: str = ""


class Person(Out):
    """A person; `invited_until` of who was invited and has not come yet, `seen_at` by a session or a token."""

    name: str
    full_name: str
    is_admin: bool
    mail: str = ""
    groups: list[str] = []
    roles: dict[str, str] = {}
    created_at: Moment | None = None
    deactivated_at: Moment | None = None
    invited_until: Moment | None = None
    seen_at: Moment | None = None
    sessions: int = 0
    tokens: int = 0
    signs_in_elsewhere: bool = False


class MadePerson(Person):
    """`link`: where they choose their password, once; null where a password was given.

    `sent_to` is the address that it was mailed to; `not_sent` says why it was not, empty where nobody tried.
    """

    link: str | None = None
    sent_to: str | None = None
    not_sent: str = ""


class PersonChange(In):
    """What is left out, or null, stays as it is."""

    full_name: str | None = None
    mail: str | None = None
    is_admin: bool | None = None
    is_active: bool | None = None
    groups: list[str] | None = None


class AccountLink(Out):
    """A link that opens once; it is shown this once. `sent_to` and `not_sent` as of a person who was made."""

    link: str
    expires_at: Moment
    sent_to: str | None = None
    not_sent: str = ""


class ChosenPassword(In):
    password: str
    revoke_tokens: bool = False


class NewPassword(In):
    password: str


class ChangedPassword(In):
    """One's own: with the present one."""

    current: str
    password: str
    revoke_tokens: bool = False


class Own(Out):
    """One's own account."""

    name: str
    full_name: str
    is_admin: bool
    mail: str
    time_zone: str
    theme: str
    groups: list[str]
    roles: dict[str, str]
    has_password: bool


class OwnChange(In):
    full_name: str | None = None
    time_zone: str | None = None
    theme: str | None = None


class NewSecret(In):
    value: str = Field(min_length=1, max_length=4_000)


class Session(Out):
    """`is_this` is the one that asks."""

    id: int
    opened_at: Moment | None
    seen_at: Moment | None
    expires_at: Moment
    origin: str
    is_this: bool


class NewToken(In):
    """`scopes` and `projects`: all but administering, all projects, where they are left out; `days` null: no end."""

    name: str
    person: str | None = None
    scopes: list[str] | None = Field(None, max_length=20)
    projects: list[str] | None = Field(None, max_length=200)
    days: int | None = 90


class NewMachineToken(In):
    """A token of the project: for a machine that has this name, and no person."""

    name: str
    scopes: list[str] = Field(max_length=20)
    days: int | None = 90


class NewProject(In):
    name: str
    description: str = ""
    is_open: bool = False


class ProjectSettings(Out):
    """`earlier_names` lead to the project as its name does."""

    name: str
    earlier_names: list[str]
    is_open: bool
    archived_at: Moment | None
    members: list[Member]
    groups: list[GroupRole]


class ProjectChange(In):
    """What is left out, or null, stays as it is."""

    name: str | None = None
    is_open: bool | None = None
    is_archived: bool | None = None


class NewQuota(In):
    """How much a project may take; null bounds nothing."""

    size_bytes: int | None = None
    runs_a_day: int | None = None
    points_a_day: int | None = None


class Deletion(In):
    """`confirmed`: the project's name, once more."""

    confirmed: str


class DeletedProject(Out):
    name: str
    deleted_at: Moment | None


class GroupRole(Out):
    name: str
    role: str


class Project(Out):
    name: str
    description: str
    labels: dict[str, str] = {}
    role: str
    experiments: int
    runs: int
    last_activity: Moment | None
    is_open: bool = False
    archived_at: Moment | None = None


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
