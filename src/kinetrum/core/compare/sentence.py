"""The sentence that opens a comparison: who leads on what, by how much, whether that is noise, and how we know."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Literal, Protocol

from kinetrum.core.base.goals import Goal
from kinetrum.core.base.values import Value, show
from kinetrum.core.statistics.noise import CONFIDENCE, DifferenceOfMeans
from kinetrum.core.statistics.noise.difference import tell_runs
from kinetrum.core.text.numbers import signed

if TYPE_CHECKING:
    from kinetrum.core.statistics.effects import Effects


@dataclass(frozen=True)
class Headline:
    """`finding` is set in bold, `rest` follows it, `reason` is the line below: how we know, what we do not."""

    finding: str
    rest: str
    reason: str


class _Change(Protocol):
    @property
    def change(self) -> float: ...
    @property
    def verdict(self) -> Literal["better", "worse", "equal"] | None: ...
    @property
    def difference(self) -> DifferenceOfMeans: ...


class _Row(Protocol):
    @property
    def key(self) -> str: ...
    @property
    def goal(self) -> Goal | None: ...
    @property
    def values(self) -> list[Value]: ...
    @property
    def changes(self) -> Sequence[_Change | None]: ...
    @property
    def main(self) -> _Change | None: ...
    @property
    def best(self) -> list[bool]: ...


def with_unit(value: Value, unit: str | None) -> str:
    """Write a value with its unit."""
    text = f"{value:.4g}" if isinstance(value, float) and value == value else show(value)
    return f"{text} {unit}" if unit else text


def headline(
    labels: Sequence[str], runs: Sequence[int], rows: Sequence[_Row], baseline: int, settings: int
) -> Headline:
    """Word the verdict over rows that differ; rows with goals come first. `runs`: how many stand behind each label."""
    judged = [row for row in rows if row.goal is not None and any(row.best)]
    differing = f"{settings} setting{'' if settings == 1 else 's'} differ{'s' if settings == 1 else ''}"
    if not judged:
        if not rows:
            return Headline("Nothing came out differently", f": {differing}.", "Every recorded value is equal.")
        return Headline(
            "1 value differs" if len(rows) == 1 else f"{len(rows)} values differ",
            f", {differing}.",
            "No goal says which direction is better, so no run is called the better one.",
        )
    if len(labels) == 2:
        return _pair(labels, runs, judged, baseline, differing)
    return _many(labels, runs, judged, baseline, differing)


def _pair(
    labels: Sequence[str], runs: Sequence[int], judged: Sequence[_Row], baseline: int, differing: str
) -> Headline:
    subject, other = labels[1 - baseline], labels[baseline]
    reason = f"{_how(judged, runs, 1 - baseline, baseline)} {differing.capitalize()}."
    sure = [row for row in judged if row.main and row.main.difference.beyond]
    noisy = [row for row in judged if row.main and row.main.difference.beyond is False]
    if sure or noisy:
        return _told(subject, other, sure, noisy, reason)
    better = [row for row in judged if row.main and row.main.verdict == "better"]
    worse = [row for row in judged if row.main and row.main.verdict == "worse"]
    if better and not worse:
        return Headline(f"{subject} came out better than {other}", f" on {_list(better)}; noise is unknown.", reason)
    if worse and not better:
        return Headline(f"{subject} came out worse than {other}", f" on {_list(worse)}; noise is unknown.", reason)
    if better and worse:
        return Headline(
            f"{subject} came out better on {_list(better)}",
            f", worse on {_list(worse)}; noise is unknown.",
            f"Against {other}. {reason}",
        )
    return Headline(
        f"{subject} and {other} came out equal", " on every goal; noise is unknown.", f"{differing.capitalize()}."
    )


def _told(subject: str, other: str, sure: Sequence[_Row], noisy: Sequence[_Row], reason: str) -> Headline:
    """Word a verdict where replicates say what noise is."""
    better = [row for row in sure if row.main and row.main.verdict == "better"]
    worse = [row for row in sure if row.main and row.main.verdict == "worse"]
    rest = f"; {_list(noisy)} within noise." if noisy else "."
    if better and worse:
        return Headline(
            f"{subject} is better on {_list(better)} and worse on {_list(worse)}",
            f" than {other}, beyond noise{rest}",
            reason,
        )
    if better or worse:
        word = "better" if better else "worse"
        return Headline(
            f"{subject} is {word} than {other}", f" on {_list(better or worse)}, beyond noise{rest}", reason
        )
    return Headline(f"{subject} and {other} are within noise of each other", f" on {_list(noisy)}.", reason)


def _how(judged: Sequence[_Row], runs: Sequence[int], left: int, right: int) -> str:
    """Say how the first judged difference is known, and what would tell it where it is not."""
    row = judged[0]
    change = row.changes[left]
    if change is None:
        return ""
    verdict, unit = change.difference, row.goal.unit if row.goal else None
    if verdict.beyond is None:
        more = (
            f"; with the noise that other replicates show, {tell_runs(verdict.needed)} runs each would tell such a"
            " difference."
            if verdict.needed
            else "; replicates over several seeds would tell."
        )
        return f"One run each: whether the difference is more than noise is unknown{more}"
    low, high, over = verdict.low or 0.0, verdict.high or 0.0, f"{runs[left]} and {runs[right]} runs"
    paired = ", paired by seed" if verdict.method == "paired by seed" else ""
    text = (
        f"Means of {over}{paired}"
        if min(runs[left], runs[right]) > 1
        else f"One run against the spread of {max(runs[left], runs[right])}"
    )
    unit_text = f" {unit}" if unit else ""
    text += f": {row.key} {signed(low)} to {signed(high)}{unit_text} with {100 * verdict.confidence:.4g} % confidence"
    if verdict.method == "Dunnett":
        text += " for all runs compared at once"
    elif round(verdict.confidence, 6) != CONFIDENCE:
        text += f", so that {100 * CONFIDENCE:g} % holds for all runs compared"
    if not verdict.beyond and verdict.needed:
        text += f"; {tell_runs(verdict.needed)} runs each would tell such a difference"
    return text + "."


def _list(rows: Sequence[_Row]) -> str:
    parts = []
    for row in rows[:3]:
        unit = row.goal.unit if row.goal else None
        parts.append(f"{row.key} ({signed(row.main.change if row.main else 0.0)}{f' {unit}' if unit else ''})")
    if len(rows) > 3:
        parts.append(f"{len(rows) - 3} more")
    return parts[0] if len(parts) == 1 else ", ".join(parts[:-1]) + " and " + parts[-1]


def _many(
    labels: Sequence[str], runs: Sequence[int], judged: Sequence[_Row], baseline: int, differing: str
) -> Headline:
    first, *others = judged
    leader = first.best.index(True)
    unit = first.goal.unit if first.goal else None
    tied = sum(first.best)
    rest = f", tied with {tied - 1} more" if tied > 1 else ""
    if leader != baseline:
        rest += _against(first, leader, labels[baseline])
    rest += f", of {len(labels)} runs"
    extra = []
    for row in others[:2]:
        at = row.best.index(True)
        who = "also best" if row.best[leader] else f"{labels[at]} best"
        extra.append(f"{who} on {row.key} ({with_unit(row.values[at], row.goal.unit if row.goal else None)})")
    if extra:
        rest += "; " + ", ".join(extra)
    # What the baseline leads on is told against the run that comes nearest to being it.
    shown = leader if leader != baseline else next(at for at in range(len(labels)) if at != baseline)
    return Headline(
        f"{labels[leader]} leads on {first.key}: {with_unit(first.values[leader], unit)}",
        rest + ".",
        f"{_how(judged, runs, shown, baseline)} {differing.capitalize()}.".strip(),
    )


def _against(row: _Row, leader: int, baseline: str) -> str:
    change = row.changes[leader]
    if change is None:
        return ""
    noise = {True: "beyond noise", False: "within noise", None: "noise unknown"}[change.difference.beyond]
    return f", {signed(change.change)} over {baseline}, {noise}"


def effects_sentence(key: str, effects: Effects) -> str:
    """Say what goes along with a value over an experiment, no more than its runs show."""
    telling = [effect for effect in effects.effects if effect.certainty != "open" and effect.share > 0]
    if not effects.effects:
        return f"{effects.runs} different runs: too few, or too much alike, to tell what moves {key}."
    if not telling:
        return f"Over {effects.runs} different runs nothing is told from chance to move {key}."
    parts = [f"{effect.factor} ({effect.share:.0%}, {effect.certainty})" for effect in telling[:3]]
    more = f" and {len(telling) - 3} more" if len(telling) > 3 else ""
    rest = len(effects.effects) - len(telling)
    others = f"; {rest} other{'s are' if rest > 1 else ' is'} not told from chance" if rest else ""
    return f"Over {effects.runs} different runs {key} goes along with {', '.join(parts)}{more}{others}."
