"""Outcomes of gates: all gates of a stage judged, and outcomes read back from an archive."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from kinetrum.core.base.errors import InvalidInput
from kinetrum.core.registry.gates.kind import Facts, Gate, GateCheck, Judge
from kinetrum.core.registry.gates.toml import KINDS


def read_check(data: Mapping[str, Any]) -> GateCheck:
    """Read an outcome that stands in an archive; raises InvalidInput where it is none."""
    figures = data["figures"]
    if (
        data["kind"] not in {kind.kind for kind in KINDS}
        or not isinstance(data["met"], bool)
        or not isinstance(figures, Mapping)
    ):
        raise InvalidInput("A gate's outcome has a kind, what it asks, whether it is met, what was found, and figures.")
    wrong = next((one for one in figures.values() if not isinstance(one, int | float | None)), None)
    if wrong is not None:
        raise InvalidInput(f"{wrong!r} is not a figure of a gate.")
    figures_kept = {str(name)[:100]: one for name, one in list(figures.items())[:100]}
    return GateCheck(data["kind"], str(data["asks"])[:2_000], data["met"], str(data["found"])[:2_000], figures_kept)


def check_gates(
    gates: Sequence[Gate], candidate: Facts, occupant: Facts | None, judge: Judge, now_s: float
) -> list[GateCheck]:
    """Judge every gate of a stage, in the order in which they stand."""
    return [gate.check(candidate, occupant, judge, now_s) for gate in gates]
