"""What surrounds a run: printed output, code and packages, use of the machine, activities."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from kinetrum.core.compare.environment import PackageChange
from kinetrum.wire.base import Id, In, JsonValue, Micros, Moment, Out

Stream = Literal["stdout", "stderr", "kinetrum"]


class Printed(In):
    """Text as it was printed; `position` grows within its writer, a position that is known is passed over."""

    position: int = Field(ge=1, lt=2**63)
    at: Micros
    stream: Stream
    text: str


class NewOutput(In):
    """What one process printed; `writer` is an id of its own choice that stays the same."""

    writer: Id
    pieces: Annotated[list[Printed], Field(min_length=1, max_length=20_000, fail_fast=True)]


class OutputKept(Out):
    position: int


class OutputLine(Out):
    """A line with its colours (SGR sequences); `number` counts from 0, and is null while the line may change."""

    number: int | None
    at: Micros
    stream: Stream
    text: str


class Output(Out):
    """Lines in order; `next_line` comes after the last. From `head_end` to `tail_begin` lines were left out."""

    lines: list[OutputLine]
    unfinished: list[OutputLine]
    next_line: int
    head_end: int
    tail_begin: int
    kept_bytes: int
    more: bool


class Repository(In):
    """A state of a git working tree; `state` tells of a merge or rebase under way."""

    address: str | None = Field(None, max_length=500)
    commit: str | None = Field(None, max_length=64)
    branch: str | None = Field(None, max_length=250)
    state: str | None = Field(None, max_length=40)
    changed_files: int = Field(0, ge=0)
    untracked_files: int = Field(0, ge=0)
    untracked_code: list[str] = Field([], max_length=100, description="Own files that were run and no commit has.")
    entry: str | None = Field(None, max_length=500)
    hidden_lines: int = Field(0, ge=0)
    cut: str | None = Field(None, max_length=200)


class NewSurroundings(In):
    """What was caught around a run; each part may be missing. Texts are kept once under their digest."""

    code: Repository | None = None
    difference: str | None = None
    script: str | None = None
    packages: dict[str, str] | None = None
    job: dict[str, str] | None = None
    about: dict[str, JsonValue] = {}


class Surroundings(Out):
    """Code, packages and job of a run; against another run, what of them differs."""

    code: Repository | None
    difference: str | None
    script: str | None
    packages: dict[str, str]
    job: dict[str, str]
    about: dict[str, JsonValue]
    against: str | None
    against_code: Repository | None
    code_change: Literal["same", "other commit", "other uncommitted changes", "unknown"] | None
    code_change_text: str | None
    package_changes: list[PackageChange]
    about_changes: list[PackageChange]


class NewResources(In):
    """Samples in columns of equal length, of which `at` is the time; a repeat of `id` changes nothing."""

    id: Id
    samples: dict[str, list[float | int | None]]


class Resources(Out):
    """What a run used of its machine over time, reduced to the width asked for; units are in the names."""

    samples: dict[str, list[float | int | None]]


class NewActivity(In):
    """A named piece of work; sent again under its id with its end."""

    name: str = Field(min_length=1, max_length=100)
    started_at: Micros
    ended_at: Micros | None = None
    failed: bool = False


class Activity(Out):
    id: str
    name: str
    started_at: Micros
    ended_at: Micros | None
    failed: bool


class NewProgress(In):
    """How far the run is: `done` of `total` (null where unknown), counting since `since`."""

    done: int = Field(ge=0)
    total: int | None = Field(None, ge=0)
    since: Micros
    at: Micros


class Progress(Out):
    done: int
    total: int | None
    since: Micros
    at: Micros
    expected_end: Moment | None
