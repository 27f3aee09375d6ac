"""Metrics and results from a file that a program writes, while it does and at the end.

A table (CSV, JSON Lines, a JSON list of objects) gives a point per row and column that holds numbers; its step is
the column `step`, `epoch`, `iteration` or `round`, else the row's number from 0 on. A JSON object gives results;
what is nested becomes dotted keys, a list of numbers in it becomes a metric with a point per item.
What is half written is looked at again; only at the end it counts as wrong.
"""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import cast

from kinetrum.core.base.errors import InvalidInput
from kinetrum.core.base.values import Value, check_value

STEP_COLUMNS = ("step", "epoch", "iteration", "round")
SIZE_LIMIT = 64 * 1024 * 1024
_SPECIAL = {"nan": "NaN", "inf": "Infinity", "infinity": "Infinity", "-inf": "-Infinity", "-infinity": "-Infinity"}


@dataclass
class Row:
    """One row: its step and its numbers."""

    step: int
    values: dict[str, float]


@dataclass
class Measured:
    """What a file holds: rows of a table, results of an object, and columns that hold no numbers."""

    rows: list[Row] = field(default_factory=list)
    results: dict[str, Value] = field(default_factory=dict)
    without_numbers: list[str] = field(default_factory=list)


class HalfWritten(Exception):
    """The file cannot be read as it stands; the text says where."""


class MeasuredFile:
    """A file that is read again whenever it changed; `news` returns what was not there before."""

    def __init__(self, path: Path, step_column: str | None = None) -> None:
        self.path, self.step_column = path, step_column
        # What lies there from an earlier run is not of this one.
        self._seen = self._state()
        self._told: dict[tuple[str, int], float] = {}
        self._results: dict[str, Value] = {}
        self.written = False

    def _state(self) -> tuple[int, int] | None:
        try:
            status = self.path.stat()
        except OSError:
            return None
        return status.st_size, status.st_mtime_ns

    def news(self, final: bool = False) -> Measured:
        """Return rows and results that are new or changed since the last call.

        Raises InvalidInput at the end for a file that cannot be read, was never written, or is too large.
        """
        state = self._state()
        if state is None or state == self._seen:
            if final and not self.written:
                what = "was not written" if state is None else "lies there from before and was not written"
                raise InvalidInput(f"The metrics file {self.path} {what}.", field="metrics")
            if not final or state is None:
                return Measured()
        self._seen, self.written = state, True
        try:
            return self._new_of(read_measured(self.path, self.step_column, final))
        except HalfWritten as error:
            if final:
                raise InvalidInput(f"The metrics file {self.path}: {error}", field="metrics") from None
            return Measured()

    def _new_of(self, measured: Measured) -> Measured:
        rows = []
        for row in measured.rows:
            fresh = {
                key: value for key, value in row.values.items() if repr(self._told.get((key, row.step))) != repr(value)
            }
            self._told.update({(key, row.step): value for key, value in fresh.items()})
            if fresh:
                rows.append(Row(row.step, fresh))
        results = {key: value for key, value in measured.results.items() if repr(self._results.get(key)) != repr(value)}
        self._results.update(results)
        return Measured(rows, results, measured.without_numbers)


def read_measured(path: Path, step_column: str | None = None, final: bool = True) -> Measured:
    """Read a metrics file; unless `final`, a last line without its end is left for later."""
    try:
        with path.open("rb") as file:
            raw = file.read(SIZE_LIMIT + 1)
    except OSError as error:
        raise HalfWritten(f"it cannot be read ({error.strerror}).") from None
    if len(raw) > SIZE_LIMIT:
        raise InvalidInput(f"The metrics file {path} has over {SIZE_LIMIT} bytes; record its end.", field="metrics")
    try:
        text = raw.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise HalfWritten(f"it is not UTF-8 text at byte {error.start}.") from None
    if path.suffix.lower() in {".csv", ".tsv"}:
        return _of_rows(_csv(text, "\t" if path.suffix.lower() == ".tsv" else None, final), step_column)
    lines = text.splitlines() if text.endswith("\n") or final else text.splitlines()[:-1]
    if path.suffix.lower() in {".jsonl", ".ndjson"}:
        return _of_rows(list(_json_lines(lines)), step_column)
    return _json(text, lines, step_column)


