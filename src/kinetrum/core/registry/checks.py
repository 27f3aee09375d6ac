"""Judging gates on facts: each is met or not, with the figures that show why. Pure."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from kinetrum.core.base.errors import InvalidInput
from kinetrum.core.registry.gates import (
    ANY_FINGERPRINT,
    DAY_S,
    Approvals,
    Better,
    Bound,
    Card,
    Fresh,
    Gate,
    HasSignature,
    Recorded,
)
from kinetrum.core.registry.values import VersionValues
from kinetrum.core.statistics.noise.verdict import Outcome, RowsVerdict, percent, too_few


@dataclass(frozen=True)
class Evidence:
    """What is known of a version on named data: its results, the data's fingerprint, when (seconds), and its rows.

    `rows`: whether predictions row by row are kept. `uid` tells one piece of evidence from another.
    """

    uid: str
    on: str
    data: str | None
    results: Mapping[str, Any]
    at_s: float
    rows: bool


@dataclass(frozen=True)
class Facts:
    """What gates look at of one version.

    `stands`: whether it stands on the stage now. `untracked` names files of its run's own code that no commit has.
    """

    number: int
    approvals: int
    values: VersionValues
    evidence: Mapping[str, Evidence]
    missing_sections: Callable[[Sequence[str]], list[str]]
    incompatible: list[str] | None
    """What keeps its signature from the occupant's place; None where it has no signature."""
    used_data: bool
    commit: str | None
    uncommitted: bool
    from_run: bool
    stands: bool = True
    untracked: tuple[str, ...] = ()


Judge = Callable[[str, str, float], "RowsVerdict | str"]
"""(data, value, confidence) to what the rows say, or why they say nothing."""


KINDS = ("bound", "better", "approvals", "card", "signature", "recorded", "evidence")


@dataclass(frozen=True)
class GateCheck:
    """A gate's outcome: what it asks, whether that is met, what was found, and the figures behind it."""

    kind: str
    asks: str
    met: bool
    found: str
    figures: Mapping[str, float | int | None] = field(default_factory=dict)


def read_check(data: Mapping[str, Any]) -> GateCheck:
    """Read an outcome that stands in an archive; raises InvalidInput where it is none."""
    figures = data["figures"]
    if data["kind"] not in KINDS or not isinstance(data["met"], bool) or not isinstance(figures, Mapping):
        raise InvalidInput("A gate's outcome has a kind, what it asks, whether it is met, what was found, and figures.")
    wrong = next((one for one in figures.values() if not isinstance(one, int | float | None)), None)
    if wrong is not None:
        raise InvalidInput(f"{wrong!r} is no figure of a gate.")
    kept = {str(name)[:100]: one for name, one in list(figures.items())[:100]}
    return GateCheck(data["kind"], str(data["asks"])[:2_000], data["met"], str(data["found"])[:2_000], kept)


def check_gates(
    gates: Sequence[Gate], candidate: Facts, occupant: Facts | None, judge: Judge, now_s: float
) -> list[GateCheck]:
    """Judge every gate of a stage, in the order in which they stand."""
    return [_check(gate, candidate, occupant, judge, now_s) for gate in gates]


def _check(gate: Gate, candidate: Facts, occupant: Facts | None, judge: Judge, now_s: float) -> GateCheck:
    match gate:
        case Bound():
            return _check_bound(gate, candidate)
        case Better():
            return _check_better(gate, candidate, occupant, judge)
        case Approvals(count):
            word = "approval" if count == 1 else "approvals"
            return GateCheck(
                "approvals",
                f"{count} {word}",
                candidate.approvals >= count,
                f"it has {candidate.approvals}",
                {"approvals": candidate.approvals},
            )
        case Card(sections):
            missing = candidate.missing_sections(sections)
            found = (
                f"{_listed(missing)} {'is' if len(missing) == 1 else 'are'} not written yet"
                if missing
                else "all are written"
            )
            return GateCheck("card", f"the card's sections {_listed(sections)}", not missing, found)
        case HasSignature(compatible):
            return _check_signature(compatible, candidate, occupant)
        case Recorded(what):
            return _check_recorded(what, candidate)
        case Fresh():
            return _check_fresh(gate, candidate, now_s)


