"""The sentence that opens a comparison: who leads on what, by how much, and what is not known."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Protocol

from kinetrum.core.goals import Goal
from kinetrum.core.values import Value, show


@dataclass(frozen=True)
class Headline:
    """`finding` is set in bold, `rest` follows it, `reason` is the line below: how we know, what we do not."""

    finding: str
    rest: str
    reason: str


class _Row(Protocol):
    @property
    def key(self) -> str: ...
    @property
    def goal(self) -> Goal | None: ...
    @property
    def values(self) -> list[Value]: ...
    @property
    def change(self) -> float | None: ...
    @property
    def verdict(self) -> str | None: ...
    @property
    def best(self) -> list[bool]: ...


def signed(number: float) -> str:
    """Write a change with its sign and three significant digits: +0.031, −0.7, ±0."""
    if number == 0:
        return "±0"
    size = abs(number)
    text = f"{size:,.0f}" if size >= 1000 else f"{size:.3g}"
    return ("+" if number > 0 else "−") + text


def with_unit(value: Value, unit: str | None) -> str:
    """Write a value with its unit."""
    text = f"{value:.4g}" if isinstance(value, float) and value == value else show(value)
    return f"{text} {unit}" if unit else text


_NOISE = (
    "One run each: whether the difference is more than noise is not known yet; "
    "replicates over several seeds would tell."
)


def headline(labels: Sequence[str], rows: Sequence[_Row], baseline: int, settings: int) -> Headline:
    """Word the verdict over rows that differ; rows with goals come first."""
    judged = [row for row in rows if row.goal is not None and any(row.best)]
    differing = f"{settings} setting{'' if settings == 1 else 's'} differ{'s' if settings == 1 else ''}"
    if not judged:
        if not rows:
            return Headline("Nothing came out differently", f": {differing}.", "Every recorded value is equal.")
        return Headline(
            f"{len(rows)} value{'' if len(rows) == 1 else 's'} differ",
            f", {differing}.",
            "No goal says which direction is better, so no run is called the better one.",
        )
    if len(labels) == 2:
        return _pair(labels, judged, baseline, differing)
    return _many(labels, judged, differing)


def _pair(labels: Sequence[str], judged: Sequence[_Row], baseline: int, differing: str) -> Headline:
    subject, other = labels[1 - baseline], labels[baseline]
    better = [row for row in judged if row.verdict == "better"]
    worse = [row for row in judged if row.verdict == "worse"]
    if better and not worse:
        return Headline(f"{subject} is better than {other}", f" on {_list(better)}.", f"{differing}. {_NOISE}")
    if worse and not better:
        return Headline(f"{subject} is worse than {other}", f" on {_list(worse)}.", f"{differing}. {_NOISE}")
    if better and worse:
        return Headline(
            f"{subject} is better on {_list(better)}", f", worse on {_list(worse)}.",
            f"Against {other}; {differing}. {_NOISE}",
        )  # fmt: skip
    return Headline(f"{subject} and {other} come out equal", " on every goal.", f"{differing}.")


def _list(rows: Sequence[_Row]) -> str:
    parts = []
    for row in rows[:3]:
        unit = row.goal.unit if row.goal else None
        parts.append(f"{row.key} ({signed(row.change or 0.0)}{f' {unit}' if unit else ''})")
    if len(rows) > 3:
        parts.append(f"{len(rows) - 3} more")
    return parts[0] if len(parts) == 1 else ", ".join(parts[:-1]) + " and " + parts[-1]


def _many(labels: Sequence[str], judged: Sequence[_Row], differing: str) -> Headline:
    first, *others = judged
    leader = first.best.index(True)
    unit = first.goal.unit if first.goal else None
    tied = sum(first.best)
    rest = f" of {len(labels)} runs" + (f", tied with {tied - 1} more" if tied > 1 else "")
    extra = []
    for row in others[:2]:
        at = row.best.index(True)
        who = "also best" if row.best[leader] else f"{labels[at]} best"
        extra.append(f"{who} on {row.key} ({with_unit(row.values[at], row.goal.unit if row.goal else None)})")
    if extra:
        rest += "; " + ", ".join(extra)
    return Headline(
        f"{labels[leader]} leads on {first.key}: {with_unit(first.values[leader], unit)}",
        rest + ".",
        f"{differing}. {_NOISE}",
    )
