"""The gate of a comparison: better than the occupant, beyond noise, on the same rows."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, ClassVar, Self

from kinetrum.core.registry.gates.kind import (
    FINGERPRINT,
    Facts,
    FormField,
    Gate,
    GateCheck,
    GateKind,
    Judge,
    missing_evidence,
    table_of,
)
from kinetrum.core.registry.gates.reader import RECORDED_FINGERPRINT, Reader
from kinetrum.core.statistics.noise.difference import CONFIDENCE
from kinetrum.core.statistics.noise.verdict import Outcome, RowsVerdict, percent, too_few


@dataclass(frozen=True)
class Better(Gate):
    """Better than the occupant beyond noise at a confidence, on the same rows of named data.

    `by`: the whole interval of the gain must lie above it, so that the gain is more than `by` beyond noise.
    """

    kind: ClassVar[GateKind] = "better"
    title: ClassVar[str] = "better than the occupant"
    several: ClassVar[bool] = True
    form: ClassVar[tuple[FormField, ...]] = (
        FormField("value", "value", "recall"),
        FormField("on", "on data"),
        FormField("by", "by more than", "0", "number"),
        FormField("confidence", "confidence", "0.95", "number"),
        FINGERPRINT,
    )

    value: str
    on: str
    by: float
    confidence: float
    fingerprint: str = RECORDED_FINGERPRINT

    @classmethod
    def read(cls, written: Reader) -> Self:
        """Read a table with value, on, by, confidence, fingerprint."""
        value, on = written.text("value", "recall"), written.text("on", "holdout")
        by, confidence = written.number("by", 0.0), written.number("confidence", 0.5, 0.9999)
        fingerprint = written.fingerprint()
        written.end()
        return cls(value or "", on or "", by or 0.0, CONFIDENCE if confidence is None else confidence, fingerprint)

    def written(self) -> dict[str, Any]:
        """Return the table."""
        return table_of(self)

    def check(self, candidate: Facts, occupant: Facts | None, judge: Judge, now_s: float) -> GateCheck:
        """Hold the candidate against the occupant by what the rows of both say."""
        more = f" by more than {self.by:g}" if self.by else ""
        asks = f"better {self.value} on {self.on} than the occupant{more}, beyond noise at {percent(self.confidence)}"
        if occupant is None:
            return GateCheck("better", asks, True, "no version stood there yet: there is nothing to be better than")
        if occupant.number == candidate.number:
            return GateCheck("better", asks, True, "it is the occupant" if occupant.stands else "it stood there last")
        for facts in (candidate, occupant):
            lacking = missing_evidence(facts, self.on, self.fingerprint)
            if lacking:
                return GateCheck("better", asks, False, lacking)
            if not facts.evidence[self.on].rows:
                return GateCheck(
                    "better", asks, False, f"version {facts.number} has no predictions row by row on {self.on}"
                )
        ours, theirs = candidate.evidence[self.on], occupant.evidence[self.on]
        if ours.data and theirs.data and ours.data != theirs.data:
            return GateCheck(
                "better",
                asks,
                False,
                f"versions {candidate.number} and {occupant.number} were judged on"
                f" different data named {self.on} ({ours.data[:8]} and {theirs.data[:8]})",
            )
        verdict = judge(self.on, self.value, self.confidence)
        if isinstance(verdict, str):
            return GateCheck("better", asks, False, verdict)
        return self._check_rows(asks, verdict, candidate.number, occupant)

    def _check_rows(self, asks: str, verdict: RowsVerdict, number: int, occupant: Facts) -> GateCheck:
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
        text = f"{values}: {gain:+.3g} [{low:+.3g}, {high:+.3g}] over {verdict.rows:,} rows ({verdict.method})"
        match verdict.outcome:
            case Outcome.WITHIN_NOISE:
                return GateCheck("better", asks, False, f"{text}, within noise", figures)
            case Outcome.WORSE:
                return GateCheck("better", asks, False, f"{text}, worse beyond noise", figures)
        if low <= self.by and self.by:
            return GateCheck(
                "better", asks, False, f"{text}, better beyond noise, but not by more than {self.by:g}", figures
            )
        return GateCheck("better", asks, True, f"{text}, better beyond noise", figures)
