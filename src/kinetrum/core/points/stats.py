"""Aggregates of a metric, combined piece by piece: first, last, min, max, mean, count."""

from __future__ import annotations

import math
import struct
from collections.abc import Iterable
from dataclasses import dataclass, replace

import numpy as np

from kinetrum.core.points.columns import Points, shown

# What was packed before versions were told has no such byte, and this many.
_PACKED, _VERSION = struct.Struct("<IIdddddqqqq"), 1


@dataclass(frozen=True)
class Stats:
    """Statistics of shown points. NaN never is `low` or `high`; `nan_count` tells how many there were.

    `low_step` and `high_step` are the first steps at which those values stood. `total` sums what is no NaN.
    """

    count: int
    nan_count: int
    first: float
    last: float
    low: float
    high: float
    total: float
    first_step: int
    last_step: int
    low_step: int
    high_step: int

    @property
    def mean(self) -> float:
        """Mean of the shown points that are no NaN; NaN if there are none."""
        numbers = self.count - self.nan_count
        return self.total / numbers if numbers else math.nan

    def best(self, higher_is_better: bool) -> tuple[float, int]:
        """Return the best value and its step."""
        return (self.high, self.high_step) if higher_is_better else (self.low, self.low_step)

    def pack(self) -> bytes:
        """Return 81 bytes that `unpack` reads: the version of the form, and the numbers."""
        return bytes([_VERSION]) + _PACKED.pack(
            self.count,
            self.nan_count,
            self.first,
            self.last,
            self.low,
            self.high,
            self.total,
            self.first_step,
            self.last_step,
            self.low_step,
            self.high_step,
        )


def unpack(raw: bytes) -> Stats:
    """Read what `Stats.pack` wrote; raises ValueError for a form that only a later version knows."""
    if len(raw) == _PACKED.size:
        return Stats(*_PACKED.unpack(raw))
    if raw[0] != _VERSION:
        raise ValueError(f"These statistics are of form {raw[0]}, which this version does not know.")
    return Stats(*_PACKED.unpack_from(raw, 1))


def stats_of(points: Points) -> Stats:
    """Compute the statistics of a non-empty merged set of points."""
    seen = shown(points)
    nan = np.isnan(seen.values)
    numbers = ~nan
    low = high = math.nan
    low_step = high_step = int(seen.steps[0])
    total = 0.0
    if numbers.any():
        values, steps = seen.values[numbers], seen.steps[numbers]
        at_low, at_high = int(values.argmin()), int(values.argmax())
        low, high = float(values[at_low]), float(values[at_high])
        low_step, high_step = int(steps[at_low]), int(steps[at_high])
        with np.errstate(invalid="ignore", over="ignore"):
            total = float(values.sum())
    return Stats(
        len(seen),
        int(nan.sum()),
        float(seen.values[0]),
        float(seen.values[-1]),
        low,
        high,
        total,
        int(seen.steps[0]),
        int(seen.steps[-1]),
        low_step,
        high_step,
    )


def combine(parts: Iterable[Stats]) -> Stats:
    """Combine statistics of pieces given in the order of their steps; at least one piece."""
    pieces = iter(parts)
    whole = next(pieces)
    for part in pieces:
        lower = part.low < whole.low or whole.low != whole.low
        higher = part.high > whole.high or whole.high != whole.high
        whole = replace(
            whole,
            count=whole.count + part.count,
            nan_count=whole.nan_count + part.nan_count,
            last=part.last,
            last_step=part.last_step,
            low=part.low if lower else whole.low,
            low_step=part.low_step if lower else whole.low_step,
            high=part.high if higher else whole.high,
            high_step=part.high_step if higher else whole.high_step,
            total=whole.total + part.total,
        )
    return whole
