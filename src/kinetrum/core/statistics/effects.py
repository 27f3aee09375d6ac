"""What moves a value over an experiment: each factor's share of its variance, how sure, and where two work together.

A factor is a setting, a version of data, a state of the code. Runs are as people left them, no planned experiment: an
effect here is what goes along with a factor, and factors that always change together cannot be told apart.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from itertools import combinations, pairwise
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from kinetrum.core.base.values import Value, show

LEVELS_LIMIT = 12
_BINS = 4
_CLEAR, _LIKELY = 0.01, 0.05
_PAIRS_OF = 6
Floats = NDArray[np.float64]
Codes = NDArray[np.intp]


@dataclass(frozen=True)
class Level:
    """Runs that share a value of a factor, or a stretch of it: how many, and the mean of what is explained.

    `low` and `high` are the ends of a stretch.
    """

    name: str
    runs: int
    mean: float
    low: float | None = None
    high: float | None = None


@dataclass(frozen=True)
class Effect:
    """One factor: the share of variance that goes along with it alone (omega squared, 0 to 1), and how sure that is.

    `p` is corrected for the number of factors looked at (Holm). `certainty`: clear, likely, or open. `rank` is
    Spearman's correlation for numbers. `together` names factors that change with it so closely that none can be told
    from it.
    """

    factor: str
    runs: int
    levels: list[Level]
    share: float
    p: float
    certainty: Literal["clear", "likely", "open"]
    rank: float | None
    together: list[str] = field(default_factory=list)

    def level_of(self, value: Value) -> Level | None:
        """Return the level that a value lies in; None where no run had such a one."""
        for level in self.levels:
            if level.low is None or level.high is None:
                if level.name in {show(value), _shown_as_number(value)}:
                    return level
            elif isinstance(value, int | float) and level.low <= value <= level.high:
                return level
        return None


def _shown_as_number(value: Value) -> str:
    """Return a number as a level of numbers is named: 0 and 0.0 are one."""
    return show(float(value)) if isinstance(value, int | float) and not isinstance(value, bool) else ""


@dataclass(frozen=True)
class Interaction:
    """Two factors of which one's effect depends on the other, by the F test of cells against sums; p after Holm."""

    factors: tuple[str, str]
    p: float


@dataclass(frozen=True)
class Effects:
    """Factors of a value, the largest share first, with those left out because they did not vary enough."""

    runs: int
    effects: list[Effect]
    interactions: list[Interaction]
    left_out: list[str]


@dataclass(frozen=True)
class _Factor:
    name: str
    codes: Codes
    names: list[str]
    numbers: Floats | None
    spans: list[tuple[float, float] | None] | None = None


def effects_on(values: Sequence[float], factors: Sequence[Mapping[str, Value]]) -> Effects:
    """Rank factors by how much of a value goes along with each.

    `values`: n finite numbers; `factors`: for each run its factors by name. Numbers of more than 12 different values
    are cut into quarters, but for a value that over a quarter of the runs share: it is a level of its own. A one-way
    analysis of variance tells each factor's share (Hays' omega squared) and its p-value; Holm's correction holds over
    all of them. A factor counts where two of its levels have runs and one has several.

    Sources: Fisher, Statistical Methods for Research Workers, 1925; Hays, Statistics, 1963; Holm, A simple sequentially
    rejective multiple test procedure, Scandinavian Journal of Statistics 6, 1979.
    """
    y = np.asarray(values, dtype=np.float64)
    names = list(dict.fromkeys(name for run in factors for name in run))
    read = [_factor(name, [run.get(name, _ABSENT) for run in factors]) for name in names]
    # As many levels as runs say nothing: each run would explain itself.
    usable = [one for one in read if 2 <= len(one.names) < len(y)]
    left_out = [one.name for one in read if one not in usable]
    if len(y) < 4 or float(np.ptp(y)) == 0.0:
        return Effects(len(y), [], [], left_out + [one.name for one in usable])
    usable_effects = [_one_way(y, one.codes, len(one.names)) for one in usable]
    corrected = holm([p for _, p in usable_effects])
    factors_weighed = [
        Effect(one.name, len(y), _levels(y, one), share, p, _certainty(p), _rank(y, one), _together(one, usable))
        for one, (share, _), p in zip(usable, usable_effects, corrected, strict=True)
    ]
    factors_weighed.sort(key=lambda effect: (-effect.share, effect.p, effect.factor))
    return Effects(
        len(y), factors_weighed, _interactions(y, factors_weighed, {one.name: one for one in usable}), left_out
    )


_ABSENT: Any = object()


def _factor(name: str, values: list[Any]) -> _Factor:
    texts = ["none" if value is _ABSENT else show(value) for value in values]
    is_number = all(_is_number(value) for value in values)
    numbers = np.asarray(values, dtype=np.float64) if is_number and len(values) else None
    if numbers is not None and np.isfinite(numbers).all():
        if len(np.unique(numbers)) > LEVELS_LIMIT:
            return _in_quarters(name, numbers)
        order = sorted(set(zip(numbers.tolist(), texts, strict=True)))
        places = {number: at for at, number in enumerate(dict.fromkeys(number for number, _ in order))}
        named = [next(text for number, text in order if number == wanted) for wanted in places]
        return _Factor(name, np.asarray([places[n] for n in numbers.tolist()]), named, numbers)
    numbered = {text: value for text, value in zip(texts, values, strict=True) if _is_number(value)}
    names = sorted(set(texts), key=lambda text: (text not in numbered, numbered.get(text, 0), text))
    return _Factor(name, np.asarray([names.index(text) for text in texts], dtype=np.intp), names, None)


