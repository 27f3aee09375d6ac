"""The gate of the card: sections that are written."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar, Self

from kinetrum.core.registry.gates.kind import Facts, FormField, Gate, GateCheck, GateKind, Judge, listed
from kinetrum.core.registry.gates.reader import Reader


@dataclass(frozen=True)
class Card(Gate):
    """Sections of the model's card that are written."""

    kind: ClassVar[GateKind] = "card"
    title: ClassVar[str] = "card sections"
    several: ClassVar[bool] = False
    form: ClassVar[tuple[FormField, ...]] = (FormField("card", "sections", "Purpose, Limits", "list"),)

    sections: tuple[str, ...]

    @classmethod
    def read(cls, written: Reader) -> Self:
        """Read a list of titles."""
        return cls(written.texts('a list of section titles, as in ["Purpose", "Limits"]'))

    def written(self) -> list[str]:
        """Return the titles."""
        return list(self.sections)

    def check(self, candidate: Facts, occupant: Facts | None, judge: Judge, now_s: float) -> GateCheck:
        """Look for sections that nobody wrote yet."""
        missing = candidate.missing_sections(self.sections)
        verb = "is" if len(missing) == 1 else "are"
        text = f"{listed(missing)} {verb} not written yet" if missing else "all are written"
        return GateCheck("card", f"the card's sections {listed(self.sections)}", not missing, text)
