"""The first sentence of a review: what a promotion would change, and whether the rules are met."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from kinetrum.core.registry.gates import GateCheck
from kinetrum.core.statistics.noise.verdict import Outcome, RowsVerdict, percent, too_few


@dataclass(frozen=True)
class Judged:
    """What the same rows of named data say of candidate and occupant."""

    on: str
    differences: Sequence[RowsVerdict]


@dataclass(frozen=True)
class Placing:
    """A version beside a stage: who stands there (None: nobody), what keeps it off, and who stood there last."""

    number: int
    stage: str
    occupant: int | None
    obstacle: str | None
    last: int | None = None


def review_sentence(
    placing: Placing, checks: Sequence[GateCheck], judged: Sequence[Judged], goes_by: Sequence[str] = ()
) -> str:
    """Say what would change on the stage, the measure that counts, and what is not met.

    `goes_by`: the measures that the gates or goals name, the first one first; of others the one farthest beyond noise.

    `last`: the version that stood last on an emptied stage; it is judged against that one. `obstacle` is what keeps the
    version from standing there, whatever the gates say.
    """
    number, stage, occupant, last = placing.number, placing.stage, placing.occupant, placing.last
    if occupant == number:
        return f"Version {number} stands on {stage}."
    if occupant:
        change = f"Version {number} would replace version {occupant} on {stage}"
    elif last:
        change = f"Version {number} would come to {stage}, which is empty; version {last} stood there last"
    else:
        change = f"Version {number} would be the first on {stage}"
    telling = _telling(judged, goes_by)
    reason = f": {telling}" if telling else ""
    return f"{change}{reason}. {_rules(placing.obstacle, checks)}"


def beside_sentence(number: int, other: int, judged: Sequence[Judged], goes_by: Sequence[str] = ()) -> str:
    """Say of two versions which is better on the same rows."""
    telling = _telling(judged, goes_by)
    return f"Version {number} beside version {other}: {telling or 'no rows to judge them on'}."


def _rules(obstacle: str | None, checks: Sequence[GateCheck]) -> str:
    unmet = [check for check in checks if not check.met]
    of = f"{len(unmet)} of {len(checks)} gates {'is' if len(unmet) == 1 else 'are'} not met"
    if obstacle:
        return f"It cannot be placed there: {obstacle}{f', and {of}' if unmet else ''}."
    if unmet:
        return f"{of}: {unmet[0].asks}; {unmet[0].found}."
    return (
        f"All {len(checks)} gates are met."
        if len(checks) > 1
        else "Its gate is met."
        if checks
        else "No gate is asked."
    )


def _telling(judged: Sequence[Judged], goes_by: Sequence[str]) -> str:
    """Return the measure that counts in words, and which others go against it."""
    every = [(one.on, verdict) for one in judged for verdict in one.differences]
    if not every:
        return ""
    named = [pair for measure in goes_by for pair in every if pair[1].measure == measure]
    on, main = named[0] if named else max(every, key=lambda pair: (pair[1].beyond, _distance(pair[1])))
    figures = f"{main.measure} on {on}, {main.left:.4g} against {main.right:.4g}"
    against = [
        f"{verdict.outcome} {verdict.measure}{f' on {place}' if place != on else ''}"
        for place, verdict in every
        if verdict.beyond and verdict.outcome != main.outcome
    ]
    but = f"; but {against[0]}" if against else ""
    if main.outcome is Outcome.TOO_FEW:
        return f"{figures}: {too_few(main)}{but}"
    if not main.beyond:
        return f"{figures}, within noise{but}"
    return f"{main.outcome} {figures}, beyond noise at {percent(main.confidence)}{but}"


def _distance(verdict: RowsVerdict) -> float:
    """Return by how many half intervals a change lies off zero."""
    if verdict.low is None or verdict.high is None:
        return 0.0
    half = (verdict.high - verdict.low) / 2
    return abs(verdict.change) / half if half > 0 else float("inf")
