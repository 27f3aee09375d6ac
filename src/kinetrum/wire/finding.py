"""What finding answers: groups and their spread, facets, what may stand in a query."""

from __future__ import annotations

from kinetrum.wire.base import JsonValue, Out
from kinetrum.wire.runs import ChosenColumn, Goal, RunRow


class Spread(Out):
    """Numbers of a group in a column: runs that have one, mean, standard deviation of the sample, ends."""

    runs: int
    mean: float
    deviation: float | None
    low: float
    high: float


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


class Offer(Out):
    text: str
    what: str
    about: str


class Offers(Out):
    """What may stand in a query from column `at` (from 0) to the end of what was written."""

    at: int
    expected: str
    offers: list[Offer]
