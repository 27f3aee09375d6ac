"""The gate of evidence: there on named data, and not too old."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Any, ClassVar, Self

from kinetrum.core.registry.gates.kind import (
    DAY_S,
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

_UNITS = {"m": 60.0, "h": 3_600.0, "d": DAY_S, "w": 7 * DAY_S}


@dataclass(frozen=True)
class Fresh(Gate):
    """Evidence on named data is there, and (where asked) no older than so many seconds."""

    kind: ClassVar[GateKind] = "evidence"
    title: ClassVar[str] = "evidence, and its age"
    several: ClassVar[bool] = True
    form: ClassVar[tuple[FormField, ...]] = (
        FormField("on", "on data"),
        FormField("within", "not older than", "30d"),
        FINGERPRINT,
    )

    on: str
    within_s: float | None
    within: str
    fingerprint: str = RECORDED_FINGERPRINT

    @classmethod
    def read(cls, written: Reader) -> Self:
        """Read a table with on, within, fingerprint."""
        on, within = written.text("on", "holdout"), written.text("within", "30d", needed=False)
        match = re.fullmatch(r"(\d+(?:\.\d+)?)([mhdw])", within) if within else None
        if within and not match:
            raise wrong(f"{written.place}.within", 'a duration, as in "12h", "30d" or "2w"')
        fingerprint = written.fingerprint()
        written.end()
        seconds = float(match[1]) * _UNITS[match[2]] if match else None
        return cls(on or "", seconds, within or "", fingerprint)

    def written(self) -> dict[str, Any]:
        """Return the table."""
        return table_of(self)

    def check(self, candidate: Facts, occupant: Facts | None, judge: Judge, now_s: float) -> GateCheck:
        """Look for the candidate's evidence and how old it is."""
        asks = f"evidence on {self.on}{f' not older than {self.within}' if self.within else ''}"
        lacking = missing_evidence(candidate, self.on, self.fingerprint)
        if lacking:
            return GateCheck("evidence", asks, False, lacking)
        age = max(0.0, now_s - candidate.evidence[self.on].at_s)
        return GateCheck(
            "evidence",
            asks,
            self.within_s is None or age <= self.within_s,
            f"it is {_age(age)} old",
            {"age_s": age, "within_s": self.within_s},
        )


def _age(seconds: float) -> str:
    for unit, word in ((DAY_S, "day"), (3_600.0, "hour"), (60.0, "minute")):
        if seconds >= unit:
            count = int(seconds // unit)
            return f"{count} {word}{'s' if count != 1 else ''}"
    return "less than a minute"
