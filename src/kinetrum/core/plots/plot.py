"""A plot as it is kept: columns, numbers, a view; checked when it comes from outside."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass, field, fields, replace
from typing import Any, Literal

from kinetrum.core.base.errors import InvalidInput, TooLarge
from kinetrum.core.base.values import Value, from_json, to_json

MARKS = ("line", "steps", "points", "bars", "matrix")
SCALES = ("linear", "log")
SHARES = ("count", "row", "column")
ROWS_LIMIT, COLUMNS_LIMIT, TEXT_LIMIT, NUMBERS_LIMIT = 100_000, 40, 200, 2_000
Columns = Mapping[str, Sequence[Value]]


@dataclass(frozen=True)
class PlotView:
    """How a plot is drawn: which columns, as what, under which names.

    `mark` is one of MARKS. `x` and each of `y` name columns; `group` a column whose values make a series each.
    `x_name` and `y_name` stand at the axes (the columns' own names without), with their units. `share` tells of a
    matrix whether its cells are counts or shares of their row (truth) or column (prediction). `diagonal` draws the
    line of equal values, which is what a good calibration and a perfect prediction lie on.
    """

    mark: Literal["line", "steps", "points", "bars", "matrix"] = "line"
    x: str = ""
    y: tuple[str, ...] = ()
    group: str | None = None
    title: str = ""
    x_name: str = ""
    y_name: str = ""
    x_scale: Literal["linear", "log"] = "linear"
    y_scale: Literal["linear", "log"] = "linear"
    share: Literal["count", "row", "column"] = "count"
    diagonal: bool = False


@dataclass(frozen=True)
class Plot:
    """A plottable outcome: `columns` of equal length by name, `numbers` said of them, and the `view`.

    `kind` is what it was made as (`roc`, `table`, …). `note` says what was left out or could not be computed, with
    the bound that what is shown keeps to.
    """

    kind: str
    columns: Columns
    view: PlotView
    numbers: Mapping[str, float] = field(default_factory=dict)
    note: str = ""

    @property
    def rows(self) -> int:
        """How many rows the columns have."""
        return len(next(iter(self.columns.values()), ()))


def write_plot(plot: Plot) -> dict[str, Any]:
    """Return a plot as JSON data."""
    return {
        "kind": plot.kind,
        "columns": {name: [to_json(value) for value in column] for name, column in plot.columns.items()},
        "view": {**asdict(plot.view), "y": list(plot.view.y)},
        "numbers": {name: to_json(value) for name, value in plot.numbers.items()},
        "note": plot.note,
    }


def read_plot(data: Any) -> Plot:
    """Read a plot from JSON data; raises InvalidInput or TooLarge that names the part at fault."""
    if not isinstance(data, dict) or not isinstance(data.get("columns"), dict):
        raise InvalidInput("A plot is an object with columns and a view.", field="plot")
    columns = read_columns(data["columns"])
    numbers = data.get("numbers", {})
    if not isinstance(numbers, dict) or len(numbers) > NUMBERS_LIMIT:
        raise InvalidInput(f"A plot has up to {NUMBERS_LIMIT} numbers by name.", field="numbers")
    kind = _text(data.get("kind", "table"), "kind")
    view = check_view(_view(data.get("view", {})), columns)
    return Plot(
        kind,
        columns,
        view,
        {_text(name, "numbers"): _number(value, name) for name, value in numbers.items()},
        _text(data.get("note", ""), "note", 2_000),
    )


def redeclare(plot: Plot, changes: Mapping[str, Any]) -> Plot:
    """Return the plot with another view: what `changes` names of it. Raises InvalidInput that names what is wrong."""
    return replace(plot, view=check_view(_view({**asdict(plot.view), **changes}), plot.columns))


def read_columns(data: Mapping[str, Any]) -> dict[str, list[Value]]:
    """Check columns: names, equal lengths, values that can be kept, not too many."""
    if len(data) > COLUMNS_LIMIT:
        raise TooLarge(f"A plot has up to {COLUMNS_LIMIT} columns, this one {len(data)}.", field="columns")
    columns: dict[str, list[Value]] = {}
    for name, values in data.items():
        key = _text(name, "columns")
        if not key or not isinstance(values, list):
            raise InvalidInput(f"The column {name!r} is a list of values under a name.", field="columns")
        if len(values) > ROWS_LIMIT:
            raise TooLarge(f"A plot has up to {ROWS_LIMIT} rows; {name!r} has {len(values)}.", field="columns")
        columns[key] = [_cell(value, key) for value in values]
    lengths = {name: len(values) for name, values in columns.items()}
    if len(set(lengths.values())) > 1:
        raise InvalidInput(f"The columns have different lengths: {lengths}.", field="columns")
    return columns


def check_view(view: PlotView, columns: Columns) -> PlotView:
    """Check that a view fits columns; raises InvalidInput that names the part and what is there."""
    for name, value, allowed in (
        ("mark", view.mark, MARKS),
        ("x_scale", view.x_scale, SCALES),
        ("y_scale", view.y_scale, SCALES),
        ("share", view.share, SHARES),
    ):
        if value not in allowed:
            raise InvalidInput(f"{name} is {value!r}; it is one of {', '.join(allowed)}.", field=f"view.{name}")
    for name, wanted in (("x", [view.x]), ("y", list(view.y)), ("group", [view.group] if view.group else [])):
        for column in wanted:
            if column not in columns:
                there = ", ".join(list(columns)[:12]) or "none"
                raise InvalidInput(f"{name} names the column {column!r}; there are {there}.", field=f"view.{name}")
    if not view.y:
        raise InvalidInput("y names at least one column.", field="view.y")
    return view


def _view(data: Any) -> PlotView:
    if not isinstance(data, dict):
        raise InvalidInput("A view is an object.", field="view")
    known = {field.name for field in fields(PlotView)}
    odd = sorted(set(data) - known)
    if odd:
        raise InvalidInput(f"A view has no {odd[0]!r}; it has {', '.join(sorted(known))}.", field=f"view.{odd[0]}")
    y = data.get("y", ())
    if isinstance(y, str):
        y = [y]
    if not isinstance(y, list | tuple) or len(y) > COLUMNS_LIMIT:
        raise InvalidInput("y names a column, or several in a list.", field="view.y")
    texts: dict[str, Any] = {
        name: _text(data[name], f"view.{name}")
        for name in ("mark", "x", "title", "x_name", "y_name", "x_scale", "y_scale", "share")
        if name in data
    }
    group = data.get("group")
    return PlotView(
        **texts,
        y=tuple(_text(name, "view.y") for name in y),
        group=None if group is None else _text(group, "view.group"),
        diagonal=data.get("diagonal", False) is True,
    )


def _text(value: Any, where: str, limit: int = TEXT_LIMIT) -> str:
    if not isinstance(value, str) or len(value) > limit or not all(c.isprintable() for c in value):
        raise InvalidInput(f"{where} is a printable text of up to {limit} characters.", field=where)
    return value


def _cell(value: Any, name: str) -> Value:
    cell = from_json(value, name)
    if isinstance(cell, list) or (isinstance(cell, str) and len(cell) > TEXT_LIMIT):
        raise InvalidInput(
            f"The column {name!r} holds numbers, texts of up to {TEXT_LIMIT} characters, true, false or null.",
            field="columns",
        )
    return cell


def _number(value: Any, name: Any) -> float:
    number = from_json(value, str(name))
    if isinstance(number, bool) or not isinstance(number, int | float):
        raise InvalidInput(f"{name!r} is not a number.", field="numbers")
    return float(number)
