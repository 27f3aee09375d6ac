"""Rows that fit: conditions on columns, a text to be found, rows that were predicted wrong; sorted, a page of them."""

from __future__ import annotations

import difflib
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import pyarrow as pa
from pyarrow import compute as pc

from kinetrum.core.base.errors import InvalidInput
from kinetrum.core.base.values import Value, to_json
from kinetrum.core.rows.condition import Condition, parse_condition
from kinetrum.core.rows.row_query import PAGE_LIMIT, Page, RowQuery

CELL_LIMIT, CONDITIONS_LIMIT = 1_000, 50
TRUTH, PREDICTION, ERROR = "truth", "prediction", "error"
_OPERATORS = {
    "=": pc.equal,
    "!=": pc.not_equal,
    "<": pc.less,
    "<=": pc.less_equal,
    ">": pc.greater,
    ">=": pc.greater_equal,
}


def select_rows(table: pa.Table, query: RowQuery) -> Page:
    """Return a page of the rows that fit. Raises InvalidInput that names the condition or column at fault."""
    judged = {TRUTH, PREDICTION} <= set(table.column_names)
    if query.wrong and not judged:
        raise InvalidInput("Only a table with columns truth and prediction has rows that are wrong.", field="wrong")
    table, wrong = with_errors(table) if judged else (table, None)
    of = table.num_rows
    selected = narrowed(table, query.where, query.find)
    sort = query.sort
    if query.wrong and wrong is not None:
        selected = selected.filter(wrong_of(selected))
        if ERROR in selected.column_names and not sort:
            selected = selected.take(pc.sort_indices(pc.abs(selected[ERROR]), sort_keys=[("", "descending")]))
    wrong_rows = None if wrong is None else int(pc.sum(wrong).as_py() or 0)
    return page_of(selected, replace(query, sort=sort), Whole(of, judged, wrong=wrong_rows))


@dataclass(frozen=True)
class Whole:
    """What is told of all rows beside a page of those that fit: how many, how many wrong, and of each outcome."""

    of: int
    judged: bool
    wrong: int | None = None
    counts: dict[str, int] = field(default_factory=dict)
    key: str | None = None


def page_of(selected: pa.Table, query: RowQuery, whole: Whole) -> Page:
    """Return a page of the rows that fit, sorted where that is asked."""
    selected = _sorted(selected, query.sort)
    limit = max(0, min(query.limit, PAGE_LIMIT))
    part = selected.slice(max(0, query.offset), limit)
    columns = [[_cell(value) for value in column.to_pylist()] for column in part.columns]
    rows = [list(row) for row in zip(*columns, strict=True)] if columns else []
    types = [(column.name, _type_name(column.type)) for column in selected.schema]
    return Page(types, rows, selected.num_rows, whole.of, whole.judged, whole.wrong, whole.counts, whole.key)


def with_errors(table: pa.Table) -> tuple[pa.Table, Any]:
    """Return the table, of numbers with the column `error` (prediction less truth), and which rows are wrong."""
    if is_regression(table) and ERROR not in table.column_names:
        error = pc.subtract(pc.cast(table[PREDICTION], pa.float64()), pc.cast(table[TRUTH], pa.float64()))
        table = table.append_column(ERROR, error)
    return table, wrong_of(table)


def wrong_of(table: pa.Table) -> Any:
    """Tell of each row whether what was predicted is not what was true; without one of both it is wrong."""
    truth, predicted = table[TRUTH], table[PREDICTION]
    if truth.type != predicted.type:
        number = _is_number(truth.type) and _is_number(predicted.type)
        truth, predicted = (pc.cast(column, pa.float64() if number else pa.string()) for column in (truth, predicted))
    return pc.fill_null(pc.not_equal(truth, predicted), True)


def is_regression(table: pa.Table) -> bool:
    """Tell whether truths and predictions are numbers, not classes."""
    return bool(pa.types.is_floating(table[TRUTH].type)) and _is_number(table[PREDICTION].type)


