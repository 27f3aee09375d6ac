"""What a kind of gate is: a class that reads itself from TOML, says what it asks, judges facts, describes its form."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, ClassVar, Literal, Self

from kinetrum.core.base.values import FiniteOrNull
from kinetrum.core.registry.gates.reader import ANY_FINGERPRINT, RECORDED_FINGERPRINT, Reader
from kinetrum.core.registry.values import VersionValues
from kinetrum.core.statistics.noise.verdict import RowsVerdict

DAY_S = 86_400.0
GateKind = Literal["bound", "better", "approvals", "card", "signature", "recorded", "evidence"]


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


@dataclass(frozen=True)
class GateCheck:
    """A gate's outcome: what it asks, whether that is met, what was found, and the figures behind it."""

    kind: GateKind
    asks: str
    met: bool
    found: str
    figures: Mapping[str, FiniteOrNull] = field(default_factory=dict)


@dataclass(frozen=True)
class FormField:
    """A field by which people ask for a gate: `first` stands in it, `form` tells what is written there.

    `options` are all that it may be. A field that is left empty or as `left_out` is not written.
    """

    name: str
    title: str
    first: str = ""
    form: Literal["text", "number", "list"] = "text"
    options: tuple[str, ...] = ()
    left_out: str = ""


FINGERPRINT = FormField(
    "fingerprint", "fingerprint of the data", RECORDED_FINGERPRINT, "text", ("recorded", "any"), RECORDED_FINGERPRINT
)


class Gate(ABC):
    """A condition that a version must meet to enter a stage.

    `several`: a stage may have many of the kind, each a table of its own; else it is one key of the stage's table.
    """

    kind: ClassVar[GateKind]
    title: ClassVar[str]
    several: ClassVar[bool]
    form: ClassVar[tuple[FormField, ...]]

    @classmethod
    @abstractmethod
    def read(cls, written: Reader) -> Self:
        """Read a gate; raises InvalidInput that names the key that is wrong and what would be right."""

    @abstractmethod
    def written(self) -> Any:
        """Return the gate as it stands in TOML: a table where there may be several, else the value of its key."""

    @abstractmethod
    def check(self, candidate: Facts, occupant: Facts | None, judge: Judge, now_s: float) -> GateCheck:
        """Judge the gate: whether the candidate meets it beside the occupant, and what was found."""


def table_of(gate: Any) -> dict[str, Any]:
    """Return a gate's own fields as a table, without what is so anyway."""
    table = {name: one for name, one in vars(gate).items() if one not in (None, "") and name != "within_s"}
    if table.get("fingerprint") == RECORDED_FINGERPRINT:
        del table["fingerprint"]
    return table


def missing_evidence(facts: Facts, on: str, fingerprint: str) -> str | None:
    """Say why a version's evidence on named data does not count; None where it does."""
    there = facts.evidence.get(on)
    if there is None:
        known = listed(sorted(facts.evidence)) if facts.evidence else "none"
        return f"version {facts.number} has no evidence on {on}; it has {known}"
    if there.data is None and fingerprint != ANY_FINGERPRINT:
        return (
            f"the evidence of version {facts.number} on {on} has no fingerprint of the data; add evidence with the "
            f'data that it was judged on, or let the gate take any (fingerprint = "{ANY_FINGERPRINT}")'
        )
    return None


def listed(words: Sequence[str]) -> str:
    """Write words as a list in a sentence."""
    return words[0] if len(words) == 1 else f"{', '.join(words[:-1])} and {words[-1]}" if words else "none"
