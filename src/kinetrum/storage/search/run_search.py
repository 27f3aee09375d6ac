"""Finding runs: filter and sort on the narrow index tables, a page at a time.

Sorted by one number, a page is read off the index in its order and costs the same at any size;
runs that lack the key come last. Counting stops at a cap, and no statement runs over `STATEMENT_S` seconds.
"""

from __future__ import annotations

from collections.abc import Sequence
from functools import cached_property
from typing import Any

import peewee

from kinetrum.core.base.errors import InvalidInput
from kinetrum.core.query.settled import Field, Key
from kinetrum.core.query.sorting import SortKey
from kinetrum.storage.db.database import query
from kinetrum.storage.search.driving_index import DRIVEN_LIMIT, Driver
from kinetrum.storage.search.run_catalogue import IS_TEXT, RunCatalogue
from kinetrum.storage.search.run_query import ALWAYS, Filter

COUNT_CAP = 10_000
STATEMENT_S = 10
_TOOK_TOO_LONG = 1969
_COLUMNS = {
    "number": "r.number",
    "name": "r.name",
    "status": "r.status",
    "host": "r.host",
    "started": "r.started_at",
    "ended": "r.ended_at",
    "author": "(SELECT a.name FROM person a WHERE a.person_id = r.author_id)",
    "duration": "TIMESTAMPDIFF(MICROSECOND, r.started_at, r.ended_at)",
    "experiment": "(SELECT e.name FROM experiment e WHERE e.experiment_id = r.experiment_id)",
}
# These are never empty and stand in an index behind the experiment, whose order they give.
_INDEXED_FIELDS = {"number", "started"}
# Marks of values that are neither number nor short text sort as missing.
_ONLY_TEXTS = f" AND {IS_TEXT}"


