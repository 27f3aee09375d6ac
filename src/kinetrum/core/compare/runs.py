"""The comparison of two or more runs as data; the first run is the one spoken about, the second the baseline.

Runs with replicates stand for their group: what is compared are means, and whether they differ by more than noise.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Literal

from kinetrum.core.base.errors import InvalidInput
from kinetrum.core.base.goals import Goal
from kinetrum.core.base.values import JsonValue, Value, same, show
from kinetrum.core.compare.sentence import Headline, headline
from kinetrum.core.statistics.noise import CONFIDENCE, DifferenceOfMeans, MeanSpread, difference_of, spread_of
from kinetrum.core.statistics.noise.difference import differences_at_once, paired_by_seed

RUN_LIMIT = 100


Direction = Literal["better", "worse", "equal"]
"""Where a value went, by its goal."""


@dataclass(frozen=True)
class Replicate:
    """One run of a group that differs in its seed alone."""

    reference: str
    seed: Value
    values: Mapping[str, Value]
    costs: Mapping[str, Value] = field(default_factory=dict)


@dataclass(frozen=True)
class RunFacts:
    """What a comparison needs to know of one run. `values` holds what stands for each key in tables.

    `replicates` are the runs of its group, itself among them; without any the run stands for itself. `surroundings`
    are commit, uncommitted changes, machine and the like, `costs` what it took: seconds and bytes.
    """

    reference: str
    label: str
    experiment: str
    status: str
    params: dict[str, Value]
    values: dict[str, Value]
    inputs: dict[str, str] = field(default_factory=dict)
    metrics: tuple[str, ...] = ()
    replicates: tuple[Replicate, ...] = ()
    surroundings: dict[str, Value] = field(default_factory=dict)
    costs: dict[str, Value] = field(default_factory=dict)


@dataclass(frozen=True)
class ComparedSetting:
    """One setting over all runs; `present` tells an absent one from null."""

    key: str
    values: list[JsonValue]
    present: list[bool]


@dataclass(frozen=True)
class OutcomeChange:
    """One run, or its group's mean, less the baseline's.

    `verdict` is better, worse, equal, or None where no goal allows one; whether it holds beyond noise stands in
    `difference`, which is None where a number is missing.
    """

    change: float
    share: float | None
    verdict: Direction | None
    difference: DifferenceOfMeans


@dataclass(frozen=True)
class Outcome:
    """One key over all runs: values (of groups means), spreads of groups, changes against the baseline, the best."""

    key: str
    goal: Goal | None
    values: list[Value]
    present: list[bool]
    spreads: list[MeanSpread | None]
    changes: list[OutcomeChange | None]
    best: list[bool]
    subject: int

    @property
    def main(self) -> OutcomeChange | None:
        """The change of the run that is spoken about."""
        return self.changes[self.subject]

    @property
    def change(self) -> float | None:
        """How much the run that is spoken about differs from the baseline."""
        return self.main.change if self.main else None

    @property
    def change_share(self) -> float | None:
        """That change as a share of the baseline's value."""
        return self.main.share if self.main else None

    @property
    def verdict(self) -> Direction | None:
        """Better, worse or equal by the goal."""
        return self.main.verdict if self.main else None


@dataclass(frozen=True)
class Comparison:
    """Settings and outcomes that differ, the equal rest counted, metrics with curves, and the verdict."""

    runs: list[RunFacts]
    baseline: int
    settings: list[ComparedSetting]
    settings_equal: int
    inputs: list[ComparedSetting]
    inputs_equal: int
    surroundings: list[ComparedSetting]
    surroundings_equal: int
    costs: list[Outcome]
    outcomes: list[Outcome]
    outcomes_equal: int
    metrics: list[str]
    headline: Headline


def compare_runs(
    runs: Sequence[RunFacts], goals: dict[str, Goal], baseline: int = 1, noise: Mapping[str, float] | None = None
) -> Comparison:
    """Compare 2 to 100 runs; `baseline` is the index of the run that changes are measured against.

    `noise`: standard deviations by key, of replicates of other settings, where that is known. Against one baseline
    several runs are compared at once: intervals hold for all of them together (Šidák's correction).
    """
    if not 2 <= len(runs) <= RUN_LIMIT:
        raise InvalidInput(f"{len(runs)} runs were given; 2 to {RUN_LIMIT} are compared.", field="runs")
    if len({run.reference for run in runs}) != len(runs):
        raise InvalidInput("The same run was given twice.", field="runs")
    if not 0 <= baseline < len(runs):
        raise InvalidInput(f"The baseline {baseline} is not one of the runs.", field="baseline")
    settings, settings_equal = _differing([run.params for run in runs])
    inputs, inputs_equal = _differing([dict(run.inputs) for run in runs])
    surroundings, surroundings_equal = _differing([run.surroundings for run in runs])
    outcomes = [
        _outcome(key, [_measured(run, key) for run in runs], goals.get(key), baseline, (noise or {}).get(key))
        for key in _keys([run.values for run in runs])
    ]
    differing = [row for row in outcomes if not _all_same(row.values, row.present)]
    place = {key: at for at, key in enumerate(goals)}
    differing.sort(key=lambda row: (place.get(row.key, len(place)), row.key))
    return Comparison(
        runs=list(runs),
        baseline=baseline,
        settings=settings,
        settings_equal=settings_equal,
        inputs=inputs,
        inputs_equal=inputs_equal,
        surroundings=surroundings,
        surroundings_equal=surroundings_equal,
        costs=[
            _outcome(key, [_measured(run, key, costs=True) for run in runs], None, baseline, None)
            for key in _keys([run.costs for run in runs])
        ],
        outcomes=differing,
        outcomes_equal=len(outcomes) - len(differing),
        metrics=sorted({key for run in runs for key in run.metrics}, key=lambda key: (place.get(key, len(place)), key)),
        headline=headline(
            [run.label for run in runs],
            [max(1, len(run.replicates)) for run in runs],
            differing,
            baseline,
            len(settings) + len(inputs),
        ),
    )


