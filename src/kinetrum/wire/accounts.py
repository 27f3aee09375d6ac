"""Sessions, people, projects."""

from __future__ import annotations

from kinetrum.wire.base import In, Moment, Out


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


class JournalEntry(Out):
    entry_id: int
    at: Moment
    person: str | None
    act: str
    subject: str
    before: object | None
    after: object | None
    comment: str
    origin: str
