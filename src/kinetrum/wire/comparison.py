"""Runs compared: what differs, whether by more than noise, why, and what moves values over an experiment."""

from __future__ import annotations

from typing import Literal

from kinetrum.core.base.goals import Goal
from kinetrum.core.compare.runs import ComparedSetting, OutcomeChange
from kinetrum.core.compare.sentence import Headline
from kinetrum.core.statistics.effects import Effect
from kinetrum.core.statistics.noise import MeanSpread
from kinetrum.wire.base import Id, JsonValue, Moment, Out


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