def _number(value: Any) -> float | None:
    return float(value) if isinstance(value, int | float) and not isinstance(value, bool) else None


def _check_bound(gate: Bound, candidate: Facts) -> GateCheck:
    parts = [
        f"at least {gate.at_least:g}" if gate.at_least is not None else "",
        f"at most {gate.at_most:g}" if gate.at_most is not None else "",
    ]
    asks = f"{gate.value}{f' on {gate.on}' if gate.on else ''} {' and '.join(part for part in parts if part)}"
    if gate.on is None:
        held, at = candidate.values.values, _at_step(candidate.values, gate.value)
    else:
        lacking = _lacking(candidate, gate.on, gate.fingerprint)
        if lacking:
            return GateCheck("bound", asks, False, lacking)
        held, at = candidate.evidence[gate.on].results, ""
    number = _number(held.get(gate.value))
    if number is None:
        known = ", ".join(sorted(held)[:8]) or "none"
        return GateCheck("bound", asks, False, f"it has no number for {gate.value}; it has {known}")
    # NaN is neither at least nor at most anything.
    met = (gate.at_least is None or number >= gate.at_least) and (gate.at_most is None or number <= gate.at_most)
    return GateCheck(
        "bound",
        asks,
        met,
        f"it is {number:.4g}{at}",
        {"value": number, "at_least": gate.at_least, "at_most": gate.at_most},
    )


def _at_step(values: VersionValues, key: str) -> str:
    """Say at which step of its run a checkpoint has a value."""
    if values.step is None:
        return ""
    earlier = values.earlier.get(key)
    return f" at step {values.step}" if earlier is None else f" at step {earlier}, the latest before step {values.step}"


def _lacking(facts: Facts, on: str, fingerprint: str) -> str | None:
    """Say why a version's evidence on named data does not count; None where it does."""
    there = facts.evidence.get(on)
    if there is None:
        known = _listed(sorted(facts.evidence)) if facts.evidence else "none"
        return f"version {facts.number} has no evidence on {on}; it has {known}"
    if there.data is None and fingerprint != ANY_FINGERPRINT:
        return (
            f"the evidence of version {facts.number} on {on} has no fingerprint of the data; add evidence with the "
            f'data that it was judged on, or let the gate take any (fingerprint = "{ANY_FINGERPRINT}")'
        )
    return None


def _check_better(gate: Better, candidate: Facts, occupant: Facts | None, judge: Judge) -> GateCheck:
    more = f" by more than {gate.by:g}" if gate.by else ""
    asks = f"better {gate.value} on {gate.on} than the occupant{more}, beyond noise at {percent(gate.confidence)}"
    if occupant is None:
        return GateCheck("better", asks, True, "no version stood there yet: there is nothing to be better than")
    if occupant.number == candidate.number:
        return GateCheck("better", asks, True, "it is the occupant" if occupant.stands else "it stood there last")
    for facts in (candidate, occupant):
        lacking = _lacking(facts, gate.on, gate.fingerprint)
        if lacking:
            return GateCheck("better", asks, False, lacking)
        if not facts.evidence[gate.on].rows:
            return GateCheck("better", asks, False, f"version {facts.number} has no predictions row by row on {gate.on}")
    ours, theirs = candidate.evidence[gate.on], occupant.evidence[gate.on]
    if ours.data and theirs.data and ours.data != theirs.data:
        return GateCheck(
            "better",
            asks,
            False,
            f"versions {candidate.number} and {occupant.number} were judged on"
            f" different data named {gate.on} ({ours.data[:8]} and {theirs.data[:8]})",
        )
    told = judge(gate.on, gate.value, gate.confidence)
    if isinstance(told, str):
        return GateCheck("better", asks, False, told)
    return _check_rows(gate, asks, told, candidate.number, occupant)