@dataclass(frozen=True)
class _Measured:
    """What a column has of one key: its own value, and the numbers of its group with their seeds."""

    value: Value
    present: bool
    numbers: list[tuple[str | None, float]]


def _measured(run: RunFacts, key: str, costs: bool = False) -> _Measured:
    values = run.costs if costs else run.values
    own, present = values.get(key), key in values
    numbers: list[tuple[str | None, float]] = []
    for one in run.replicates or (Replicate(run.reference, None, run.values, run.costs),):
        number = _number((one.costs if costs else one.values).get(key))
        if number is not None and math.isfinite(number):
            numbers.append((None if one.seed is None else show(one.seed), number))
    return _Measured(own, present or bool(numbers), numbers)


def _keys(dictionaries: Sequence[dict[str, Value]]) -> list[str]:
    return list(dict.fromkeys(key for dictionary in dictionaries for key in dictionary))


def _all_same(values: list[Value], present: list[bool]) -> bool:
    return all(present) and all(same(values[0], value) for value in values[1:])


def _differing(dictionaries: Sequence[dict[str, Value]]) -> tuple[list[ComparedSetting], int]:
    rows, equal = [], 0
    for key in _keys(dictionaries):
        values = [dictionary.get(key) for dictionary in dictionaries]
        present = [key in dictionary for dictionary in dictionaries]
        if _all_same(values, present):
            equal += 1
        else:
            rows.append(ComparedSetting(key, values, present))
    return rows, equal


def _number(value: Value) -> float | None:
    if isinstance(value, bool) or not isinstance(value, int | float):
        return None
    try:
        number = float(value)
    except OverflowError:
        return None
    return None if math.isnan(number) else number


def _outcome(key: str, columns: Sequence[_Measured], goal: Goal | None, baseline: int, noise: float | None) -> Outcome:
    spreads = [
        spread_of([number for _, number in column.numbers], CONFIDENCE) if len(column.numbers) > 1 else None
        for column in columns
    ]
    values = [spread.mean if spread else column.value for spread, column in zip(spreads, columns, strict=True)]
    at_once = _at_once(columns, baseline)
    changes = [
        None
        if at == baseline
        else _change(
            values[at],
            values[baseline],
            goal,
            at_once.get(at)
            or _difference(column, columns[baseline], (values[at], values[baseline]), len(columns) - 1, noise),
        )
        for at, column in enumerate(columns)
    ]
    return Outcome(
        key=key,
        goal=goal,
        values=values,
        present=[column.present for column in columns],
        spreads=spreads,
        changes=changes,
        best=_best([_number(value) for value in values], goal),
        subject=0 if baseline != 0 else 1,
    )


def _at_once(columns: Sequence[_Measured], baseline: int) -> dict[int, DifferenceOfMeans]:
    """Compare all columns with the baseline at once, where that applies: several groups, none paired by seed."""
    others = [at for at in range(len(columns)) if at != baseline]
    right = columns[baseline].numbers
    if any(paired_by_seed(columns[at].numbers, right) is not None for at in others):
        return {}
    groups = [[number for _, number in columns[at].numbers] for at in others]
    return dict(zip(others, differences_at_once(groups, [number for _, number in right]) or [], strict=False))


def _difference(
    column: _Measured, baseline: _Measured, values: tuple[Value, Value], candidates: int, noise: float | None
) -> DifferenceOfMeans | None:
    left, right = map(_number, values)
    if left is None or right is None or not math.isfinite(left - right):
        return None
    return difference_of(
        column.numbers or [(None, left)], baseline.numbers or [(None, right)], candidates=candidates, noise=noise
    )


def _change(value: Value, base: Value, goal: Goal | None, difference: DifferenceOfMeans | None) -> OutcomeChange | None:
    left, right = _number(value), _number(base)
    if left is None or right is None or difference is None or not math.isfinite(left - right):
        return None
    change = left - right
    verdict: Direction | None = None
    if goal is not None:
        gain = change if goal.higher else -change
        verdict = "equal" if gain == 0 else "better" if gain > 0 else "worse"
    return OutcomeChange(change, change / abs(right) if right else None, verdict, difference)


def _best(numbers: list[float | None], goal: Goal | None) -> list[bool]:
    known = [number for number in numbers if number is not None]
    if goal is None or len(known) < 2:
        return [False] * len(numbers)
    top = max(known) if goal.higher else min(known)
    return [number == top for number in numbers]
