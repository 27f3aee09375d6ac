"""Experiments, runs, points, comparisons."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field, field_validator

from kinetrum.actions.search.run_table import RunColumn
from kinetrum.core.base.goals import Goal
from kinetrum.core.points.aggregates import AGGREGATES
from kinetrum.wire.base import Id, In, JsonValue, Micros, Moment, Out, PlainMicros, check_unit
from kinetrum.wire.environment import Activity, Progress, Repository


class NewGoal(In):
    direction: Literal["higher", "lower"]
    unit: str | None = None
    bound: float | None = None
    # Named for readers of the description; what else is asked for is refused with the names.
    aggregate: Annotated[str | None, Field(json_schema_extra={"enum": [*AGGREGATES, None]})] = None


class Experiment(Out):
    name: str
    description: str
    labels: dict[str, str] = {}
    seeds: list[str] = Field(description="Parameters in which replicates differ.")
    generates_names: bool = Field(description="Whether runs that are begun without a name get a generated one.")
    earlier_names: list[str] = Field(description="Names that it had before, which go on leading to it.")
    runs: int
    running: int
    last_activity: Moment | None
    goals: list[Goal]
    best_run: str | None
    best_value: JsonValue = None


class ThingName(In):
    """The name of an experiment or a model."""

    name: str = Field(min_length=1, max_length=100)


class NewSeeds(In):
    """Parameters in which replicates of an experiment differ."""

    seeds: list[str]


class NewRun(In):
    started_at: Micros
    name: str | None = None
    host: str = Field("", max_length=200)
    parent: Id | None = None
    lease_s: int = Field(120, ge=1, le=604_800)
    params: dict[str, JsonValue] = {}
    goals: dict[str, NewGoal] = {}
    labels: dict[str, str] = {}
    about: dict[str, JsonValue] = {}


class ProblemOfRun(Out):
    text: str
    at: Micros


class Metric(Out):
    """Aggregates of a metric's shown points; non-finite values as {"float": "NaN"}."""

    count: int
    nan_count: int
    first: JsonValue
    last: JsonValue
    min: JsonValue
    max: JsonValue
    mean: JsonValue
    best: JsonValue = None
    best_step: int | None = None
    first_step: int
    last_step: int
    line_steps: list[int] = []
    line_values: list[float | None] = []


class Link(Out):
    reference: str
    name: str
    version: int
    kind: str
    digest: str
    role: str | None
    step: int | None
    activity: str | None = None


class Run(Out):
    """A run as a row of a table: settings, what stands for each key, thin lines of its metrics.

    Where a run has over 200 of them, a row holds those with goals, those asked for and the first others; `complete`
    is false then, and the run read by itself has all.
    """

    reference: str
    id: str
    project: str
    experiment: str
    number: int
    name: str | None
    status: str
    reason: str | None
    author: str
    host: str
    started_at: Moment
    ended_at: Moment | None
    params: dict[str, JsonValue]
    values: dict[str, JsonValue]
    metrics: dict[str, Metric]
    labels: dict[str, str]
    problems: list[ProblemOfRun]
    used: list[Link]
    generated: list[Link]
    progress: Progress | None
    imported_from: str | None
    commit: str | None
    code_state: Literal["clean", "changed", "unversioned"] | None = Field(
        None, description="Whether its code was clean, changed against its commit, or unversioned."
    )
    parent_id: str | None
    complete: bool


class RunRow(Run):
    """A run in a table: `children` counts those under it in what is searched, `parent` names the run above it."""

    children: int = 0
    parent: str | None = None


class Note(Out):
    """A Markdown text with its author and time."""

    id: str
    author: str
    text: str
    written_at: Moment
    imported_from: str | None = None


class NoteOn(Note):
    """A note, and whether who asks may remove it."""

    may_remove: bool


class ChildRun(Out):
    """A run under another: its status and what stands for each key."""

    reference: str
    name: str | None
    status: str
    started_at: Moment
    ended_at: Moment | None
    params: dict[str, JsonValue]
    values: dict[str, JsonValue]


