"""Runs compared: what differs, whether by more than noise, why, and what moves values over an experiment."""

from __future__ import annotations

from typing import Literal

from kinetrum.wire.base import Id, JsonValue, Moment, Out
from kinetrum.wire.runs import Goal


class ComparedSetting(Out):
    key: str
    values: list[JsonValue]
    present: list[bool]


class DifferenceOfMeans(Out):
    """A run, or the mean of its replicates, less the baseline: interval, and the probability that it is the higher.

    `beyond` noise is null where one run each says nothing; `needed` runs a side would tell. `confidence` is that of the
    interval, corrected for the number of runs compared.
    """

    change: float
    low: float | None
    high: float | None
    probability: float | None
    beyond: bool | None
    confidence: float
    method: str
    needed: int | None


class OutcomeChange(Out):
    change: float
    share: float | None
    verdict: Literal["better", "worse", "equal"] | None
    difference: DifferenceOfMeans


class MeanSpread(Out):
    """Replicates of one run: how many, mean, standard deviation, and the interval of the mean."""

    runs: int
    mean: float
    deviation: float | None
    low: float | None
    high: float | None


class ComparedOutcome(Out):
    """A key over all runs; of runs with replicates `values` are means. `change` is that of the run spoken about."""

    key: str
    goal: Goal | None
    values: list[JsonValue]
    present: list[bool]
    spreads: list[MeanSpread | None]
    changes: list[OutcomeChange | None]
    change: float | None
    change_share: float | None
    verdict: Literal["better", "worse", "equal"] | None
    best: list[bool]


class ComparedRun(Out):
    """A run, or with its `replicates` (itself among them) the group that it stands for."""

    reference: str
    id: Id
    label: str
    experiment: str
    name: str | None
    status: str
    started_at: Moment
    author: str
    replicates: list[str]


class Headline(Out):
    finding: str
    rest: str
    reason: str


class Comparison(Out):
    runs: list[ComparedRun]
    baseline: int
    headline: Headline
    settings: list[ComparedSetting]
    settings_equal: int
    inputs: list[ComparedSetting]
    inputs_equal: int
    surroundings: list[ComparedSetting]
    surroundings_equal: int
    costs: list[ComparedOutcome]
    outcomes: list[ComparedOutcome]
    outcomes_equal: int
    metrics: list[str]


class GroupCurve(Out):
    """The mean of a run and its replicates over steps, with the lowest and the highest of them."""

    run: str
    runs: int
    steps: list[int]
    mean: list[float]
    low: list[float]
    high: list[float]


class GroupCurves(Out):
    metric: str
    curves: list[GroupCurve]


class Reason(Out):
    """A possible cause; `weight` (0 to 1) orders, `expected` is the difference that other runs show for it."""

    kind: Literal["setting", "data", "code", "environment", "noise"]
    name: str
    weight: float
    text: str
    expected: float | None


class Why(Out):
    key: str
    left: str
    right: str
    reasons: list[Reason]


class RowsVerdict(Out):
    """A measure of two sets of predictions for the same rows, left less right.

    `low`, `high` and `probability` (that left is the higher) are null where the rows are too few to tell: `counted`
    rows of the kind that counts are there, and `needed` would allow a verdict. `left_out`: rows that only the right one
    predicted.
    """

    measure: str
    higher_is_better: bool
    rows: int
    left: float | None
    right: float | None
    change: float | None
    low: float | None
    high: float | None
    probability: float | None
    confidence: float
    method: str
    outcome: Literal["better", "worse", "within noise", "too few to tell"]
    needed: int | None
    counted: int | None
    only_left_right: int | None
    only_right_right: int | None
    left_out: int


class JudgedRows(Out):
    name: str
    differences: list[RowsVerdict]
    note: str


class Level(Out):
    name: str
    runs: int
    mean: float


class Effect(Out):
    """A factor: the share of variance that goes along with it alone, corrected p-value, and how sure that is."""

    factor: str
    runs: int
    levels: list[Level]
    share: float
    p: float
    certainty: Literal["clear", "likely", "open"]
    rank: float | None
    together: list[str]


class Interaction(Out):
    factors: list[str]
    p: float


class Effects(Out):
    """What moves a value, the largest share first; `sentence` says it."""

    key: str
    goal: Goal | None
    runs: int
    left_out: int
    sentence: str
    effects: list[Effect]
    interactions: list[Interaction]
    unvaried: list[str]


class DrawnRun(Out):
    reference: str
    number: int
    name: str | None
    status: str


class DrawnColumn(Out):
    """One column over the runs drawn: numbers, or texts; null where a run has none, "NaN" where it is that."""

    text: str
    scope: str
    name: str
    aggregate: str | None
    goal: Goal | None
    values: list[JsonValue]


class Drawn(Out):
    """Columns of the runs that fit, in the table's order, for charts; `left_out` runs are beyond the bound."""

    runs: list[DrawnRun]
    columns: list[DrawnColumn]
    left_out: int
