"""Room: what takes how much, the bin, purges, and the check of the store."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from kinetrum.wire.base import In, Out


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


class NewCheck(In):
    remove_orphans: bool = False
