"""From which index a search starts: the most selective part of a query, where one is selective enough.

A part that every run found must fit (a test of a conjunction, or a disjunction all of whose parts can be read off an
index) is counted on its index, up to a cap. The smallest one under the cap names the runs that are looked at; without
one the search goes through the table in its order, where matches are frequent.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

from kinetrum.core.query import settled
from kinetrum.core.query.indexing import index_forms
from kinetrum.core.query.settled import All, Equals, Field, Inside, Key, Nan, Ordered, Plan, Present
from kinetrum.storage.db.database import places, query
from kinetrum.storage.search.run_catalogue import RunCatalogue
from kinetrum.storage.search.run_query import Finders, operand_of

DRIVEN_LIMIT = 12_000
WIDE_LIMIT = 60_000
_FEW = 500
_EXACT = 2**53
_FIELD_COLUMNS = {"number": "number", "started": "started_at", "status": "status"}


@dataclass(frozen=True)
class Driver:
    """Statements that each select run ids off an index, how many they find at most, and their values.

    `answers` is the part of the plan that they answer exactly, so that it need not be asked of each run again.
    """

    selects: tuple[str, ...]
    values: tuple[Any, ...]
    size: int
    answers: Plan | None = None

    @property
    def table(self) -> str:
        """A derived table of distinct run ids."""
        return f"({' UNION '.join(self.selects)})"


class Driving:
    """Finds the driver of one plan."""

    def __init__(self, catalogue: RunCatalogue, finders: Finders, limit: int = DRIVEN_LIMIT) -> None:
        self.catalogue, self.searched, self.finders, self.limit = catalogue, catalogue.searched, finders, limit

    def driver(self, plan: Plan | None) -> Driver | None:
        """Return the smallest set of runs, under the cap, outside of which nothing fits; None where there is none."""
        if isinstance(plan, All):
            return self._smallest(plan.parts)
        if isinstance(plan, settled.Any):
            return self._union(plan)
        if plan is None or isinstance(plan, settled.Negation):
            return None
        driver = self._counted(self._selects(plan))
        return replace(driver, answers=plan) if driver is not None and self._exact(plan) else driver

    def _exact(self, test: settled.Settled) -> bool:
        """Tell whether what the index selects is what the test holds for, no less and no more."""
        source = getattr(test, "source", None)
        if isinstance(source, Key) and len(self.catalogue.index_places(source)) > 1:
            return False
        numbers: tuple[Any, ...] = ()
        if isinstance(test, Equals):
            numbers = test.readings
        elif isinstance(test, Ordered):
            numbers = (test.number,)
        elif isinstance(test, Inside):
            numbers = (test.low, test.high)
        return all(not isinstance(number, int | float) or abs(number) < _EXACT for number in numbers)

    def _smallest(self, parts: tuple[Plan, ...]) -> Driver | None:
        best: Driver | None = None
        for part in parts:
            driver = self.driver(part)
            if driver is not None and (best is None or driver.size < best.size):
                best = driver
            if best is not None and best.size < _FEW:
                break
        return best

    def _union(self, plan: settled.Any) -> Driver | None:
        selects: tuple[str, ...] = ()
        values: tuple[Any, ...] = ()
        size, exact = 0, True
        for part in plan.parts:
            driver = self.driver(part)
            if driver is None or size + driver.size > self.limit:
                return None
            selects, values, size = selects + driver.selects, values + driver.values, size + driver.size
            exact = exact and driver.answers is part
        return Driver(selects, values, size, plan if exact else None)

    def _counted(self, selects: list[tuple[str, tuple[Any, ...]]]) -> Driver | None:
        if not selects:
            return None
        size = 0
        for sql, values in selects:
            ((count,),) = query(f"SELECT COUNT(*) FROM ({sql} LIMIT {self.limit + 1}) counted", *values)
            size += int(count)
            if size > self.limit:
                return None
        return Driver(tuple(sql for sql, _ in selects), tuple(v for _, values in selects for v in values), size)

    def _selects(self, test: settled.Settled) -> list[tuple[str, tuple[Any, ...]]]:
        if isinstance(test, settled.UsedContent):
            versions = list(self.finders.versions_of(test)) or [0]
            among = f"l.version_id IN {places(versions)} AND l.relation = 'used'"
            sql = f"SELECT DISTINCT l.run_id FROM run_artifact l WHERE {among}"
            return [(sql, tuple(versions))]
        if isinstance(test, settled.ChildOf):
            by_parent = "SELECT r.run_id FROM run r WHERE r.parent_uid = %s"
            return [] if test.negated else [(by_parent, (self.finders.run_id_of(test.parent),))]
        if isinstance(test, settled.HasPlot | settled.Hexed | settled.Matches):
            return []
        if isinstance(test.source, Field):
            return self._of_field(test, test.source.name)
        return self._of_key(test, test.source)

    def _of_field(self, test: settled.Settled, name: str) -> list[tuple[str, tuple[Any, ...]]]:
        column = _FIELD_COLUMNS.get(name)
        if column is None or getattr(test, "negated", False) or isinstance(test, Present):
            return []
        is_time = name == "started"
        if isinstance(test, Equals):
            more, values = f"IN {places(list(test.readings))}", tuple(test.readings)
        elif isinstance(test, Ordered):
            more, values = f"{test.operator} %s", (operand_of(test.number, is_time),)
        elif isinstance(test, Inside):
            more, values = "BETWEEN %s AND %s", (operand_of(test.low, is_time), operand_of(test.high, is_time))
        else:
            return []
        sql = f"SELECT r.run_id FROM run r WHERE r.experiment_id {self.searched.within} AND r.{column} {more}"
        return [(sql, (*self.searched.ids, *values))]

    def _of_key(self, test: settled.Settled, key: Key) -> list[tuple[str, tuple[Any, ...]]]:
        index_place = self.catalogue.index_places(key)
        if not index_place or getattr(test, "negated", False):
            return []
        tests = _index_tests(test)
        return [
            (
                f"SELECT v.run_id FROM {table} v WHERE v.key_id = %s AND v.experiment_id {self.searched.within}"
                f" AND {more}",
                (place.key_id, *self.searched.ids, *values),
            )
            for place in index_place
            for table, more, values in tests
        ]


def unanswered(plan: Plan | None, driver: Driver | None) -> Plan | None:
    """Return what of a plan must still be asked of the runs that a driver finds; None where nothing is left."""
    if plan is None or driver is None or driver.answers is None:
        return plan
    # By identity: a test of 1 and one of true are equal to Python.
    if plan is driver.answers:
        return None
    if not isinstance(plan, All) or all(part is not driver.answers for part in plan.parts):
        return plan
    left = tuple(part for part in plan.parts if part is not driver.answers)
    return left[0] if len(left) == 1 else All(left)


def is_rare(plan: Plan | None) -> bool:
    """Tell whether a plan may fit few runs in a way that no index tells: it denies something."""
    if isinstance(plan, All | settled.Any):
        return any(is_rare(part) for part in plan.parts)
    return isinstance(plan, settled.Negation) or bool(getattr(plan, "negated", False))


def _index_tests(test: settled.Settled) -> list[tuple[str, str, tuple[Any, ...]]]:
    """Return (table, expression over `v`, values) whose union holds every run that fits."""
    if isinstance(test, Nan):
        return [("value_text", "v.text = %s", ("\x01NaN",))]
    if isinstance(test, Equals):
        forms = [index_forms(reading) for reading in test.readings]
        numbers = tuple(number for number, text in forms if text is None)
        texts = tuple(text for _, text in forms if text is not None)
        columns = (("value_num", "v.num", numbers), ("value_text", "v.text", texts))
        return [
            (table, f"{column} IN {places(list(accepted))}", accepted)
            for table, column, accepted in columns
            if accepted
        ]
    if isinstance(test, Ordered):
        # Beyond 2^53 several numbers round to one: with its equal nothing is left out.
        operator = test.operator if abs(test.number) < _EXACT else f"{test.operator[0]}="
        return [("value_num", f"v.num {operator} %s", (index_forms(test.number)[0],))]
    if isinstance(test, Inside):
        return [("value_num", "v.num BETWEEN %s AND %s", (index_forms(test.low)[0], index_forms(test.high)[0]))]
    return []
