"""Gates: what a version must meet to enter a stage, read from TOML and judged on facts. Pure."""

from __future__ import annotations

import math
import re
import tomllib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from kinetrum.core.base.errors import InvalidInput
from kinetrum.core.statistics.noise.difference import CONFIDENCE

GATES_LIMIT, TEXT_LIMIT = 40, 20_000
DAY_S = 86_400.0
# Whether evidence must say on which data it was judged, by fingerprint; a gate may take any.
RECORDED_FINGERPRINT, ANY_FINGERPRINT = "recorded", "any"
_UNITS = {"m": 60.0, "h": 3_600.0, "d": DAY_S, "w": 7 * DAY_S}


@dataclass(frozen=True)
class Bound:
    """A value, on named data or (None) of the version's run, is at least or at most a number."""

    value: str
    on: str | None
    at_least: float | None
    at_most: float | None
    fingerprint: str = RECORDED_FINGERPRINT


@dataclass(frozen=True)
class Better:
    """Better than the occupant beyond noise at a confidence, on the same rows of named data.

    `by`: the whole interval of the gain must lie above it, so that the gain is more than `by` beyond noise.
    """

    value: str
    on: str
    by: float
    confidence: float
    fingerprint: str = RECORDED_FINGERPRINT


@dataclass(frozen=True)
class Approvals:
    """So many standing approvals."""

    count: int


@dataclass(frozen=True)
class Card:
    """Sections of the model's card that are written."""

    sections: tuple[str, ...]


@dataclass(frozen=True)
class HasSignature:
    """A signature is present; `compatible`: and fits in the occupant's place."""

    compatible: bool


@dataclass(frozen=True)
class Recorded:
    """The run recorded what it used (`data`), a commit (`code`), and had no uncommitted changes (`committed`)."""

    what: tuple[str, ...]


@dataclass(frozen=True)
class Fresh:
    """Evidence on named data is there, and (where asked) no older than so many seconds."""

    on: str
    within_s: float | None
    within: str
    fingerprint: str = RECORDED_FINGERPRINT


Gate = Bound | Better | Approvals | Card | HasSignature | Recorded | Fresh
RECORDED = ("data", "code", "committed")
_KEYS = {"bound", "better", "approvals", "card", "signature", "recorded", "evidence"}


def read_gates(text: str, stages: Sequence[str]) -> dict[str, tuple[Gate, ...]]:
    """Read the gates of a ladder, a table per stage.

    Raises InvalidInput that names the table and key that is wrong and what would be right.
    """
    if len(text) > TEXT_LIMIT:
        raise InvalidInput(f"Gates have up to {TEXT_LIMIT:,} characters.", field="gates")
    try:
        held = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise InvalidInput(f"This is no TOML: {error}.", field="gates") from error
    found = {}
    for stage, table in held.items():
        if stage not in stages:
            raise InvalidInput(
                f"No stage is named {stage!r}; the ladder is {', '.join(stages)}.", field=f"gates.{stage}"
            )
        if not isinstance(table, dict):
            raise _wrong(stage, f"a table, as in [{stage}]")
        found[stage] = _of_stage(stage, table)
    return found


def _of_stage(stage: str, table: Mapping[str, Any]) -> tuple[Gate, ...]:
    for key in table:
        if key not in _KEYS:
            raise _wrong(f"{stage}.{key}", f"not a gate; the gates are {', '.join(sorted(_KEYS))}", said="is")
    gates: list[Gate] = []
    for key, read in (("bound", _bound), ("better", _better), ("evidence", _fresh)):
        for at, given in enumerate(_tables(table.get(key, []), f"{stage}.{key}")):
            gates.append(read(_Reader(given, f"{stage}.{key}[{at}]")))
    gates += _singles(stage, table)
    if len(gates) > GATES_LIMIT:
        raise _wrong(stage, f"up to {GATES_LIMIT} gates")
    return tuple(gates)


def _singles(stage: str, table: Mapping[str, Any]) -> list[Gate]:
    """Read the gates that a stage has once."""
    gates: list[Gate] = []
    if "approvals" in table:
        count = table["approvals"]
        if not isinstance(count, int) or isinstance(count, bool) or not 1 <= count <= 20:
            raise _wrong(f"{stage}.approvals", "a whole number from 1 to 20")
        gates.append(Approvals(count))
    if "card" in table:
        gates.append(
            Card(_texts(table["card"], f"{stage}.card", 'a list of section titles, as in ["Purpose", "Limits"]'))
        )
    if "signature" in table:
        if table["signature"] not in {"present", "compatible"}:
            raise _wrong(f"{stage}.signature", '"present" or "compatible"')
        gates.append(HasSignature(table["signature"] == "compatible"))
    if "recorded" in table:
        wanted = 'a list of "data", "code", "committed"'
        what = _texts(table["recorded"], f"{stage}.recorded", wanted)
        if not set(what) <= set(RECORDED):
            raise _wrong(f"{stage}.recorded", wanted)
        gates.append(Recorded(what))
    return gates


