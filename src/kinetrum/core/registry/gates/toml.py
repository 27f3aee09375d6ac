"""The gates of a ladder as TOML, a table per stage: read, written, and one more added where people ask by a form."""

from __future__ import annotations

import math
import tomllib
from collections.abc import Mapping, Sequence
from typing import Any

from kinetrum.core.base.errors import InvalidInput
from kinetrum.core.registry.gates.approvals import Approvals
from kinetrum.core.registry.gates.better import Better
from kinetrum.core.registry.gates.bound import Bound
from kinetrum.core.registry.gates.card import Card
from kinetrum.core.registry.gates.evidence import Fresh
from kinetrum.core.registry.gates.kind import FormField, Gate
from kinetrum.core.registry.gates.reader import Reader, wrong
from kinetrum.core.registry.gates.recorded import Recorded
from kinetrum.core.registry.gates.signature import HasSignature

GATES_LIMIT, TEXT_LIMIT = 40, 20_000
# From here on a float does not hold every whole number.
EXACT_BELOW = 2**53
# In the order in which a stage's gates are judged and shown.
KINDS: tuple[type[Gate], ...] = (Bound, Better, Fresh, Approvals, Card, HasSignature, Recorded)
_BY_NAME: dict[str, type[Gate]] = {kind.kind: kind for kind in KINDS}


def read_gates(text: str, stages: Sequence[str]) -> dict[str, tuple[Gate, ...]]:
    """Read the gates of a ladder, a table per stage.

    Raises InvalidInput that names the table and key that is wrong and what would be right.
    """
    if len(text) > TEXT_LIMIT:
        raise InvalidInput(f"Gates have up to {TEXT_LIMIT:,} characters.", field="gates")
    try:
        tables = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise InvalidInput(f"This is not TOML: {error}.", field="gates") from error
    gates = {}
    for stage, table in tables.items():
        if stage not in stages:
            raise InvalidInput(
                f"No stage is named {stage!r}; the ladder is {', '.join(stages)}.", field=f"gates.{stage}"
            )
        if not isinstance(table, dict):
            raise wrong(stage, f"a table, as in [{stage}]")
        gates[stage] = _of_stage(stage, table)
    return gates


def _of_stage(stage: str, table: Mapping[str, Any]) -> tuple[Gate, ...]:
    for key in table:
        if key not in _BY_NAME:
            raise wrong(f"{stage}.{key}", f"not a gate; the gates are {', '.join(sorted(_BY_NAME))}", said="is")
    gates: list[Gate] = []
    for kind in KINDS:
        place = f"{stage}.{kind.kind}"
        if kind.several:
            parts = _tables(table.get(kind.kind, []), place)
            gates += [kind.read(Reader(part, f"{place}[{at}]")) for at, part in enumerate(parts)]
        elif kind.kind in table:
            gates.append(kind.read(Reader(table[kind.kind], place)))
    if len(gates) > GATES_LIMIT:
        raise wrong(stage, f"up to {GATES_LIMIT} gates")
    return tuple(gates)


def _tables(value: Any, place: str) -> list[Mapping[str, Any]]:
    if not isinstance(value, list) or not all(isinstance(one, dict) for one in value):
        raise wrong(place, f"tables, as in [[{place}]]")
    return value


def write_gates(gates: Mapping[str, Sequence[Gate]]) -> str:
    """Write gates as the TOML that `read_gates` reads."""
    import tomlkit

    document = tomlkit.document()
    for stage, of_stage in gates.items():
        table = tomlkit.table()
        # Keys before tables: what follows a table's head belongs to that table.
        for gate in of_stage:
            if not gate.several:
                table[gate.kind] = gate.written()
        for kind in KINDS:
            rows = tomlkit.aot()
            for gate in of_stage:
                if isinstance(gate, kind) and kind.several:
                    rows.append(tomlkit.item(gate.written()))
            if len(rows):
                table[kind.kind] = rows
        document[stage] = table
    return tomlkit.dumps(document)


def add_gate(text: str, stages: Sequence[str], stage: str, kind_name: str, fields: Mapping[str, str]) -> str:
    """Return gates with one more, asked for by the fields of a form; comments and order of the text stay.

    Of a kind that a stage has once, the new one takes the place of the one there. Raises InvalidInput that names the
    field, kind or stage that is wrong.
    """
    import tomlkit

    if stage not in stages:
        raise InvalidInput(f"No stage is named {stage!r}; the ladder is {', '.join(stages)}.", field="stage")
    kind = _BY_NAME.get(kind_name)
    if kind is None:
        raise InvalidInput(f"Unknown gate {kind_name!r}. Choose one of: {', '.join(_BY_NAME)}.", field="kind")
    unknown = sorted(fields.keys() - {field.name for field in kind.form})
    if unknown:
        known = ", ".join(field.name for field in kind.form)
        raise InvalidInput(f"The gate {kind_name} has no field {unknown[0]!r}; it has {known}.", field="fields")
    read_gates(text, stages)
    fields_asked = {field.name: _value(field, fields.get(field.name, field.first)) for field in kind.form}
    fields_asked = {name: value for name, value in fields_asked.items() if value is not None}
    document = tomlkit.parse(text)
    if stage not in document:
        document[stage] = tomlkit.table()
    table: Any = document[stage]
    if not kind.several:
        table[kind.kind] = fields_asked.get(kind.kind, "")
    else:
        row: Any = tomlkit.item(fields_asked)
        row.trivia.indent = "\n"
        if kind.kind not in table:
            table[kind.kind] = tomlkit.aot()
        table[kind.kind].append(row)
    written = tomlkit.dumps(document)
    read_gates(written, stages)
    return written


def _value(field: FormField, text: str) -> Any:
    text = text.strip()
    if not text or text == field.left_out:
        return None
    if field.options and text not in field.options:
        raise InvalidInput(f"{field.title} is {text!r}. Choose one of: {', '.join(field.options)}.", field=field.name)
    if field.form == "list":
        return [part.strip() for part in text.split(",") if part.strip()]
    if field.form == "text":
        return text
    return _number(field, text)


def _number(field: FormField, text: str) -> int | float:
    """Read a number of a form; an infinite one bounds nothing, and is taken for a slip."""
    try:
        number = float(text)
    except ValueError:
        number = math.nan
    if not math.isfinite(number):
        raise InvalidInput(f"{field.title} is {text!r}; write a number.", field=field.name)
    return int(number) if number.is_integer() and "." not in text and abs(number) < EXACT_BELOW else number