def _check_rows(gate: Better, asks: str, verdict: RowsVerdict, number: int, occupant: Facts) -> GateCheck:
    """Judge a gate by the verdict on the same rows, the one that the review shows."""
    sign = 1 if verdict.higher_is_better else -1
    gain = sign * verdict.change
    figures: dict[str, float | int | None] = {
        "candidate": verdict.left,
        "occupant": verdict.right,
        "gain": gain,
        "rows": verdict.rows,
        "confidence": verdict.confidence,
    }
    other, last = occupant.number, "" if occupant.stands else ", which stood there last"
    values = f"{verdict.left:.4g} against {verdict.right:.4g} of version {other}{last}"
    if verdict.left_out:
        both = f"{verdict.rows:,} of the {verdict.rows + verdict.left_out:,} rows"
        return GateCheck(
            "better",
            asks,
            False,
            f"{values}, but version {number} was judged on {both} of version {other} only",
            figures,
        )
    if verdict.low is None or verdict.high is None:
        few = f"{too_few(verdict)}; at least {verdict.needed:,} are needed"
        return GateCheck("better", asks, False, f"{values}: {few}", figures)
    low, high = sorted((sign * verdict.low, sign * verdict.high))
    figures |= {"low": low, "high": high}
    said = f"{values}: {gain:+.3g} [{low:+.3g}, {high:+.3g}] over {verdict.rows:,} rows ({verdict.method})"
    match verdict.outcome:
        case Outcome.WITHIN_NOISE:
            return GateCheck("better", asks, False, f"{said}, within noise", figures)
        case Outcome.WORSE:
            return GateCheck("better", asks, False, f"{said}, worse beyond noise", figures)
    if low <= gate.by and gate.by:
        return GateCheck("better", asks, False, f"{said}, better beyond noise, but not by more than {gate.by:g}", figures)
    return GateCheck("better", asks, True, f"{said}, better beyond noise", figures)


def _check_signature(compatible: bool, candidate: Facts, occupant: Facts | None) -> GateCheck:
    asks = "a signature that fits in the occupant's place" if compatible else "a signature"
    if candidate.incompatible is None:
        return GateCheck("signature", asks, False, "its signature is not known; register it with a sample")
    if not compatible or occupant is None:
        return GateCheck("signature", asks, True, "it is known")
    wrong = candidate.incompatible
    return GateCheck(
        "signature", asks, not wrong, "; ".join(wrong[:4]) if wrong else f"it fits that of version {occupant.number}"
    )


def _check_recorded(what: Sequence[str], candidate: Facts) -> GateCheck:
    words = {"data": "the data it used", "code": "its commit", "committed": "no uncommitted changes"}
    asks = f"recorded: {_listed([words[one] for one in what])}"
    if not candidate.from_run:
        return GateCheck("recorded", asks, False, "no run made it")
    wrong = []
    if "data" in what and not candidate.used_data:
        wrong.append("its run recorded no data")
    if {"code", "committed"} & set(what) and not candidate.commit:
        wrong.append("its run recorded no commit")
    if "committed" in what and candidate.uncommitted:
        wrong.append("its run had uncommitted changes")
    if "committed" in what and candidate.untracked:
        more = f" and {len(candidate.untracked) - 3} more" if len(candidate.untracked) > 3 else ""
        wrong.append(f"no commit has {', '.join(candidate.untracked[:3])}{more}, which its run carried out")
    return GateCheck("recorded", asks, not wrong, "; ".join(wrong) or "all of it is")


def _check_fresh(gate: Fresh, candidate: Facts, now_s: float) -> GateCheck:
    asks = f"evidence on {gate.on}{f' not older than {gate.within}' if gate.within else ''}"
    lacking = _lacking(candidate, gate.on, gate.fingerprint)
    if lacking:
        return GateCheck("evidence", asks, False, lacking)
    age = max(0.0, now_s - candidate.evidence[gate.on].at_s)
    return GateCheck(
        "evidence",
        asks,
        gate.within_s is None or age <= gate.within_s,
        f"it is {_age(age)} old",
        {"age_s": age, "within_s": gate.within_s},
    )


def _age(seconds: float) -> str:
    for unit, word in ((DAY_S, "day"), (3_600.0, "hour"), (60.0, "minute")):
        if seconds >= unit:
            count = int(seconds // unit)
            return f"{count} {word}{'s' if count != 1 else ''}"
    return "less than a minute"


def _listed(words: Sequence[str]) -> str:
    return words[0] if len(words) == 1 else f"{', '.join(words[:-1])} and {words[-1]}" if words else "none"
