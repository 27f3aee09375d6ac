"""Two tables side by side, row by row: joined by a key, each row with what became of it."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import pyarrow as pa
from pyarrow import compute as pc

from kinetrum.core.base.errors import InvalidInput
from kinetrum.core.rows.outcomes import OUTCOMES
from kinetrum.core.rows.row_query import Page, RowQuery
from kinetrum.core.rows.selecting import (
    ERROR,
    PREDICTION,
    TRUTH,
    Whole,
    named_column,
    narrowed,
    page_of,
    texts_of,
    with_errors,
)

OUTCOME, LEFT, RIGHT = "outcome", " left", " right"


def join_tables(left: pa.Table, right: pa.Table, key: str | None, outcomes: Sequence[str], query: RowQuery) -> Page:
    """Join two tables by a row key and return a page of what fits, with the count of every outcome.

    Columns of both stand as `name left` and `name right`, where they are equal in all rows once. Without `key` it is
    the first column that tells the rows of both apart. Where both have truths and predictions the outcomes are newly
    wrong, newly right, both wrong and both right, of numbers farther, nearer and as near; else changed and same; in
    any case only left and only right.
    Raises InvalidInput where the key is missing or stands twice.
    """
    odd = [name for name in outcomes if name not in OUTCOMES]
    if odd:
        raise InvalidInput(f"Unknown outcome {odd[0]!r}. Choose one of: {', '.join(OUTCOMES)}.", field="outcome")
    chosen = row_key(left, right, key)
    judged = all({TRUTH, PREDICTION} <= set(table.column_names) for table in (left, right))
    wrong: list[Any] = [None, None]
    if judged:
        (left, wrong[0]), (right, wrong[1]) = with_errors(left), with_errors(right)
        if all(ERROR in table.column_names for table in (left, right)):
            wrong = [pc.abs(left[ERROR]), pc.abs(right[ERROR])]
    places = _places(left, right, chosen)
    table = _side_by_side(left, right, chosen, places)
    outcome = _outcomes(left, right, chosen, places, wrong if judged else None)
    table = table.add_column(1, OUTCOME, outcome)
    counts = {str(row["values"]): int(row["counts"]) for row in pc.value_counts(outcome).to_pylist()}
    if outcomes:
        table = table.filter(pc.is_in(table[OUTCOME], value_set=pa.array(list(outcomes))))
    selected = narrowed(table, query.where, query.find)
    ordered = {name: counts[name] for name in OUTCOMES if name in counts}
    return page_of(selected, query, Whole(len(outcome), judged, counts=ordered, key=chosen))


def row_key(left: pa.Table, right: pa.Table, key: str | None) -> str:
    """Return the column that tells the rows of both tables apart; raises InvalidInput where none does."""
    if key is not None:
        for table, side in ((left, "left"), (right, "right")):
            twice = _twice(named_column(table, key, "key"))
            if twice is not None:
                raise InvalidInput(f"The row key {key!r} is {twice} in the {side} table.", field="key")
        return key
    for name in left.column_names:
        if name in right.column_names and _twice(left[name]) is None and _twice(right[name]) is None:
            return str(name)
    raise InvalidInput("No column tells the rows of both tables apart; name one that does.", field="key")


def _twice(column: Any) -> str | None:
    if column.null_count:
        return "missing in some rows"
    if len(pc.unique(column)) < len(column):
        counted = pc.value_counts(column)
        at = pc.index(pc.greater(counted.field("counts"), 1), True).as_py()
        return f"{counted.field('values')[at].as_py()!r} in several rows"
    return None


def _places(left: pa.Table, right: pa.Table, key: str) -> tuple[Any, Any]:
    """Return the rows of both, by the left order and then what only the right has; null where a side has none."""
    mine, theirs = left[key], right[key]
    if mine.type != theirs.type:
        mine, theirs = texts_of(mine), texts_of(theirs)
    here = pc.index_in(mine, value_set=theirs)
    there = pc.index_in(theirs, value_set=mine)
    alone = pc.indices_nonzero(pc.is_null(there))
    rows = pa.array(range(left.num_rows), pa.int64())
    first = pa.chunked_array([rows, pa.nulls(len(alone), pa.int64())])
    second = pa.chunked_array([*pc.cast(here, pa.int64()).chunks, pc.cast(alone, pa.int64())], pa.int64())
    return first.combine_chunks(), second.combine_chunks()


def _side_by_side(left: pa.Table, right: pa.Table, key: str, places: tuple[Any, Any]) -> pa.Table:
    one, two = left.take(places[0]), right.take(places[1])
    keys = one[key] if one[key].type == two[key].type else texts_of(one[key])
    others = two[key] if one[key].type == two[key].type else texts_of(two[key])
    columns: dict[str, Any] = {key: pc.coalesce(keys, others)}
    for name in dict.fromkeys([*left.column_names, *right.column_names]):
        if name == key:
            continue
        if name in left.column_names and name in right.column_names:
            if one[name].equals(two[name]):
                columns[name] = one[name]
            elif name == TRUTH and _agree(one[name], two[name]):
                columns[name] = pc.coalesce(one[name], two[name])
            else:
                columns[name + LEFT], columns[name + RIGHT] = one[name], two[name]
        else:
            columns[name] = (one if name in left.column_names else two)[name]
    columns.pop(OUTCOME, None)
    return pa.table(columns)


def _agree(one: Any, two: Any) -> bool:
    """Tell whether two columns hold the same wherever both hold something."""
    if one.type != two.type:
        return False
    return bool(pc.all(pc.fill_null(pc.equal(one, two), True)).as_py() is not False)


def _outcomes(left: pa.Table, right: pa.Table, key: str, places: tuple[Any, Any], wrong: list[Any] | None) -> Any:
    first, second = pc.is_null(places[0]), pc.is_null(places[1])
    if wrong is not None and pa.types.is_floating(wrong[0].type):
        was, now = wrong[0].take(places[0]), wrong[1].take(places[1])
        both = pc.case_when(
            pc.make_struct(pc.fill_null(pc.greater(now, was), False), pc.fill_null(pc.less(now, was), False)),
            pa.scalar("farther"),
            pa.scalar("nearer"),
            pa.scalar("as near"),
        )
    elif wrong is not None:
        was = pc.fill_null(pc.take(wrong[0], places[0]), False)
        now = pc.fill_null(pc.take(wrong[1], places[1]), False)
        both = pc.case_when(
            pc.make_struct(pc.and_(was, now), pc.and_(was, pc.invert(now)), pc.and_(pc.invert(was), now)),
            pa.scalar("both wrong"),
            pa.scalar("newly right"),
            pa.scalar("newly wrong"),
            pa.scalar("both right"),
        )
    else:
        both = pc.if_else(_differs(left, right, key, places), pa.scalar("changed"), pa.scalar("same"))
    return pc.if_else(first, pa.scalar("only right"), pc.if_else(second, pa.scalar("only left"), both))


def _differs(left: pa.Table, right: pa.Table, key: str, places: tuple[Any, Any]) -> Any:
    differs = pa.array([False] * len(places[0]))
    for name in left.column_names:
        if name == key or name not in right.column_names:
            continue
        one, two = left[name].take(places[0]), right[name].take(places[1])
        if one.type != two.type:
            one, two = texts_of(one), texts_of(two)
        equal = pc.or_kleene(
            pc.fill_null(pc.equal(one, two), False),
            pc.and_(pc.is_null(one, nan_is_null=True), pc.is_null(two, nan_is_null=True)),
        )
        differs = pc.or_(differs, pc.invert(pc.fill_null(equal, False)))
    return differs
