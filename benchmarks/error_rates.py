"""`python -m benchmarks.error_rates [WORLDS]`: how often two equally good models are told apart at 95 %.

Prints the table that stands in `docs/explanation/error-rates.md`: the share of worlds, in per cent, in which a measure
calls a difference where there is none, and `few` where it says that the rows are too few to tell.
"""

from __future__ import annotations

import sys
from collections.abc import Callable

import numpy as np

from kinetrum.core.statistics.noise.difference import difference_of, differences_at_once
from kinetrum.core.statistics.noise.measures import compare_classes, compare_numbers, compare_scores
from kinetrum.core.statistics.noise.verdict import Outcome, RowsVerdict

WORLDS, SEED = 1_000, 20_261_129
SIZES = (1, 2, 3, 5, 8, 12, 20, 30, 100, 1_000)
RARER = ((2, 32), (5, 55), (6, 60), (10, 100), (20, 200))
World = Callable[[np.random.Generator, int], list[RowsVerdict]]


def normal(chance: np.random.Generator, rows: int) -> list[RowsVerdict]:
    """Two models with normal errors."""
    truth = chance.normal(size=rows)
    return compare_numbers(truth, truth + chance.normal(size=rows), truth + chance.normal(size=rows))


def spiky(chance: np.random.Generator, rows: int) -> list[RowsVerdict]:
    """One model is off by one everywhere, the other mostly by little and sometimes by much: equal mean errors."""
    verdicts = compare_numbers(np.zeros(rows), chance.exponential(size=rows), np.ones(rows))
    return [verdict for verdict in verdicts if verdict.measure == "mae"]


def two_classes(chance: np.random.Generator, rows: int) -> list[RowsVerdict]:
    """Two models of two classes that are right three times in four."""
    truth = chance.random(rows) < 0.4
    left, right = (np.where(chance.random(rows) < 0.75, truth, ~truth).astype(object) for _ in range(2))
    return compare_classes(truth.astype(object), left, right, True)


def rare_class(positives: int) -> World:
    """Two models that score alike, of a class with few rows."""

    def make(chance: np.random.Generator, rows: int) -> list[RowsVerdict]:
        truth = np.arange(rows) < positives
        left, right = (np.clip(0.5 + 0.2 * (truth - 0.5) + chance.normal(0, 0.2, rows), 0.01, 0.99) for _ in range(2))
        said = [(score > 0.5).astype(object) for score in (left, right)]
        return [*compare_classes(truth.astype(object), said[0], said[1], True), *compare_scores(truth, left, right)]

    return make


def rates(world: World, rows: int, worlds: int, chance: np.random.Generator) -> dict[str, str]:
    """Return by measure the share of worlds in which a difference was called, or that the rows were too few."""
    verdicts = [verdict for _ in range(worlds) for verdict in world(chance, rows)]
    told: dict[str, str] = {}
    for measure in dict.fromkeys(verdict.measure for verdict in verdicts):
        of_it = [verdict for verdict in verdicts if verdict.measure == measure]
        few = all(verdict.outcome is Outcome.TOO_FEW for verdict in of_it)
        told[measure] = "few" if few else f"{100 * sum(verdict.beyond for verdict in of_it) / worlds:.1f}"
    return told


def replicates(worlds: int, chance: np.random.Generator) -> dict[str, str]:
    """Return how often any of several groups of runs that are alike is called different from the baseline."""
    found = {}
    for groups, runs in ((1, 3), (1, 5), (9, 3), (9, 6)):
        wrong = 0
        for _ in range(worlds):
            sides = [chance.normal(size=runs).tolist() for _ in range(groups + 1)]
            told = differences_at_once(sides[1:], sides[0]) or [
                difference_of(_seedless(side), _seedless(sides[0]), candidates=groups) for side in sides[1:]
            ]
            wrong += any(one.beyond for one in told)
        found[f"{groups} against a baseline, {runs} runs each"] = f"{100 * wrong / worlds:.1f}"
    return found


def _seedless(numbers: list[float]) -> list[tuple[str | None, float]]:
    return [(None, number) for number in numbers]


def main() -> None:
    """Print the tables as Markdown."""
    worlds = int(sys.argv[1]) if len(sys.argv) > 1 else WORLDS
    chance = np.random.default_rng(SEED)
    for world in (normal, spiky, two_classes):
        print(f"\n{world.__doc__}\n")
        _print_table("rows", {str(rows): rates(world, rows, worlds, chance) for rows in SIZES})
    print("\nTwo models that score alike, by the rows of the rarer class.\n")
    _print_table("rarer, all", {f"{few}, {rows}": rates(rare_class(few), rows, worlds, chance) for few, rows in RARER})
    print("\nGroups of runs that are alike: how often any is called different.\n")
    _print_table("", {name: {"any": rate} for name, rate in replicates(worlds, chance).items()})


def _print_table(corner: str, rows: dict[str, dict[str, str]]) -> None:
    columns = list(dict.fromkeys(name for told in rows.values() for name in told))
    print(f"| {corner} | {' | '.join(columns)} |\n|{'---|' * (len(columns) + 1)}")
    for name, told in rows.items():
        print(f"| {name} | {' | '.join(told.get(column, '–') for column in columns)} |", flush=True)


if __name__ == "__main__":
    main()
