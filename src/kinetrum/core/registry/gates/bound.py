"""The gate of a value: at least or at most a number."""

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
from kinetrum.core.registry.gates.reader import RECORDED_FINGERPRINT, Reader, wrong
from kinetrum.core.registry.values import VersionValues


@dataclass(frozen=True)
class Bound(Gate):
    """A value, on named data or (None) of the version's run, is at least or at most a number."""

    kind: ClassVar[GateKind] = "bound"
    title: ClassVar[str] = "a bound on a value"
    several: ClassVar[bool] = True
    form: ClassVar[tuple[FormField, ...]] = (
        FormField("value", "value", "recall"),
        FormField("on", "on data (none: its run)"),
        FormField("at_least", "at least", form="number"),
        FormField("at_most", "at most", form="number"),
        FINGERPRINT,
    )

    value: str
    on: str | None
    at_least: float | None
    at_most: float | None
    fingerprint: str = RECORDED_FINGERPRINT

    @classmethod
    def read(cls, written: Reader) -> Self:
        """Read a table with value, on, at_least, at_most, fingerprint."""
        value, on = written.text("value", "recall"), written.text("on", "holdout", needed=False)
        least, most = written.number("at_least"), written.number("at_most")
        if least is None and most is None:
            raise wrong(written.place, "at_least or at_most, or both", said="needs")
        if least is not None and most is not None and least > most:
            raise wrong(written.place, f"met by nothing: at_least {least:g} is over at_most {most:g}", said="is")
        fingerprint = written.fingerprint()
        written.end()
        return cls(value or "", on, least, most, fingerprint)

    def written(self) -> dict[str, Any]:
        """Return the table."""
        return table_of(self)

    def check(self, candidate: Facts, occupant: Facts | None, judge: Judge, now_s: float) -> GateCheck:
        """Hold the candidate's value against the bounds; the occupant says nothing here."""
        parts = [
            f"at least {self.at_least:g}" if self.at_least is not None else "",
            f"at most {self.at_most:g}" if self.at_most is not None else "",
        ]
        asks = f"{self.value}{f' on {self.on}' if self.on else ''} {' and '.join(part for part in parts if part)}"
        if self.on is None:
            values, at = candidate.values.values, _at_step(candidate.values, self.value)
        else:
            lacking = missing_evidence(candidate, self.on, self.fingerprint)
            if lacking:
                return GateCheck("bound", asks, False, lacking)
            values, at = candidate.evidence[self.on].results, ""
        number = _number(values.get(self.value))
        if number is None:
            known = ", ".join(sorted(values)[:8]) or "none"
            return GateCheck("bound", asks, False, f"it has no number for {self.value}; it has {known}")
        # NaN is neither at least nor at most anything.
        met = (self.at_least is None or number >= self.at_least) and (self.at_most is None or number <= self.at_most)
        return GateCheck(
            "bound",
            asks,
            met,
            f"it is {number:.4g}{at}",
            {"value": number, "at_least": self.at_least, "at_most": self.at_most},
        )


def _number(value: Any) -> float | None:
    return float(value) if isinstance(value, int | float) and not isinstance(value, bool) else None


def _at_step(values: VersionValues, key: str) -> str:
    """Say at which step of its run a checkpoint has a value."""
    if values.step is None:
        return ""
    earlier = values.earlier.get(key)
    return f" at step {values.step}" if earlier is None else f" at step {earlier}, the latest before step {values.step}"