class RunSearch:
    """One filtered table of runs. Runs in the bin are out of sight, out of tables and out of counts.

    Where a driver names few runs, they are found and sorted whole; else a page is read in the table's order.
    `fold` leaves out children whose parents are among what is searched; `left` is what of the condition a driver does
    not answer.
    """

    def __init__(
        self,
        catalogue: RunCatalogue,
        where: Filter,
        driver: Driver | None = None,
        rare: bool = False,
        fold: bool = False,
        wide: Driver | None = None,
        left: Filter | None = None,
    ) -> None:
        self.catalogue, self.searched, self.driver = catalogue, catalogue.searched, driver
        # What looks at all runs that fit begins at the smallest set known, also where pages do better without.
        self._wide = driver or wide
        self._filtered, self._fold = fold or where.sql != ALWAYS.sql, fold
        self._where, self._values = self._bounded_to_searched(where)
        # Of the runs that a driver names, what it answers need not be asked again.
        self._left = self._bounded_to_searched(where if left is None else left)
        self._rare = rare
        self._driven: dict[tuple[SortKey, ...], list[int]] = {}

    def _bounded_to_searched(self, where: Filter) -> tuple[str, tuple[Any, ...]]:
        sql = f"r.experiment_id {self.searched.within} AND r.binned_at IS NULL AND {where.sql}"
        values = (*self.searched.ids, *where.values)
        if not self._fold:
            return sql, values
        parents = "SELECT 1 FROM run u WHERE u.uid = r.parent_uid AND u.binned_at IS NULL"
        return (
            f"{sql} AND NOT EXISTS ({parents} AND u.experiment_id {self.searched.within})",
            (*values, *self.searched.ids),
        )

    @cached_property
    def everything(self) -> bool:
        """Tell whether every run of what is searched fits, and none is in the bin."""
        return not self._filtered and not query(
            f"SELECT 1 FROM run WHERE experiment_id {self.searched.within} AND binned_at IS NOT NULL LIMIT 1",
            *self.searched.ids,
        )

    def joined(self, joins: str = "", values: Sequence[Any] = ()) -> Filter:
        """`source joins WHERE condition` over a run `r`: what a statement of one's own says behind FROM."""
        if self._wide is None:
            return Filter(f"run r {joins} WHERE {self._where}", (*values, *self._values))
        driven = f"{self._wide.table} d STRAIGHT_JOIN run r ON r.run_id = d.run_id"
        where, join_values = self._left
        return Filter(f"{driven} {joins} WHERE {where}", (*self._wide.values, *values, *join_values))

    def ask(self, sql: str, *values: Any) -> list[tuple[Any, ...]]:
        """Run a statement of one's own within the bound of time."""
        return self._ask(sql, *values)

    def count(self) -> int:
        """Count the runs, at most one over the cap."""
        for count_found in self._driven.values():
            return min(len(count_found), COUNT_CAP + 1)
        runs = self.joined()
        ((count_found,),) = self._ask(
            f"SELECT COUNT(*) FROM (SELECT 1 FROM {runs.sql} LIMIT %s) counted", *runs.values, COUNT_CAP + 1
        )
        return int(count_found)

    def page(self, sort: Sequence[SortKey], offset: int, limit: int) -> list[int]:
        """Return run ids of one page. Ties are broken by the later run first."""
        if self.driver is not None:
            key = tuple(sort)
            if key not in self._driven:
                self._driven[key] = self._by_joins(sort, 0, DRIVEN_LIMIT + 1)
            return self._driven[key][offset : offset + limit]
        first = sort[0]
        if len(self.searched.experiments) == 1 and isinstance(first.source, Key):
            key_id = self._key_id(first.source)
            if key_id and not self._has_text(key_id):
                if len(sort) == 1:
                    return self._by_number(key_id, first.descending, offset, limit)
                return self._by_threshold(key_id, sort, offset, limit)
        return self._by_joins(sort, offset, limit)

    def _key_id(self, key: Key) -> int:
        index_place = self.catalogue.index_places(key)
        return index_place[0].key_id if index_place else 0

    def _has_text(self, key_id: int) -> bool:
        return bool(
            query(
                f"SELECT 1 FROM value_text v WHERE key_id = %s AND experiment_id {self.searched.within} AND {IS_TEXT}"
                " LIMIT 1",
                key_id,
                *self.searched.ids,
            )
        )

    def _in_order(self, key_id: int, descending: bool, what: str, offset: int, limit: int) -> list[tuple[Any, ...]]:
        """Read the runs that have a number off its index, in its order."""
        way = "DESC" if descending else "ASC"
        # Where every run fits, nothing is asked of the runs themselves: deep pages stay cheap.
        joined = "" if self.everything else f" STRAIGHT_JOIN run r ON r.run_id = s.run_id AND {self._where}"
        return self._ask(
            f"SELECT {what} FROM value_num s FORCE INDEX (value_num_order){joined}"
            f" WHERE s.key_id = %s AND s.experiment_id = %s ORDER BY s.num {way}, s.run_id {way} LIMIT %s OFFSET %s",
            *(self._values if joined else ()),
            key_id,
            *self.searched.ids,
            limit,
            offset,
        )

    def _by_number(self, key_id: int, descending: bool, offset: int, limit: int) -> list[int]:
        run_ids = [run_id for (run_id,) in self._in_order(key_id, descending, "s.run_id", offset, limit)]
        if len(run_ids) == limit:
            return run_ids
        joined = "" if self.everything else f" JOIN run r ON r.run_id = s.run_id AND {self._where}"
        ((numbered,),) = self._ask(
            f"SELECT COUNT(*) FROM value_num s{joined} WHERE s.key_id = %s AND s.experiment_id = %s",
            *(self._values if joined else ()),
            key_id,
            *self.searched.ids,
        )
        if self.everything and int(numbered) == self._held():
            return run_ids
        rest = self._ask(
            f"SELECT r.run_id FROM run r WHERE {self._where} AND NOT EXISTS (SELECT 1 FROM"
            " value_num s WHERE s.key_id = %s AND s.experiment_id = r.experiment_id AND s.run_id = r.run_id)"
            " ORDER BY r.run_id DESC LIMIT %s OFFSET %s",
            *self._values,
            key_id,
            limit - len(run_ids),
            max(0, offset - int(numbered)),
        )
        return run_ids + [run_id for (run_id,) in rest]

    def _held(self) -> int:
        """Count every run of the experiments searched."""
        where = f"experiment_id {self.searched.within}"
        return int(self._ask(f"SELECT COUNT(*) FROM run WHERE {where}", *self.searched.ids)[0][0])

    def _by_threshold(self, key_id: int, sort: Sequence[SortKey], offset: int, limit: int) -> list[int]:
        """Sort by several keys only the runs that reach the page by the first: the others cannot be on it."""
        first = sort[0]
        last = self._in_order(key_id, first.descending, "s.num", offset + limit - 1, 1)
        if not last:
            return self._by_joins(sort, offset, limit)
        operator = ">=" if first.descending else "<="
        reach = f"SELECT t.run_id FROM value_num t WHERE t.key_id = %s AND t.experiment_id = %s AND t.num {operator} %s"
        return self._by_joins(sort, offset, limit, (f"({reach})", (key_id, *self.searched.ids, last[0][0])))

    def _by_joins(
        self, sort: Sequence[SortKey], offset: int, limit: int, within: tuple[str, tuple[Any, ...]] | None = None
    ) -> list[int]:
        where, join_values = self._where, self._values
        if self.driver is not None:
            within = (self.driver.table, self.driver.values)
            where, join_values = self._left
        source, values = (
            ("run r", [])
            if within is None
            else (f"{within[0]} d STRAIGHT_JOIN run r ON r.run_id = d.run_id", list(within[1]))
        )
        joins, order = [], []
        for at, key in enumerate(sort):
            way = "DESC" if key.descending else "ASC"
            if isinstance(key.source, Field):
                column = _COLUMNS[key.source.name]
                order += (
                    [f"{column} {way}"]
                    if key.source.name in _INDEXED_FIELDS
                    else [f"{column} IS NULL", f"{column} {way}"]
                )
                continue
            key_id = self._key_id(key.source)
            for table, column in (("value_num", "num"), ("value_text", "text")):
                alias = f"{column}{at}"
                joins.append(
                    f"LEFT JOIN {table} {alias} ON {alias}.key_id = %s AND {alias}.experiment_id = r.experiment_id"
                    f" AND {alias}.run_id = r.run_id{_ONLY_TEXTS if column == 'text' else ''}".replace(
                        "v.text", f"{alias}.text"
                    )
                )
                values.append(key_id)
            order += [f"num{at}.num IS NULL", f"num{at}.num {way}", f"text{at}.text IS NULL", f"text{at}.text {way}"]
        if not (len(self.searched.experiments) == 1 and order[0].startswith("r.number ")):
            # Behind an index's own order, the same way round, it costs nothing.
            backwards = order[0].startswith("r.started_at") and order[0].endswith("ASC")
            order.append(f"r.run_id {'ASC' if backwards else 'DESC'}")
        rows = self._ask(
            f"SELECT r.run_id FROM {source} {' '.join(joins)} WHERE {where}"
            f" ORDER BY {', '.join(order)} LIMIT %s OFFSET %s",
            *values,
            *join_values,
            limit,
            offset,
        )
        return [run_id for (run_id,) in rows]

    def _ask(self, sql: str, *values: Any) -> list[tuple[Any, ...]]:
        # Where runs that fit are frequent or few are looked at, each is tested; else the tests' sets are made first.
        how = "" if self._rare and self._wide is None else "optimizer_switch = 'exists_to_in=off', "
        return _bounded(f"SET STATEMENT {how}max_statement_time = {STATEMENT_S} FOR {sql}", *values)


def _bounded(sql: str, *values: Any) -> list[tuple[Any, ...]]:
    try:
        return query(sql, *values)
    except (peewee.OperationalError, peewee.InternalError) as error:
        if not error.args or error.args[0] != _TOOK_TOO_LONG:
            raise
        raise InvalidInput(
            f"This question took longer than {STATEMENT_S} s and was given up; ask for less at once, such as fewer "
            "patterns with stars, or sort by one key.",
            field="query",
        ) from None