def _is_number(value: Any) -> bool:
    return isinstance(value, int | float) and not isinstance(value, bool)


def _in_quarters(name: str, numbers: Floats) -> _Factor:
    """Cut numbers into quarters; a value that over a quarter of the runs share is a level of its own before them."""
    values, counts = np.unique(numbers, return_counts=True)
    common = float(values[counts.argmax()]) if counts.max() * _BINS > len(numbers) else None
    rest = np.ones(len(numbers), dtype=bool) if common is None else numbers != common
    edges = np.unique(np.quantile(numbers[rest], np.linspace(0, 1, _BINS + 1)))
    quarters: list[tuple[float, float]] = [(float(low), float(high)) for low, high in pairwise(edges)]
    codes = np.clip(np.searchsorted(edges, numbers, side="right") - 1, 0, len(edges) - 2)
    names, spans = [f"{show(low)} to {show(high)}" for low, high in quarters], [*quarters]
    if common is None:
        return _Factor(name, codes.astype(np.intp), names, numbers, list(spans))
    codes = np.where(rest, codes + 1, 0)
    return _Factor(name, codes.astype(np.intp), [show(common), *names], numbers, [None, *spans])


def _sums(y: Floats, codes: Codes, levels: int) -> tuple[float, float, int]:
    """Return the sum of squares between levels, within them, and the number of levels that have runs."""
    counts = np.bincount(codes, minlength=levels)
    means = np.bincount(codes, weights=y, minlength=levels) / np.maximum(counts, 1)
    within = float(((y - means[codes]) ** 2).sum())
    return float(((y - y.mean()) ** 2).sum()) - within, within, int(np.count_nonzero(counts))


def _one_way(y: Floats, codes: Codes, levels: int) -> tuple[float, float]:
    """Return omega squared, never below zero, and the p-value of a one-way analysis of variance."""
    between, within, levels_held = _sums(y, codes, levels)
    above, below = levels_held - 1, len(y) - levels_held
    error = within / below
    total = between + within
    share = max(0.0, (between - above * error) / (total + error)) if total + error else 0.0
    return share, f_tail(between / above / error if error else math.inf, above, below)


def f_tail(f: float, above: int, below: int) -> float:
    """Return the upper tail of Fisher's F distribution."""
    from scipy.special import fdtrc

    return 0.0 if math.isinf(f) else float(fdtrc(above, below, max(0.0, f)))


def holm(p_values: Sequence[float]) -> list[float]:
    """Correct p-values for their number, in the order given (Holm, 1979)."""
    corrected = [0.0] * len(p_values)
    highest = 0.0
    for place, at in enumerate(sorted(range(len(p_values)), key=lambda index: p_values[index])):
        highest = max(highest, min(1.0, p_values[at] * (len(p_values) - place)))
        corrected[at] = highest
    return corrected


def _certainty(p: float) -> Literal["clear", "likely", "open"]:
    return "clear" if p < _CLEAR else "likely" if p < _LIKELY else "open"


def _levels(y: Floats, one: _Factor) -> list[Level]:
    return [
        Level(
            name,
            int(is_level.sum()),
            float(y[is_level].mean()),
            *((one.spans[at] if one.spans else None) or (None, None)),
        )
        for at, name in enumerate(one.names)
        if (is_level := one.codes == at).any()
    ]


def _ranks(numbers: Floats) -> Floats:
    """Return ranks, ties sharing their mean."""
    _, places, counts = np.unique(numbers, return_inverse=True, return_counts=True)
    last = np.cumsum(counts)
    return np.asarray((last - (counts - 1) / 2)[places])


def _rank(y: Floats, one: _Factor) -> float | None:
    if one.numbers is None:
        return None
    return float(np.corrcoef(_ranks(one.numbers), _ranks(y))[0, 1])


def _together(one: _Factor, others: Sequence[_Factor]) -> list[str]:
    """Name factors of which each is known where the other is."""
    groups = []
    for other in others:
        pairs = len(set(zip(one.codes.tolist(), other.codes.tolist(), strict=True)))
        if other is not one and pairs == len(set(one.codes.tolist())) == len(set(other.codes.tolist())):
            groups.append(other.name)
    return groups


def _interactions(y: Floats, effects: Sequence[Effect], factors: Mapping[str, _Factor]) -> list[Interaction]:
    """Test pairs of the strongest factors: do their cells say more than the sum of both?"""
    tested: list[tuple[tuple[str, str], float]] = []
    for left, right in combinations(effects[:_PAIRS_OF], 2):
        p = _interaction(y, factors[left.factor], factors[right.factor])
        if p is not None:
            tested.append(((left.factor, right.factor), p))
    corrected = holm([p for _, p in tested])
    interactions = [Interaction(pair, p) for (pair, _), p in zip(tested, corrected, strict=True) if p < _LIKELY]
    return sorted(interactions, key=lambda one: one.p)


def _interaction(y: Floats, left: _Factor, right: _Factor) -> float | None:
    columns = [np.ones(len(y))]
    for one in (left, right):
        columns += [(one.codes == at).astype(float) for at in range(1, len(one.names))]
    design = np.column_stack(columns)
    fitted, _, rank, _ = np.linalg.lstsq(design, y, rcond=None)
    additive = float(((y - design @ fitted) ** 2).sum())
    _, cells = np.unique(left.codes * len(right.names) + right.codes, return_inverse=True)
    cells_held = int(cells.max()) + 1
    _, within, _ = _sums(y, cells, cells_held)
    above, below = cells_held - int(rank), len(y) - cells_held
    if above < 1 or below < 2:
        return None
    error = within / below
    if error == 0:
        return 0.0 if additive > within else None
    return f_tail((additive - within) / above / error, above, below)
