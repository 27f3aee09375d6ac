"""What replicates say of one value: mean, spread, and the interval in which the mean lies."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass


@dataclass(frozen=True)
class MeanSpread:
    """Numbers of replicates: how many, their mean, standard deviation of the sample, and the mean's interval.

    `deviation`, `low` and `high` are None for one run alone: its noise is unknown. `unit`: that of the value.
    """

    runs: int
    mean: float
    deviation: float | None
    low: float | None
    high: float | None


def spread_of(numbers: Sequence[float], confidence: float) -> MeanSpread:
    """Return the spread of one or more finite numbers, with Student's interval of the mean at a confidence (0 to 1).

    Source: Student, The probable error of a mean, Biometrika 6, 1908.
    """
    from scipy.special import stdtrit

    count = len(numbers)
    mean = math.fsum(numbers) / count
    if count < 2:
        return MeanSpread(count, mean, None, None, None)
    deviation = math.sqrt(math.fsum((number - mean) ** 2 for number in numbers) / (count - 1))
    half = float(stdtrit(count - 1, 0.5 + confidence / 2)) * deviation / math.sqrt(count)
    return MeanSpread(count, mean, deviation, mean - half, mean + half)


def pooled_deviation(spreads: Sequence[MeanSpread]) -> float | None:
    """Return the standard deviation that several groups of replicates share, weighted by their degrees of freedom."""
    known = [(spread.runs - 1, spread.deviation) for spread in spreads if spread.deviation is not None]
    freedom = sum(degrees for degrees, _ in known)
    return math.sqrt(sum(degrees * dev**2 for degrees, dev in known) / freedom) if freedom else None
