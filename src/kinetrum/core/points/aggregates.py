"""Aggregates of a metric: each is one entry here, which queries, goals, tables and the index go by."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    # Statistics need NumPy, which a run that begins has no use for.
    from kinetrum.core.points.stats import Stats


@dataclass(frozen=True)
class Aggregate:
    """One aggregate: its name, how it is read off statistics, and whether the index of runs has it too.

    `of` gets which way is better, None without a goal. What is indexed is filtered and sorted by at any number of runs;
    a new entry that is indexed asks for a migration that indexes every run anew.
    """

    name: str
    of: Callable[[Stats, bool | None], float]
    is_indexed: bool = False


_EVERY = (
    # Without a goal nothing is better: then the last value stands for a metric.
    Aggregate("best", lambda stats, higher: stats.last if higher is None else stats.best(higher)[0]),
    Aggregate("last", lambda stats, _: stats.last, is_indexed=True),
    Aggregate("first", lambda stats, _: stats.first),
    Aggregate("min", lambda stats, _: stats.low, is_indexed=True),
    Aggregate("max", lambda stats, _: stats.high, is_indexed=True),
    Aggregate("mean", lambda stats, _: stats.mean),
    Aggregate("count", lambda stats, _: float(stats.count)),
)
AGGREGATES: dict[str, Aggregate] = {aggregate.name: aggregate for aggregate in _EVERY}
INDEXED: tuple[str, ...] = tuple(name for name, aggregate in AGGREGATES.items() if aggregate.is_indexed)
