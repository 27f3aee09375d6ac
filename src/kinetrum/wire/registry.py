"""Artifacts, models, versions, stages."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from kinetrum.wire.base import Comment, Id, In, JsonValue, Micros, Moment, Out
from kinetrum.wire.runs import Goal


class FileEntry(Out):
    path: str
    size: int = Field(ge=0)
    sha256: str


class Digests(In):
    sha256: list[str] = Field(max_length=10_000)


class MissingBlobs(Out):
    missing: list[str]


class BlobKept(Out):
    sha256: str
    size_bytes: int


class NewContent(In):
    """Content under a name; or with `artifact` (NAME@NUMBER) a version that exists."""

    id: Id
    at: Micros
    name: str | None = None
    kind: str = "file"
    files: list[FileEntry] = Field(default=[], max_length=100_000)
    by_reference: bool = False
    address: str | None = Field(None, max_length=1_000)
    role: str | None = Field(None, max_length=100)
    step: int | None = Field(None, ge=-(2**62), le=2**62)
    artifact: str | None = None
    activity: str | None = Field(None, max_length=100, description="Name of the run's activity that it belongs to.")


class ArtifactVersion(Out):
    reference: str
    name: str
    number: int
    kind: str
    digest: str
    by_reference: bool
    address: str | None
    file_count: int
    size_bytes: int
    damaged: bool
    created_at: Moment


class RunOfVersion(Out):
    relation: Literal["used", "generated"]
    run: str


class ArtifactVersionDetail(ArtifactVersion):
    files: list[FileEntry]
    runs: list[RunOfVersion]


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
