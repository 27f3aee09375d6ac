"""Why one run beat another: what differs between them, in the order of how likely each is to have made the difference.

What other runs of the experiment show weighs most: how their value goes along with each setting, version of data and
state of the code. What no other run has tried alone cannot be told, and is said to be so.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Literal

from kinetrum.core.base.values import Value, show
from kinetrum.core.statistics.effects import Effect, Effects
from kinetrum.core.statistics.noise import DifferenceOfMeans
from kinetrum.core.statistics.noise.difference import tell_runs
from kinetrum.core.text.numbers import signed

_SURE = {"clear": 1.0, "likely": 0.7, "open": 0.25}
# What nothing is known of, by how often it is the cause: data and settings before code, the machine last.
_UNTRIED = {"data": 0.4, "setting": 0.3, "code": 0.3, "environment": 0.1}
Kind = Literal["setting", "data", "code", "environment", "noise"]
KINDS: tuple[Kind, ...] = ("setting", "data", "code", "environment", "noise")


@dataclass(frozen=True)
class Factor:
    """Something that differs between two runs: a setting, a version of data, the code, the environment."""

    kind: Kind
    name: str
    left: Value
    right: Value


@dataclass(frozen=True)
class Reason:
    """A possible cause: `weight` (0 to 1) orders, `text` says what is known and how; `expected` is the difference that
    the other runs show between the two levels, None where they show none."""

    kind: Kind
    name: str
    weight: float
    text: str
    expected: float | None


def reasons_for(
    key: str, difference: DifferenceOfMeans, factors: Sequence[Factor], effects: Effects, unit: str | None = None
) -> list[Reason]:
    """Order what differs by how likely it made a difference of a value; noise is among the causes.

    `effects` are those of the experiment's runs on the same key, its factors named as here.
    """
    by_name = {effect.factor: effect for effect in effects.effects}
    weighed = [_weighed(factor, by_name.get(factor.name), key, difference.change, unit) for factor in factors]
    weighed.append(_noise(key, difference, unit))
    weighed.sort(key=lambda reason: -reason.weight)
    return weighed


def _noise(key: str, difference: DifferenceOfMeans, unit: str | None) -> Reason:
    size = _with(difference.change, unit)
    if difference.beyond:
        text = f"A difference of {size} in {key} is more than the replicates' noise."
        return Reason("noise", "noise", 0.02, text, None)
    if difference.beyond is False:
        more = f"; {tell_runs(difference.needed)} runs each would tell it" if difference.needed else ""
        text = f"A difference of {size} in {key} is within the noise of replicates{more}."
        return Reason("noise", "noise", 0.95, text, None)
    more = (
        f" {tell_runs(difference.needed).capitalize()} runs each would tell."
        if difference.needed
        else " Replicates would tell."
    )
    return Reason("noise", "noise", 0.5, f"One run each: {size} in {key} may be noise.{more}", None)


def _weighed(factor: Factor, effect: Effect | None, key: str, change: float, unit: str | None) -> Reason:
    name = {"setting": "", "data": "data ", "code": "", "environment": ""}[factor.kind] + factor.name
    what = f"{name}: {show(factor.right)} → {show(factor.left)}"
    means = _means(effect, factor)
    if effect is None or means is None:
        why = "no other runs of this experiment tell what it does alone"
        return Reason(factor.kind, factor.name, _UNTRIED[factor.kind], f"{what}; {why}.", None)
    expected = means[0] - means[1]
    same_way = expected * change > 0
    reach = min(1.0, abs(expected / change)) if change else 0.0
    weight = 0.9 * reach * _SURE[effect.certainty] if same_way else 0.03
    words = {
        "clear": "clear",
        "likely": "likely",
        "open": "not told from chance",
    }[effect.certainty]
    way = f"over {effect.runs} different runs {key} is {_with(expected, unit)} with it on average ({words})"
    if not same_way and effect.certainty != "open":
        way += ", the other way round"
    if effect.together:
        way += f"; it always changes together with {', '.join(effect.together[:3])}"
    return Reason(factor.kind, factor.name, weight, f"{what}; {way}.", expected)


def _means(effect: Effect | None, factor: Factor) -> tuple[float, float] | None:
    """Return the means of the levels of both sides, where both were tried by more than the runs compared."""
    if effect is None:
        return None
    left, right = effect.level_of(factor.left), effect.level_of(factor.right)
    if left is None or right is None or left is right or left.runs + right.runs < 3:
        return None
    return left.mean, right.mean


def _with(number: float, unit: str | None) -> str:
    return f"{signed(number)} {unit}" if unit else signed(number)


def factors_of(differing: Mapping[str, Sequence[tuple[str, Value, Value]]]) -> list[Factor]:
    """Return factors from rows of (name, left, right) by their kind."""
    return [Factor(kind, name, left, right) for kind in KINDS for name, left, right in differing.get(kind, ())]
