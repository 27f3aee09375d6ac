"""The comparison of two or more runs as data; the first run is the one spoken about, the second the baseline."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, field

from kinetrum.core.compare.sentence import Headline, headline
from kinetrum.core.errors import InvalidInput
from kinetrum.core.goals import Goal
from kinetrum.core.values import Value, same

RUN_LIMIT = 100


@dataclass(frozen=True)
class RunFacts:
    """What a comparison needs to know of one run. `values` holds what stands for each key in tables."""

    reference: str
    label: str
    experiment: str
    status: str
    params: dict[str, Value]
    values: dict[str, Value]
    inputs: dict[str, str] = field(default_factory=dict)
    metrics: tuple[str, ...] = ()


@dataclass(frozen=True)
class Setting:
    """One setting over all runs; `present` tells an absent one from null."""

    key: str
    values: list[Value]
    present: list[bool]


@dataclass(frozen=True)
class Outcome:
    """One key over all runs, and the change of the first run against the baseline.

    `verdict` is better, worse, equal, or None where no goal or no two numbers allow one.
    """

    key: str
    goal: Goal | None
    values: list[Value]
    present: list[bool]
    change: float | None
    change_share: float | None
    verdict: str | None
    best: list[bool]


@dataclass(frozen=True)
class Comparison:
    """Settings and outcomes that differ, the equal rest counted, metrics with curves, and the verdict."""

    runs: list[RunFacts]
    baseline: int
    settings: list[Setting]
    settings_equal: int
    inputs: list[Setting]
    inputs_equal: int
    outcomes: list[Outcome]
    outcomes_equal: int
    metrics: list[str]
    headline: Headline


def compare_runs(runs: Sequence[RunFacts], goals: dict[str, Goal], baseline: int = 1) -> Comparison:
    """Compare 2 to 100 runs; `baseline` is the index of the run that changes are measured against."""
    if not 2 <= len(runs) <= RUN_LIMIT:
        raise InvalidInput(f"{len(runs)} runs were given; 2 to {RUN_LIMIT} are compared.", field="runs")
    if len({run.reference for run in runs}) != len(runs):
        raise InvalidInput("The same run was given twice.", field="runs")
    if not 0 <= baseline < len(runs):
        raise InvalidInput(f"The baseline {baseline} is none of the runs.", field="baseline")
    settings, settings_equal = _differing([run.params for run in runs])
    inputs, inputs_equal = _differing([dict(run.inputs) for run in runs])
    outcomes = [_outcome(key, runs, goals.get(key), baseline) for key in _keys([run.values for run in runs])]
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
        outcomes=differing,
        outcomes_equal=len(outcomes) - len(differing),
        metrics=sorted({key for run in runs for key in run.metrics}, key=lambda key: (place.get(key, len(place)), key)),
        headline=headline([run.label for run in runs], differing, baseline, len(settings)),
    )


def _keys(dictionaries: Sequence[dict[str, Value]]) -> list[str]:
    return list(dict.fromkeys(key for dictionary in dictionaries for key in dictionary))


def _all_same(values: list[Value], present: list[bool]) -> bool:
    return all(present) and all(same(values[0], value) for value in values[1:])


def _differing(dictionaries: Sequence[dict[str, Value]]) -> tuple[list[Setting], int]:
    rows, equal = [], 0
    for key in _keys(dictionaries):
        values = [dictionary.get(key) for dictionary in dictionaries]
        present = [key in dictionary for dictionary in dictionaries]
        if _all_same(values, present):
            equal += 1
        else:
            rows.append(Setting(key, values, present))
    return rows, equal


def _number(value: Value) -> float | None:
    if isinstance(value, bool) or not isinstance(value, int | float):
        return None
    try:
        number = float(value)
    except OverflowError:
        return None
    return None if math.isnan(number) else number


def _outcome(key: str, runs: Sequence[RunFacts], goal: Goal | None, baseline: int) -> Outcome:
    values = [run.values.get(key) for run in runs]
    numbers = [_number(value) for value in values]
    subject = 0 if baseline != 0 else 1
    change = share = verdict = None
    left, right = numbers[subject], numbers[baseline]
    if left is not None and right is not None and math.isfinite(left - right):
        change = left - right
        share = change / abs(right) if right else None
        if goal is not None:
            gain = change if goal.higher else -change
            verdict = "equal" if gain == 0 else "better" if gain > 0 else "worse"
    return Outcome(
        key=key, goal=goal, values=values, present=[key in run.values for run in runs],
        change=change, change_share=share, verdict=verdict, best=_best(numbers, goal),
    )  # fmt: skip


def _best(numbers: list[float | None], goal: Goal | None) -> list[bool]:
    known = [number for number in numbers if number is not None]
    if goal is None or len(known) < 2:
        return [False] * len(numbers)
    top = max(known) if goal.higher else min(known)
    return [number == top for number in numbers]