class RunDetail(Run):
    """A run whole; `may` holds what the asker may do to it: describe, record, bin."""

    results: dict[str, JsonValue]
    goals: list[Goal]
    about: dict[str, JsonValue]
    parent: str | None
    previous: str | None
    children: list[ChildRun]
    versions: list[str]
    metric_names: list[str]
    notes: list[Note]
    resumed_at: Moment | None
    last_sign_at: Moment
    lease_s: int
    binned_at: Moment | None
    purged_at: Moment | None
    binned_by: str | None
    activities: list[Activity]
    code: Repository | None
    job: dict[str, str]
    output_lines: int
    has_resources: bool
    may: list[Literal["describe", "record", "bin"]]


class ChosenColumn(Out):
    """What a column that was asked for means: a field of the run, or what stands for a key."""

    text: str
    scope: Literal["field", "param", "value", "label"]
    name: str
    aggregate: str | None = None


class RunPage(Out):
    """A page of runs; `python` and `shell` are lines that read the same table, `seeds` what replicates differ in."""

    rows: list[RunRow]
    columns: list[RunColumn]
    goals: list[Goal]
    seeds: list[str]
    count: int
    count_is_capped: bool
    next_cursor: str | None
    remarks: list[str] = []
    chosen: list[ChosenColumn] = []
    python: str
    shell: str


class Begun(Out):
    reference: str
    id: str
    number: int
    name: str | None
    status: str


class Params(In):
    params: dict[str, JsonValue]


class SetAside(Out):
    key: str
    text: str


class ParamsSet(Out):
    set_aside: list[SetAside]


class NewResult(In):
    id: Id
    key: str
    value: JsonValue
    at: Micros


class NewResults(In):
    results: Annotated[list[NewResult], Field(max_length=10_000, fail_fast=True)]


class PointGroup(In):
    """Metrics that share steps and times: one list of values per key; "NaN", "Infinity", "-Infinity" as text."""

    keys: list[str] = Field(fail_fast=True)
    steps: list[int] = Field(fail_fast=True)
    times: list[PlainMicros] = Field(fail_fast=True)
    values: list[list[float | Literal["NaN", "Infinity", "-Infinity"]]] = Field(fail_fast=True)

    @field_validator("times")
    @classmethod
    def _in_microseconds(cls, times: list[int]) -> list[int]:
        # The first tells: of a hundred thousand each would cost more than the rest of the call.
        for time in times[:1]:
            check_unit(time)
        return times


class PointBatch(In):
    groups: list[PointGroup]


class PointsKept(Out):
    values: int


class NewProblem(In):
    id: Id
    text: str = Field(min_length=1, max_length=2_000)
    at: Micros


class Ending(In):
    status: Literal["finished", "failed", "stopped"]
    reason: str | None = None
    ended_at: Micros


class Resumption(In):
    at: Micros


class NewName(In):
    name: str | None = Field(max_length=200)


class RunsNamed(In):
    """Runs as `experiment/number`, ids, or the last ten or more digits of ids."""

    runs: Annotated[list[str], Field(min_length=1, max_length=1_000)]


class NewLabels(RunsNamed):
    """Labels to set; null takes one away."""

    labels: dict[str, str | None]


class NewNotes(In):
    """A text for things: runs, `NAME@VERSION`, or `project:`, `experiment:`, `artifact:`, `model:` and a name."""

    things: Annotated[list[str], Field(min_length=1, max_length=1_000)]
    id: Id
    text: str


class Correction(In):
    params: dict[str, JsonValue]
    comment: str = Field("", max_length=2_000)


class References(Out):
    runs: list[str]


class ResultRecord(Out):
    key: str
    value: JsonValue
    recorded_at: Moment


class Curve(Out):
    """Points for a chart: per pixel column the lowest and highest; null where a value is no finite number."""

    run: str
    id: str
    status: str
    steps: list[int]
    times: list[int]
    values: list[float | None]
    against: list[float | None] | None = None


class Curves(Out):
    metric: str
    curves: list[Curve]


class Points(Out):
    """Every point of a metric, repeated steps too; non-finite values as "NaN", "Infinity", "-Infinity"."""

    metric: str
    steps: list[int]
    times: list[int]
    values: list[float | str]