def _csv(text: str, separator: str | None, final: bool) -> list[dict[str, object]]:
    if not final and not text.endswith("\n"):
        text = text[: text.rfind("\n") + 1]
    head = text.split("\n", 1)[0]
    if separator is None:
        separator = max(",;\t", key=head.count)
    reader = csv.DictReader(io.StringIO(text), delimiter=separator, skipinitialspace=True)
    try:
        return [{key: cell for key, cell in row.items() if key} for row in reader]
    except csv.Error as error:
        raise HalfWritten(f"line {reader.line_num}: {error}.") from None


def _json_lines(lines: list[str]) -> Iterator[dict[str, object]]:
    for number, line in enumerate(lines, 1):
        if not line.strip():
            continue
        try:
            row = json.loads(line)
        except ValueError as error:
            raise HalfWritten(f"line {number} is not JSON ({error}).") from None
        if not isinstance(row, dict):
            raise HalfWritten(f"line {number} is not an object.")
        yield row


def _json(text: str, lines: list[str], step_column: str | None) -> Measured:
    try:
        data = json.loads(text)
    except ValueError as error:
        # Several objects, one to a line, under a name that says JSON.
        if len(lines) > 1 and lines[0].lstrip().startswith("{") and lines[0].rstrip().endswith("}"):
            return _of_rows(list(_json_lines(lines)), step_column)
        raise HalfWritten(f"it is not JSON ({error}).") from None
    if isinstance(data, list) and data and all(isinstance(item, dict) for item in data):
        return _of_rows(data, step_column)
    if not isinstance(data, dict):
        raise HalfWritten("it holds neither an object nor a list of objects.")
    measured = Measured()
    _of_object(data, "", measured)
    measured.rows.sort(key=lambda row: row.step)
    return measured


def _of_object(fields: dict[str, object], prefix: str, into: Measured) -> None:
    for name, value in fields.items():
        key = f"{prefix}{name}"
        if isinstance(value, dict):
            _of_object(value, f"{key}.", into)
        elif isinstance(value, list) and value and all(_is_number(item) for item in value):
            into.rows += [Row(at, {key: float(item)}) for at, item in enumerate(value)]
        elif isinstance(value, list):
            into.without_numbers.append(key)
        elif value is not None:
            into.results[key] = check_value(value, key)


def _is_number(value: object) -> bool:
    return isinstance(value, int | float) and not isinstance(value, bool)


def _of_rows(rows: list[dict[str, object]], step_column: str | None) -> Measured:
    """Turn rows into points; a column in which no cell holds a number is told."""
    flat = [_flat(row) for row in rows]
    names = {name for row in flat for name in row}
    if step_column is not None and step_column not in names and flat:
        raise InvalidInput(f"Unknown column {step_column!r}. Choose one of: {', '.join(sorted(names))}.", field="step")
    steps = step_column or next((name for name in STEP_COLUMNS if name in names), None)
    measured = Measured()
    numeric: set[str] = set()
    for at, row in enumerate(flat):
        step = at
        if steps is not None:
            number = _number(row.get(steps))
            if number is None or number != int(number):
                raise HalfWritten(f"row {at + 1}: the step {row.get(steps)!r} is not a whole number.")
            step = int(number)
        numbers = {name: _number(cell) for name, cell in row.items() if name != steps}
        values = {name: value for name, value in numbers.items() if value is not None}
        numeric |= values.keys()
        measured.rows.append(Row(step, values))
    measured.without_numbers = sorted(names - numeric - {steps or ""})
    return measured


def _flat(row: dict[str, object], prefix: str = "") -> dict[str, object]:
    fields: dict[str, object] = {}
    for name, value in row.items():
        fields |= _flat(value, f"{prefix}{name}.") if isinstance(value, dict) else {f"{prefix}{name}": value}
    return fields


def _number(cell: object) -> float | None:
    if _is_number(cell):
        return float(cast("float", cell))
    if not isinstance(cell, str):
        return None
    try:
        return float(_SPECIAL.get(cell.strip().lower(), cell))
    except ValueError:
        return None
