"""Models, versions, stages."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from kinetrum.wire.artifacts import ArtifactVersion, FileEntry
from kinetrum.wire.base import Comment, Id, In, JsonValue, Moment, Out
from kinetrum.wire.runs import Goal


class NewModelVersion(In):
    """`artifact` is NAME@NUMBER, or with `run` the bare name of what that run generated."""

    id: Id
    artifact: str
    run: str | None = None
    origin: str | None = Field(None, max_length=2_000)
    comment: Comment = ""


class Verdict(Out):
    person: str
    approves: bool
    comment: str
    given_at: Moment


class NewVerdict(In):
    """`verdict` null takes one's verdict back."""

    verdict: Literal["approve", "reject"] | None
    comment: Comment = ""


class ReviewState(Out):
    review: str


class ModelVersion(Out):
    reference: str
    number: int
    artifact: ArtifactVersion
    run: str | None
    origin: str | None
    comment: str
    registered_by: str
    registered_at: Moment
    review: Literal["pending", "approved", "rejected"]
    retired: bool
    damaged: bool
    verdicts: list[Verdict]
    approvals_needed: int
    stages: list[str]
    values: dict[str, JsonValue]
    goals: list[Goal]


class ModelVersionDetail(ModelVersion):
    model: str
    files: list[FileEntry]
    obstacles: dict[str, str | None]


class Stage(Out):
    name: str
    asks_approved: bool
    least_role: str
    occupant: int | None
    since: str | None
    placed_by: str | None
    warning: str | None
    may_place: bool


class StageEvent(Out):
    act: Literal["promote", "demote", "roll back"]
    stage: str
    before: int | None
    after: int | None
    person: str
    comment: str
    at: Moment


class Model(Out):
    name: str
    project: str
    purpose: str
    person: str
    created_at: Moment
    approvals_needed: int
    stages: list[Stage]
    versions: list[ModelVersion]
    events: list[StageEvent]
    lead: int | None
    lead_chosen: bool
    may: list[str]


class Promotion(In):
    """`expect` is the occupant that was seen on the stage; null for an empty stage."""

    id: Id
    version: int
    expect: int | None
    comment: Comment = ""


class StageAct(In):
    """`expect` is the occupant that was seen on the stage; null for an empty stage."""

    id: Id
    expect: int | None
    comment: Comment = ""


class NewLead(In):
    """`version` null leaves it to the highest occupied stage."""

    version: int | None
    comment: Comment = ""


class Retirement(In):
    retired: bool
    comment: Comment = ""


class Named(Out):
    name: str
    things: list[str]
