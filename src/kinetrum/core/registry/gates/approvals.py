"""The gate of people: so many approvals that stand."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar, Self

from kinetrum.core.registry.gates.kind import Facts, FormField, Gate, GateCheck, GateKind, Judge
from kinetrum.core.registry.gates.reader import Reader, wrong


@dataclass(frozen=True)
class Approvals(Gate):
    """So many standing approvals."""

    kind: ClassVar[GateKind] = "approvals"
    title: ClassVar[str] = "approvals"
    several: ClassVar[bool] = False
    form: ClassVar[tuple[FormField, ...]] = (FormField("approvals", "how many", "2", "number"),)

    count: int

    @classmethod
    def read(cls, written: Reader) -> Self:
        """Read a whole number."""
        count = written.value
        if not isinstance(count, int) or isinstance(count, bool) or not 1 <= count <= 20:
            raise wrong(written.place, "a whole number from 1 to 20")
        return cls(count)

    def written(self) -> int:
        """Return the number."""
        return self.count

    def check(self, candidate: Facts, occupant: Facts | None, judge: Judge, now_s: float) -> GateCheck:
        """Count the candidate's approvals."""
        asks = f"{self.count} {'approval' if self.count == 1 else 'approvals'}"
        there = candidate.approvals
        return GateCheck("approvals", asks, there >= self.count, f"it has {there}", {"approvals": there})
