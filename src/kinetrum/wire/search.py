"""What finding answers, saved views, and links for people without an account."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from kinetrum.core.base.goals import Goal
from kinetrum.storage.search.run_groups import Spread
from kinetrum.wire.base import In, JsonValue, Moment, Out
from kinetrum.wire.runs import ChosenColumn, Curve, RunRow


class GroupCell(Out):
    """What a group has in a column: one value that all share, the spread of its numbers, or several other values."""

    is_shared: bool
    shared: JsonValue = None
    spread: Spread | None = None
    several: int = 0


class RunGroup(Out):
    """Runs that share a value; `present` is false for those that lack it. `query` finds them."""

    present: bool
    value: JsonValue
    runs: int
    last: RunRow
    cells: list[GroupCell | None]
    query: str


class GroupPage(Out):
    """A page of groups; `columns` name the cells. `python` and `shell` are lines that read the same table."""

    by: ChosenColumn
    groups: list[RunGroup]
    columns: list[ChosenColumn]
    goals: list[Goal]
    count: int
    count_is_capped: bool
    more: bool
    remarks: list[str]
    python: str
    shell: str


class FacetKey(Out):
    """A key that runs have; `kinds` among number, text, special (true, false, null, NaN, lists)."""

    scope: str
    name: str
    kinds: list[str]
    low: float | None
    high: float | None
    goal: Goal | None


class Facets(Out):
    """What can be asked for: keys of runs, and fields whose values are counted."""

    keys: list[FacetKey]
    fields: list[str]


class FrequentValue(Out):
    value: JsonValue
    runs: int
    query: str


class Facet(Out):
    """One key over the runs that fit: how many of them have it, NaN, range, frequent values, how many are left out."""

    column: ChosenColumn
    runs: int
    of_runs: int
    of_runs_is_capped: bool
    nans: int
    low: float | None
    high: float | None
    values: list[FrequentValue]
    values_left_out: int


Arrangement = Annotated[
    dict[Annotated[str, Field(max_length=40)], Annotated[str, Field(max_length=8_000)]],
    Field(max_length=60, description="The console's address: q the query, sort, cols, group, and what charts show."),
]


class SavedView(Out):
    """A saved view; `mine` tells that one saved it oneself. Names in the arrangement say what they are."""

    id: str
    name: str
    experiment: str | None
    shared: bool
    mine: bool
    author: str
    arrangement: dict[str, str]
    version: int
    saved_at: Moment


class NewSavedView(In):
    """`expect` is the version that one saw, null for a new view."""

    name: str
    experiment: str | None = None
    shared: bool = False
    arrangement: Arrangement
    expect: int | None = None


class ViewLink(Out):
    """A link that shows one arrangement; its secret is told once, when it is made."""

    number: int
    experiment: str
    arrangement: dict[str, str]
    author: str
    made_at: Moment
    expires_at: Moment
    secret: str | None = None


class NewLink(In):
    experiment: str
    arrangement: Arrangement
    days: int = Field(30, description="How long it opens: 1 to 366 days.")


class Embedding(Out):
    origins: list[str]


class NewEmbedding(In):
    origins: list[str]


class LinkRow(Out):
    """One run as a link shows it: nothing but its number, name and status beside the columns."""

    reference: str
    number: int
    name: str | None
    status: str
    cells: list[JsonValue]
    present: list[bool]


class LinkPage(Out):
    """What a link shows."""

    project: str
    experiment: str
    author: str
    expires_at: Moment
    arrangement: dict[str, str]
    columns: list[ChosenColumn]
    goals: list[Goal]
    rows: list[LinkRow]
    count: int
    count_is_capped: bool
    more: bool


class LinkCurves(Out):
    metric: str
    curves: list[Curve]


class Description(In):
    """What is to be changed; labels given as null are taken away, others stay."""

    description: str | None = Field(None, max_length=4_000)
    labels: dict[str, str | None] = {}


class ExperimentDescription(Description):
    """Also whether runs that are begun without a name get a generated one; null leaves that as it is."""

    generates_names: bool | None = None
