"""Room: what takes how much, the bin, purges, and the check of the store."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from kinetrum.wire.base import In, Moment, Out


class ThingsNamed(In):
    """Runs (`frost-alarm/3`, ids) and artifact versions (`nights@2`; `artifact:nights` is all of its versions).

    `children`: the runs below those that are named as well.
    """

    things: Annotated[list[str], Field(min_length=1, max_length=1_000)]
    children: bool = False


class Moved(Out):
    """What was moved; `left_below` are runs below it that were not."""

    references: list[str]
    left_below: int = 0


class BinnedThing(Out):
    """A run, a version or a model in the bin; `status` is a run's status or a version's kind."""

    reference: str
    kind: Literal["run", "version", "model"]
    name: str | None
    status: str
    author: str
    made_at: Moment
    binned_at: Moment
    binned_by: str | None
    reason: str | None
    size_bytes: int
    may_restore: bool


class Taken(Out):
    """`alone_bytes` is held by nothing else in the project; `binned_bytes` belongs to what is in its bin."""

    name: str
    things: int
    files: int
    size_bytes: int
    alone_bytes: int
    binned: int
    binned_bytes: int


class Usage(Out):
    """Stored files count once, however many versions hold them. `frees_bytes`: what a purge of the bin would free."""

    files: int
    size_bytes: int
    artifacts: list[Taken]
    experiments: list[Taken]
    binned_runs: int
    binned_versions: int
    frees_bytes: int
    disk_free_bytes: int
    may_purge: bool


class ProjectUsage(Out):
    project: str
    files: int
    size_bytes: int


class InstanceUsage(Out):
    projects: list[ProjectUsage]
    files: int
    size_bytes: int
    disk_free_bytes: int


class NewPurge(In):
    """What to purge of the bin, null for all of it; with `only_tell` nothing is changed.

    Versions go with the runs that generated them, where nothing else holds them; `keep_files` leaves them.
    """

    things: list[str] | None = Field(None, max_length=1_000)
    only_tell: bool = False
    keep_files: bool = False


class Kept(Out):
    reference: str
    why: str


class Purge(Out):
    """What a purge frees or freed, and what stays with the reason."""

    runs: list[str]
    versions: list[str]
    kept: list[Kept]
    files: int
    size_bytes: int
    recorded_bytes: int


class NewCheck(In):
    remove_orphans: bool = False


class StoreFault(Out):
    """A line of the check: a fault."""

    sha256: str
    state: Literal["damaged", "missing", "orphaned", "whole again"]
    size_bytes: int
    held_by: list[str]
