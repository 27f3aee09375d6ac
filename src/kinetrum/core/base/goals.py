"""Goals: which direction of a result is better, in which unit, and from which bound on it is good enough."""

from __future__ import annotations

import math
from dataclasses import dataclass
from enum import StrEnum
from typing import TYPE_CHECKING

from kinetrum.core.base.errors import InvalidInput
from kinetrum.core.base.values import check_key
from kinetrum.core.points.aggregates import AGGREGATES

if TYPE_CHECKING:
    from kinetrum.core.points.stats import Stats


class Direction(StrEnum):
    """Which way is better."""

    HIGHER = "higher"
    LOWER = "lower"


@dataclass(frozen=True)
class Goal:
    """The goal of one key in one experiment; `aggregate` names what of a metric stands for it in tables."""

    key: str
    direction: Direction
    unit: str | None = None
    bound: float | None = None
    aggregate: str = "best"

    @property
    def higher(self) -> bool:
        """True where higher is better."""
        return self.direction is Direction.HIGHER

    def met_by(self, value: float) -> bool | None:
        """Tell whether `value` meets the bound; None without a bound or with NaN."""
        if self.bound is None or math.isnan(value):
            return None
        return value >= self.bound if self.higher else value <= self.bound


def make_goal(
    key: str,
    direction: str,
    unit: str | None = None,
    bound: float | None = None,
    aggregate: str | None = None,
) -> Goal:
    """Check the parts and build a Goal; raises InvalidInput that names the wrong part."""
    check_key(key)
    try:
        way = Direction(direction)
    except ValueError:
        raise InvalidInput(f"The goal of {key!r} is {direction!r}; write 'higher' or 'lower'.", field=key) from None
    if aggregate is not None and aggregate not in AGGREGATES:
        raise InvalidInput(
            f"Unknown aggregate {aggregate!r}. Choose one of: {', '.join(AGGREGATES)}.", field="aggregate"
        )
    if bound is not None and not math.isfinite(bound):
        raise InvalidInput(f"The bound of {key!r} is {bound}; a finite number is needed.", field="bound")
    if unit is not None and (len(unit) > 20 or not unit.isprintable()):
        raise InvalidInput(f"The unit of {key!r} has over 20 characters or is not printable.", field="unit")
    return Goal(key, way, unit or None, bound, aggregate or "best")


def read_goal(key: str, text: object) -> Goal:
    """Read a goal given as a dictionary of its parts or as one word or line.

    Lines are `higher`, `lower`, or with a bound and unit: `higher >= 0.9`, `lower <= 8 %`.
    """
    if isinstance(text, Goal):
        return text
    if isinstance(text, dict):
        unknown = set(text) - {"direction", "unit", "bound", "aggregate"}
        if unknown or "direction" not in text:
            raise InvalidInput(
                f"The goal of {key!r} takes direction, unit, bound, aggregate; not {sorted(unknown)}.",
                field=key,
            )
        return make_goal(key, text["direction"], text.get("unit"), text.get("bound"), text.get("aggregate"))
    words = text.split() if isinstance(text, str) else []
    if not words:
        raise InvalidInput(f"The goal of {key!r} is {text!r}; write 'higher' or 'lower'.", field=key)
    rest = words[1:]
    bound = None
    if rest and rest[0] in {"<=", ">="}:
        if (rest[0] == ">=") != (words[0] == "higher") or len(rest) < 2:
            raise InvalidInput(
                f"The goal of {key!r} is {text!r}; write 'higher >= NUMBER' or 'lower <= NUMBER'.", field=key
            )
        bound, rest = _number(rest[1], key), rest[2:]
    return make_goal(key, words[0], " ".join(rest) or None, bound)


def _number(text: str, key: str) -> float:
    try:
        return float(text)
    except ValueError:
        raise InvalidInput(f"The bound of {key!r} is {text!r}; a number is needed.", field=key) from None


def aggregate_value(stats: Stats, aggregate: str, goal: Goal | None) -> float:
    """Return one aggregate of a metric; `best` without a goal is its last value."""
    return AGGREGATES[aggregate].of(stats, None if goal is None else goal.higher)


def shown_value(stats: Stats, goal: Goal | None) -> float:
    """Return what stands for a metric in tables: the aggregate its goal names, without a goal the last."""
    return aggregate_value(stats, goal.aggregate if goal else "last", goal)
