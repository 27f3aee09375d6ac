"""What runs that fit a query hold: how many have a key, the range of its numbers, its frequent values."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any

from kinetrum.core.base.values import Value
from kinetrum.core.query.settled import Field, Key, Kinds
from kinetrum.storage.db.database import places, query
from kinetrum.storage.search.run_catalogue import IS_TEXT, Searched
from kinetrum.storage.search.run_query import Filter, sql_pattern
from kinetrum.storage.search.run_search import RunSearch

FREQUENT_LIMIT = 50
_MARKED = {"\x01true": True, "\x01false": False, "\x01null": None}
_FIELD_COLUMNS = {
    "status": "r.status",
    "host": "r.host",
    "name": "r.name",
    "author": "(SELECT a.name FROM person a WHERE a.person_id = r.author_id)",
    "experiment": "(SELECT e.name FROM experiment e WHERE e.experiment_id = r.experiment_id)",
}
COUNTED_FIELDS = tuple(_FIELD_COLUMNS)


@dataclass(frozen=True)
class Range:
    """The lowest and highest number that any run recorded under a key."""

    low: float
    high: float


@dataclass(frozen=True)
class Frequent:
    """A value and how many runs have it."""

    value: Value
    runs: int


@dataclass(frozen=True)
class Facet:
    """One source over runs: how many have it, how many of those NaN, its range, its frequent values."""

    runs: int
    nans: int
    range: Range | None
    values: list[Frequent]
    values_left_out: int


@dataclass(frozen=True)
class HeldValues:
    """What any run recorded under a key: kinds of values, and the range of its numbers."""

    kinds: Kinds
    range: Range | None


def held_by_keys(searched: Searched, key_ids: Sequence[int]) -> dict[int, HeldValues]:
    """Return what keys hold, off the ends of the index, whatever the number of runs; the bin is not left out."""
    held_of_key: dict[int, HeldValues] = {}
    for key_id, low, high in _ends("value_num", "num", searched, key_ids):
        before = held_of_key.get(key_id)
        known = before.range if before and before.range else Range(low, high)
        held_of_key[key_id] = HeldValues(Kinds.NUMBER, Range(min(low, known.low), max(high, known.high)))
    for key_id, low, high in _ends("value_text", "text", searched, key_ids):
        before = held_of_key.get(key_id, HeldValues(Kinds(0), None))
        kinds = Kinds.SPECIAL if "\x01" <= low < "\x02" else Kinds(0)
        if low < "\x01" or "\x02" <= low < "\x03" or high >= "\x04" or "\x02" <= high < "\x03":
            kinds |= Kinds.TEXT
        held_of_key[key_id] = HeldValues(before.kinds | kinds, before.range)
    return held_of_key


def _ends(table: str, column: str, searched: Searched, key_ids: Sequence[int]) -> Iterator[tuple[int, Any, Any]]:
    for experiment_id in searched.ids:
        for start in range(0, len(key_ids), 500):
            part = list(key_ids[start : start + 500])
            yield from query(
                f"SELECT key_id, MIN({column}), MAX({column}) FROM {table} WHERE key_id IN {places(part)}"
                " AND experiment_id = %s GROUP BY key_id",
                *part,
                experiment_id,
            )


def facet(search: RunSearch, source: Key | Field, beginning: str = "", limit: int = FREQUENT_LIMIT) -> Facet:
    """Count one source over the runs of a search; `beginning` keeps texts that hold it and numbers that begin so."""
    if isinstance(source, Field):
        return _of_field(search, source, beginning, limit)
    index_place = search.catalogue.index_places(source)
    kinds = search.catalogue.kinds(source)
    if not index_place or kinds is None:
        return Facet(0, 0, None, [], 0)
    key_id = index_place[0].key_id
    numbers = _numbers(search, key_id, limit) if Kinds.NUMBER in kinds else _NONE
    texts = _texts(search, key_id, beginning, limit)
    frequent = [each for each in numbers.values if str(each.value).startswith(beginning)] + texts.values
    frequent = sorted(frequent, key=lambda each: -each.runs)[:limit]
    # A whole number beyond 2^53 stands in both tables.
    return Facet(
        numbers.runs + texts.runs - texts.marks,
        texts.nans,
        numbers.range,
        frequent,
        max(0, numbers.distinct + texts.distinct - len(frequent)),
    )


@dataclass(frozen=True)
class _Counted:
    """One table's part of a facet."""

    runs: int
    distinct: int
    values: list[Frequent]
    range: Range | None = None
    nans: int = 0
    marks: int = 0


