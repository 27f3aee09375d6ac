"""Grouping: the runs that fit a query by what they have in one column, with the spread of their numbers.

First the groups of one page are found and put in order, then what their runs hold is added up: one statement for all
numbers, one for all texts. NaN is no number: it is left out of a mean, and the counts say so.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

from kinetrum.core.base.values import Value
from kinetrum.core.query.settled import Field, Key, Kinds
from kinetrum.core.query.sorting import SortKey
from kinetrum.storage.db.database import places
from kinetrum.storage.search.run_facets import plain_number
from kinetrum.storage.search.run_search import RunSearch

_MARKED: dict[str, Value] = {"\x01true": True, "\x01false": False, "\x01null": None, "\x01NaN": float("nan")}
_FIELD_COLUMNS = {
    "status": "r.status",
    "host": "NULLIF(r.host, '')",
    "name": "r.name",
    "author": "(SELECT a.name FROM person a WHERE a.person_id = r.author_id)",
    "experiment": "(SELECT e.name FROM experiment e WHERE e.experiment_id = r.experiment_id)",
    "parent": "LOWER(HEX(r.parent_uid))",
}
GROUPED_FIELDS = (*_FIELD_COLUMNS, "commit", "code", "replicates")


@dataclass(frozen=True)
class Spread:
    """Numbers of a group in one column: how many runs have one, mean, standard deviation of the sample, ends."""

    runs: int
    mean: float
    deviation: float | None
    low: float
    high: float


@dataclass
class RunGroup:
    """Runs that share a value; `present` is false for those that lack it. `shared` holds equal values by column."""

    present: bool
    value: Value
    raw: str | float | None
    runs: int
    last_run_id: int
    spreads: dict[Key, Spread] = field(default_factory=dict)
    shared: dict[Key, Value] = field(default_factory=dict)
    several: dict[Key, int] = field(default_factory=dict)


@dataclass(frozen=True)
class _Grouping:
    """How groups are told apart in SQL: joins with their values, and the expression."""

    joins: str
    values: tuple[Any, ...]
    expression: str


class RunGroups:
    """Groups of one search by one source."""

    def __init__(self, search: RunSearch, by: Key | Field) -> None:
        self.search, self.by = search, by
        self._how = self._grouping()

    def _grouping(self) -> _Grouping:
        if isinstance(self.by, Field) and self.by.name in _FIELD_COLUMNS:
            return _Grouping("", (), _FIELD_COLUMNS[self.by.name])
        key = Key("field", self.by.name) if isinstance(self.by, Field) else self.by
        index_place = self.search.catalogue.index_places(key)
        key_id = index_place[0].key_id if index_place else 0
        kinds = Kinds.TEXT if isinstance(self.by, Field) else self.search.catalogue.kinds(key) or Kinds.TEXT
        here = "LEFT JOIN {1} {0} ON {0}.key_id = %s AND {0}.experiment_id = r.experiment_id AND {0}.run_id = r.run_id"
        # Written as a text a number keeps all its digits, and beside a text it cannot be taken for one.
        joins, texts = [], []
        if kinds != Kinds.NUMBER:
            joins.append(here.format("gt", "value_text"))
            texts.append("CONCAT('t', gt.text)")
        if Kinds.NUMBER in kinds or Kinds.SPECIAL in kinds:
            joins.append(here.format("gn", "value_num"))
            texts.append("CONCAT('n', CAST(gn.num AS CHAR))")
        expression = texts[0] if len(texts) == 1 else f"COALESCE({', '.join(texts)})"
        return _Grouping(" ".join(joins), (key_id,) * len(joins), expression)

    def page(self, sort: SortKey | None, offset: int, limit: int) -> tuple[list[RunGroup], int]:
        """Return groups in order, by the mean of a column or by size, and how many there are.

        Runs that lack the source are a group that comes last; past the last group there are none.
        """
        joins, values, order, mean = self._how.joins, self._how.values, "n DESC", "NULL"
        if sort is not None and isinstance(sort.source, Key):
            index_place = self.search.catalogue.index_places(sort.source)
            joins += (
                " LEFT JOIN value_num o ON o.key_id = %s AND o.experiment_id = r.experiment_id AND o.run_id = r.run_id"
            )
            values = (*values, index_place[0].key_id if index_place else 0)
            mean, order = "AVG(o.num)", f"mean IS NULL, mean {'DESC' if sort.descending else 'ASC'}"
        elif sort is not None:
            order = f"last {'DESC' if sort.descending else 'ASC'}"
        runs = self.search.joined(joins, values)
        rows = self.search.ask(
            f"SELECT g.*, COUNT(*) OVER () FROM (SELECT {self._how.expression} held, COUNT(*) n, MAX(r.run_id) last,"
            f" {mean} mean FROM {runs.sql} GROUP BY held) g ORDER BY held IS NULL, {order}, last DESC"
            " LIMIT %s OFFSET %s",
            *runs.values,
            limit,
            offset,
        )
        groups = [self._group(value, count, last) for value, count, last, _, _ in rows]
        return groups, int(rows[0][-1]) if rows else 0

    def _group(self, held_value: str | None, count: int, last: int) -> RunGroup:
        if held_value is None:
            return RunGroup(False, None, None, int(count), last)
        if not self._how.joins:
            return RunGroup(True, held_value, held_value, int(count), last)
        text = held_value[1:]
        value: Value = plain_number(float(text)) if held_value[0] == "n" else _MARKED.get(text, text)
        return RunGroup(True, value, held_value, int(count), last)

    def add_up(self, groups: list[RunGroup], columns: Sequence[Key]) -> None:
        """Add to each group the spread of its numbers and what its runs share, column by column."""
        ids = {place.key_id: key for key in columns for place in self.search.catalogue.index_places(key)[:1]}
        if not ids or not groups:
            return
        by_raw = {group.raw: group for group in groups}
        kinds = {key: self.search.catalogue.kinds(key) or Kinds.TEXT for key in columns}
        texts = {key_id: key for key_id, key in ids.items() if kinds[key] != Kinds.NUMBER}
        for value, key_id, count, mean, deviation, low, high in self._summed(
            "num", "COUNT(*), AVG({0}), STDDEV_SAMP({0}), MIN({0}), MAX({0})", ids, groups
        ):
            group = by_raw.get(value)
            if group is not None:
                spread = Spread(int(count), mean, deviation, low, high)
                group.spreads[ids[key_id]] = spread
                if low == high and spread.runs == group.runs:
                    group.shared[ids[key_id]] = plain_number(low)
        for value, key_id, count, low, high, distinct in self._summed(
            "text", "COUNT(*), MIN({0}), MAX({0}), COUNT(DISTINCT {0})", texts, groups
        ):
            group, key = by_raw.get(value), ids[key_id]
            if group is None or key in group.spreads:
                continue
            if low == high and int(count) == group.runs and not low.startswith(("\x02", "\x03")):
                group.shared[key] = _MARKED.get(low, low)
            else:
                group.several[key] = int(distinct)

    def _summed(self, column: str, sums: str, ids: dict[int, Key], groups: list[RunGroup]) -> list[tuple[Any, ...]]:
        if not ids:
            return []
        table = f"value_{column}"
        raws = [group.raw for group in groups if group.present]
        parts = []
        if raws:
            parts.append(f"{self._how.expression} IN {places(raws)}")
        if any(not group.present for group in groups):
            parts.append(f"{self._how.expression} IS NULL")
        among = " OR ".join(parts)
        if self.search.everything and self._how.joins:
            # Nothing is asked of the runs themselves: the values stand in their place.
            within, experiments = self.search.searched.within, self.search.searched.ids
            return self.search.ask(
                f"SELECT {self._how.expression} held, r.key_id, {sums.format(f'r.{column}')} FROM {table} r"
                f" {self._how.joins} WHERE r.key_id IN {places(list(ids))} AND r.experiment_id {within} AND ({among})"
                " GROUP BY held, r.key_id",
                *self._how.values,
                *ids,
                *experiments,
                *raws,
            )
        joins = f"{self._how.joins} JOIN {table} c ON c.experiment_id = r.experiment_id AND c.run_id = r.run_id"
        runs = self.search.joined(f"{joins} AND c.key_id IN {places(list(ids))}", (*self._how.values, *ids))
        return self.search.ask(
            f"SELECT {self._how.expression} held, c.key_id, {sums.format(f'c.{column}')} FROM {runs.sql}"
            f" AND ({among}) GROUP BY held, c.key_id",
            *runs.values,
            *raws,
        )
