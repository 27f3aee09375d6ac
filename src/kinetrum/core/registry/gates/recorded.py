"""The gate of provenance: what the version's run recorded."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar, Self

from kinetrum.core.registry.gates.kind import Facts, FormField, Gate, GateCheck, GateKind, Judge, listed
from kinetrum.core.registry.gates.reader import Reader, wrong

RECORDED = ("data", "code", "committed")


@dataclass(frozen=True)
class Recorded(Gate):
    """The run recorded what it used (`data`), a commit (`code`), and had no uncommitted changes (`committed`)."""

    kind: ClassVar[GateKind] = "recorded"
    title: ClassVar[str] = "data and code recorded"
    several: ClassVar[bool] = False
    form: ClassVar[tuple[FormField, ...]] = (FormField("recorded", "data, code, committed", "data, code", "list"),)

    what: tuple[str, ...]

    @classmethod
    def read(cls, written: Reader) -> Self:
        """Read a list of what must be recorded."""
        wanted = 'a list of "data", "code", "committed"'
        what = written.texts(wanted)
        if not set(what) <= set(RECORDED):
            raise wrong(written.place, wanted)
        return cls(what)

    def written(self) -> list[str]:
        """Return the list."""
        return list(self.what)

    def check(self, candidate: Facts, occupant: Facts | None, judge: Judge, now_s: float) -> GateCheck:
        """Look at what the candidate's run recorded."""
        words = {"data": "the data it used", "code": "its commit", "committed": "no uncommitted changes"}
        asks = f"recorded: {listed([words[one] for one in self.what])}"
        if not candidate.from_run:
            return GateCheck("recorded", asks, False, "no run made it")
        wrong = []
        if "data" in self.what and not candidate.used_data:
            wrong.append("its run recorded no data")
        if {"code", "committed"} & set(self.what) and not candidate.commit:
            wrong.append("its run recorded no commit")
        if "committed" in self.what and candidate.uncommitted:
            wrong.append("its run had uncommitted changes")
        if "committed" in self.what and candidate.untracked:
            more = f" and {len(candidate.untracked) - 3} more" if len(candidate.untracked) > 3 else ""
            wrong.append(f"no commit has {', '.join(candidate.untracked[:3])}{more}, which its run carried out")
        return GateCheck("recorded", asks, not wrong, "; ".join(wrong) or "all of it is")