class _Reader:
    """Takes keys out of a table and refuses what is left."""

    def __init__(self, table: Mapping[str, Any], place: str) -> None:
        self.table, self.place = dict(table), place

    def text(self, key: str, example: str, needed: bool = True) -> str | None:
        given = self.table.pop(key, None)
        if given is None and not needed:
            return None
        if not isinstance(given, str) or not given.strip():
            raise _wrong(f"{self.place}.{key}", f"a text, as in {key} = {example!r}".replace("'", '"'))
        return given

    def fingerprint(self) -> str:
        """Take whether evidence without a data fingerprint counts."""
        given = self.table.pop("fingerprint", RECORDED_FINGERPRINT)
        if given not in {RECORDED_FINGERPRINT, ANY_FINGERPRINT}:
            raise _wrong(f"{self.place}.fingerprint", f'"{RECORDED_FINGERPRINT}" or "{ANY_FINGERPRINT}"')
        return str(given)

    def number(self, key: str, low: float = -math.inf, high: float = math.inf) -> float | None:
        given = self.table.pop(key, None)
        if given is None:
            return None
        if isinstance(given, bool) or not isinstance(given, int | float) or not low <= given <= high:
            edges = (
                f" from {low:g} to {high:g}"
                if math.isfinite(high)
                else f", {low:g} or more"
                if math.isfinite(low)
                else ""
            )
            raise _wrong(f"{self.place}.{key}", f"a number{edges}")
        return float(given)

    def end(self) -> None:
        for key in self.table:
            raise _wrong(f"{self.place}.{key}", "no key of this gate", said="is")


def _bound(given: _Reader) -> Bound:
    value, on = given.text("value", "recall"), given.text("on", "holdout", needed=False)
    least, most = given.number("at_least"), given.number("at_most")
    if least is None and most is None:
        raise _wrong(given.place, "at_least or at_most, or both", said="needs")
    if least is not None and most is not None and least > most:
        raise _wrong(given.place, f"met by nothing: at_least {least:g} is over at_most {most:g}", said="is")
    fingerprint = given.fingerprint()
    given.end()
    return Bound(value or "", on, least, most, fingerprint)


def _better(given: _Reader) -> Better:
    value, on = given.text("value", "recall"), given.text("on", "holdout")
    by, confidence = given.number("by", 0.0), given.number("confidence", 0.5, 0.9999)
    fingerprint = given.fingerprint()
    given.end()
    return Better(value or "", on or "", by or 0.0, CONFIDENCE if confidence is None else confidence, fingerprint)


def _fresh(given: _Reader) -> Fresh:
    on, within = given.text("on", "holdout"), given.text("within", "30d", needed=False)
    found = re.fullmatch(r"(\d+(?:\.\d+)?)([mhdw])", within) if within else None
    if within and not found:
        raise _wrong(f"{given.place}.within", 'a duration, as in "12h", "30d" or "2w"')
    fingerprint = given.fingerprint()
    given.end()
    seconds = float(found[1]) * _UNITS[found[2]] if found else None
    return Fresh(on or "", seconds, within or "", fingerprint)


def _tables(given: Any, place: str) -> list[Mapping[str, Any]]:
    if not isinstance(given, list) or not all(isinstance(one, dict) for one in given):
        raise _wrong(place, f"tables, as in [[{place}]]")
    return given


def _texts(given: Any, place: str, wanted: str) -> tuple[str, ...]:
    if not isinstance(given, list) or not given or not all(isinstance(one, str) and one.strip() for one in given):
        raise _wrong(place, wanted)
    return tuple(dict.fromkeys(given))


def _wrong(place: str, right: str, said: str = "must be") -> InvalidInput:
    return InvalidInput(f"In the gates, {place} {said} {right}.", field=f"gates.{place}")


def write_gates(gates: Mapping[str, Sequence[Gate]]) -> str:
    """Write gates as the TOML that `read_gates` reads."""
    import tomlkit

    document = tomlkit.document()
    for stage, held in gates.items():
        table = tomlkit.table()
        for gate in held:
            found = _single(gate)
            if found:
                table[found[0]] = found[1]
        for key, kind in (("bound", Bound), ("better", Better), ("evidence", Fresh)):
            rows = tomlkit.aot()
            for gate in held:
                if isinstance(gate, kind):
                    rows.append(
                        tomlkit.item({name: one for name, one in _plain(gate).items() if one not in (None, "")})
                    )
            if len(rows):
                table[key] = rows
        document[stage] = table
    return tomlkit.dumps(document)


def _single(gate: Gate) -> tuple[str, object] | None:
    match gate:
        case Approvals(count):
            return "approvals", count
        case Card(sections):
            return "card", list(sections)
        case HasSignature(compatible):
            return "signature", "compatible" if compatible else "present"
        case Recorded(what):
            return "recorded", list(what)
    return None


def _plain(gate: Bound | Better | Fresh) -> dict[str, Any]:
    held = dict(vars(gate))
    held.pop("within_s", None)
    if held["fingerprint"] == RECORDED_FINGERPRINT:
        del held["fingerprint"]
    return held
