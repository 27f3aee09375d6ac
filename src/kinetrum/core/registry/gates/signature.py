"""The gate of the signature: known, and fit for the occupant's place."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar, Self

from kinetrum.core.registry.gates.kind import Facts, FormField, Gate, GateCheck, GateKind, Judge
from kinetrum.core.registry.gates.reader import Reader, wrong


@dataclass(frozen=True)
class HasSignature(Gate):
    """A signature is present; `compatible`: and fits in the occupant's place."""

    kind: ClassVar[GateKind] = "signature"
    title: ClassVar[str] = "signature"
    several: ClassVar[bool] = False
    form: ClassVar[tuple[FormField, ...]] = (
        FormField("signature", "which", "compatible", options=("present", "compatible")),
    )

    compatible: bool

    @classmethod
    def read(cls, written: Reader) -> Self:
        """Read "present" or "compatible"."""
        if written.value not in ("present", "compatible"):
            raise wrong(written.place, '"present" or "compatible"')
        return cls(written.value == "compatible")

    def written(self) -> str:
        """Return the word."""
        return "compatible" if self.compatible else "present"

    def check(self, candidate: Facts, occupant: Facts | None, judge: Judge, now_s: float) -> GateCheck:
        """Look for the candidate's signature, and for what keeps it from the occupant's place."""
        asks = "a signature that fits in the occupant's place" if self.compatible else "a signature"
        if candidate.incompatible is None:
            return GateCheck("signature", asks, False, "its signature is not known; register it with a sample")
        if not self.compatible or occupant is None:
            return GateCheck("signature", asks, True, "it is known")
        wrong = candidate.incompatible
        return GateCheck(
            "signature",
            asks,
            not wrong,
            "; ".join(wrong[:4]) if wrong else f"it fits that of version {occupant.number}",
        )