_NONE = _Counted(0, 0, [])


def _numbers(search: RunSearch, key_id: int, limit: int) -> _Counted:
    column = _column(search, "value_num", key_id)
    # One pass over the runs: the sums stand beside the most frequent values.
    rows = search.ask(
        "SELECT num, n, SUM(n) OVER (), COUNT(*) OVER (), MIN(num) OVER (), MAX(num) OVER ()"
        f" FROM (SELECT v.num, COUNT(*) n FROM {column.sql} GROUP BY v.num) g ORDER BY n DESC, num LIMIT %s",
        *column.values,
        limit,
    )
    if not rows:
        return _NONE
    _, _, runs, distinct, low, high = rows[0]
    values = [Frequent(plain_number(number), int(count)) for number, count, *_ in rows]
    return _Counted(int(runs), int(distinct), values, Range(low, high))


def _texts(search: RunSearch, key_id: int, beginning: str, limit: int) -> _Counted:
    column = _column(search, "value_text", key_id)
    shown = f"({IS_TEXT} AND LOWER(v.text) LIKE %s)" if beginning else f"({IS_TEXT} OR v.text IN (%s, %s, %s))"
    wanted = (sql_pattern(f"*{beginning}*"),) if beginning else tuple(_MARKED)
    rows = search.ask(
        "SELECT text, n, fits, SUM(n) OVER (), SUM(n * (text = '\x01NaN')) OVER (), COUNT(*) OVER (),"
        " SUM(n * (text >= '\x03' AND text < '\x04')) OVER ()"
        f" FROM (SELECT v.text, COUNT(*) n, {shown} fits FROM {column.sql} GROUP BY v.text) g"
        " ORDER BY fits DESC, n DESC, text LIMIT %s",
        *wanted,
        *column.values,
        limit,
    )
    if not rows:
        return _NONE
    _, _, _, runs, nans, distinct, marks = rows[0]
    values = [Frequent(_MARKED.get(text, text), int(count)) for text, count, fits, *_ in rows if fits]
    return _Counted(int(runs), int(distinct), values, None, int(nans), int(marks))


def _column(search: RunSearch, table: str, key_id: int) -> Filter:
    """Say where a key's values stand: alone in the index, where every run fits and none is in the bin."""
    if search.everything:
        searched = search.searched
        return Filter(f"{table} v WHERE v.key_id = %s AND v.experiment_id {searched.within}", (key_id, *searched.ids))
    return search.joined(
        f"JOIN {table} v ON v.key_id = %s AND v.experiment_id = r.experiment_id AND v.run_id = r.run_id", (key_id,)
    )


def _of_field(search: RunSearch, field: Field, beginning: str, limit: int) -> Facet:
    column = _FIELD_COLUMNS.get(field.name)
    if column is None:
        return Facet(0, 0, None, [], 0)
    runs = search.joined()
    like, wanted = (f" AND LOWER({column}) LIKE %s", (sql_pattern(f"*{beginning}*"),)) if beginning else ("", ())
    rows = search.ask(
        f"SELECT {column} held, COUNT(*) n FROM {runs.sql} AND {column} <> ''{like} GROUP BY held"
        " ORDER BY n DESC, held LIMIT %s",
        *runs.values,
        *wanted,
        limit + 1,
    )
    ((having, distinct),) = search.ask(
        f"SELECT COUNT(*), COUNT(DISTINCT {column}) FROM {runs.sql} AND {column} <> ''", *runs.values
    )
    frequent = [Frequent(value, count) for value, count in rows[:limit]]
    return Facet(int(having), 0, None, frequent, max(0, int(distinct) - len(frequent)))


def plain_number(number: float) -> float | int:
    """Return a whole number as one, where a float holds it exactly."""
    return int(number) if number.is_integer() and abs(number) < 2**53 else number