def _is_number(kind: pa.DataType) -> bool:
    return any(test(kind) for test in (pa.types.is_integer, pa.types.is_floating, pa.types.is_decimal))


def narrowed(table: pa.Table, where: Sequence[str], find: str) -> pa.Table:
    """Return the rows for which all conditions hold and in which the text stands."""
    if len(where) > CONDITIONS_LIMIT:
        raise InvalidInput(f"There are {len(where)} conditions; up to {CONDITIONS_LIMIT} are taken.", field="where")
    for text in where:
        condition = parse_condition(text)
        if condition is not None:
            table = table.filter(pc.fill_null(_fits(table, condition, text), False))
    if find:
        fits = None
        for column in table.columns:
            text_column = column if pa.types.is_string(column.type) else texts_of(column)
            here = pc.fill_null(pc.match_substring(text_column, find, ignore_case=True), False)
            fits = here if fits is None else pc.or_(fits, here)
        table = table.filter(fits) if fits is not None else table
    return table


def texts_of(column: Any) -> Any:
    """Return a column as texts."""
    try:
        return pc.cast(column, pa.string())
    except pa.ArrowException:
        return pa.chunked_array([[None if value is None else str(value) for value in column.to_pylist()]], pa.string())


def named_column(table: pa.Table, name: str, field_name: str) -> Any:
    """Return a column; raises InvalidInput with the nearest names where there is none of that name."""
    if name not in table.column_names:
        near = difflib.get_close_matches(name, table.column_names, 3, 0.5) or table.column_names[:12]
        raise InvalidInput(f"Unknown column {name!r}. Choose one of: {', '.join(near)}.", field=field_name)
    return table[name]


def _fits(table: pa.Table, condition: Condition, text: str) -> Any:
    name = f"{condition.scope}:{condition.name}" if condition.scope else condition.name
    column = named_column(table, name, "where")
    operator, value = condition.operator, condition.value
    if value is None:
        return pc.is_null(column) if operator == "=" else pc.is_valid(column)
    if _is_number(column.type):
        if isinstance(value, bool) or not isinstance(value, int | float):
            raise InvalidInput(f"{text}: {name} holds numbers; {condition.text!r} is none.", field="where")
        return _OPERATORS[operator](pc.cast(column, pa.float64()), pa.scalar(float(value)))
    if pa.types.is_boolean(column.type):
        if not isinstance(value, bool):
            raise InvalidInput(f"{text}: {name} holds true and false; {condition.text!r} is neither.", field="where")
        return _OPERATORS[operator](column, pa.scalar(value))
    return _OPERATORS[operator](texts_of(column), pa.scalar(condition.text))


def _sorted(table: pa.Table, sort: str) -> pa.Table:
    if not sort:
        return table
    name, _, way = sort.rpartition(":")
    if way not in {"asc", "desc"} or not name:
        name, way = sort, "asc"
    column = named_column(table, name, "sort")
    if not (_is_number(column.type) or pa.types.is_temporal(column.type) or pa.types.is_boolean(column.type)):
        column = texts_of(column)
    # Sorted by place as well, so that equal rows stay in the order of the file.
    keyed = pa.table({"column": column, "place": pa.array(range(table.num_rows), pa.int64())})
    order = "ascending" if way == "asc" else "descending"
    return table.take(pc.sort_indices(keyed, sort_keys=[("column", order), ("place", "ascending")]))


def _type_name(kind: pa.DataType) -> str:
    if _is_number(kind):
        return "number"
    if pa.types.is_boolean(kind):
        return "true or false"
    if pa.types.is_temporal(kind):
        return "time"
    return "text"


def _cell(value: Any) -> Any:
    """Return a value as JSON data: numbers and truths as they are, all else as a bounded text."""
    if value is None or isinstance(value, bool | int | float):
        plain: Value = value
        exact = not isinstance(value, int) or abs(value) < 2**53
        return to_json(plain) if exact else str(value)
    text = value.isoformat() if hasattr(value, "isoformat") else str(value)
    return text if len(text) <= CELL_LIMIT else text[: CELL_LIMIT - 1] + "…"
