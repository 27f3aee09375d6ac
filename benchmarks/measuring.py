"""Timing two things in turn, and telling the ratio with its spread."""

from __future__ import annotations

import statistics
from collections.abc import Callable
from dataclasses import dataclass


@dataclass(frozen=True)
class Ratio:
    """Ratios of pairs taken in turn, with the medians of both sides."""

    what: str
    target: str
    ratios: list[float]
    subject: str
    other: str

    def line(self) -> str:
        """Return one line of the report: median and spread."""
        low, high = min(self.ratios), max(self.ratios)
        return (
            f"{self.what:58} {statistics.median(self.ratios):7.2f}x  ({low:.2f} to {high:.2f}, {len(self.ratios)} pairs)"
            f"   target {self.target}\n{'':6}{self.subject}; {self.other}"
        )


def in_turn(first: Callable[[], float], second: Callable[[], float], pairs: int) -> tuple[list[float], list[float]]:
    """Run both in turn, A B A B …, after one warm-up of each; returns what they returned."""
    first()
    second()
    left, right = [], []
    for _ in range(pairs):
        left.append(first())
        right.append(second())
    return left, right


def ratio(  # noqa: PLR0913, PLR0917
    what: str, target: str, left: list[float], right: list[float], subject: str, other: str, scale: float, unit: str
) -> Ratio:
    """Build a row; `subject` and `other` name the two sides."""
    pairs = [a / b for a, b in zip(left, right, strict=True)]
    return Ratio(
        what,
        target,
        pairs,
        f"{subject}: median {statistics.median(left) * scale:.3g} {unit}",
        f"{other}: median {statistics.median(right) * scale:.3g} {unit}",
    )
