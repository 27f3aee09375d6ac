"""A settled query in SQL, on the index tables: expressions over a run `r` that are true or false, never unknown.

What the index cannot tell (long texts, aggregates that are not indexed, numbers beyond 2^53 that round alike) is
told from the runs' documents, of at most `DOCUMENTS_LIMIT` runs, and stands in the expression as a list of runs.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from kinetrum.core.base.errors import InvalidInput
from kinetrum.core.base.goals import Goal, aggregate_value
from kinetrum.core.base.refs import RunRef
from kinetrum.core.base.run_document import RunDoc, unpack_doc
from kinetrum.core.base.values import Value
from kinetrum.core.query import settled
from kinetrum.core.query.indexing import index_forms
from kinetrum.core.query.matching import holds
from kinetrum.core.query.settled import Equals, Field, Hexed, Inside, Key, Matches, Nan, Ordered, Plan, Present
from kinetrum.storage.db.clock import from_micros
from kinetrum.storage.db.database import places, query
from kinetrum.storage.people import names
from kinetrum.storage.search.run_catalogue import IS_TEXT, RunCatalogue

DOCUMENTS_LIMIT = 20_000
_DOCUMENTS_AT_ONCE = 1_000
_EXACT = 2**53
_NAN = "\x01NaN"
_FIRST_TIME, _LAST_TIME = -62_135_596_800_000_000, 253_402_300_799_999_999
_COLUMNS = {
    "number": "r.number",
    "name": "r.name",
    "status": "r.status",
    "host": "r.host",
    "started": "r.started_at",
    "ended": "r.ended_at",
    "duration": "TIMESTAMPDIFF(MICROSECOND, r.started_at, r.ended_at) / 1e6",
}
_AUTHOR = "EXISTS (SELECT 1 FROM person a WHERE a.person_id = r.author_id AND (a.name {0} OR a.full_name {0}))"
_NOTE = "EXISTS (SELECT 1 FROM note n WHERE n.subject_kind = 'run' AND n.subject_id = r.run_id{0})"
_USED = (
    "EXISTS (SELECT 1 FROM run_artifact l WHERE l.run_id = r.run_id AND l.relation = 'used' AND l.version_id IN {0})"
)
_PLOT = "EXISTS (SELECT 1 FROM plot p WHERE p.run_id = r.run_id AND (p.name = %s OR p.kind = %s))"


@dataclass(frozen=True)
class Filter:
    """A condition in SQL: an expression over `r` and its values."""

    sql: str
    values: tuple[Any, ...] = ()

    def __invert__(self) -> Filter:
        return Filter(f"NOT {self.sql}", self.values)


ALWAYS, NEVER = Filter("TRUE"), Filter("FALSE")


@dataclass(frozen=True)
class Finders:
    """How references in a query are found: a run's id, and the versions that a `used` means; they ask permission."""

    run_id_of: Callable[[RunRef], bytes]
    versions_of: Callable[[settled.UsedContent], Sequence[int]]


class Compiler:
    """Turns one plan into SQL."""

    def __init__(self, catalogue: RunCatalogue, finders: Finders) -> None:
        self.catalogue, self.searched, self.finders = catalogue, catalogue.searched, finders

    def compile(self, plan: Plan | None) -> Filter:
        """Return the expression of a plan."""
        if plan is None:
            return ALWAYS
        if isinstance(plan, settled.Negation):
            return ~self.compile(plan.part)
        if isinstance(plan, settled.All | settled.Any):
            return _joined(
                [self.compile(part) for part in plan.parts], "AND" if isinstance(plan, settled.All) else "OR"
            )
        if isinstance(plan, settled.HasPlot):
            return Filter(_PLOT, (plan.name, plan.name))
        if isinstance(plan, settled.UsedContent):
            run_ids = list(self.finders.versions_of(plan))
            return Filter(_USED.format(places(run_ids)), tuple(run_ids)) if run_ids else NEVER
        if isinstance(plan, settled.ChildOf):
            same = Filter("IFNULL(r.parent_uid = %s, FALSE)", (self.finders.run_id_of(plan.parent),))
            return _joined([Filter("r.parent_uid IS NOT NULL"), ~same], "AND") if plan.negated else same
        if isinstance(plan.source, Field):
            return self._of_field(plan, plan.source)
        return self._of_key(plan, plan.source)

    def _of_key(self, test: settled.Settled, key: Key) -> Filter:
        index_place = self.catalogue.index_places(key)
        if not index_place:
            return self._by_document(test, key, Key("value", key.name, "last"))
        parts = []
        for place in index_place:
            here = self._of_index(test, key, place.key_id)
            if place.experiments is not None and len(index_place) > 1:
                inside = Filter(f"r.experiment_id IN {places(list(place.experiments))}", place.experiments)
                here = _joined([inside, here], "AND")
            parts.append(here)
        return _joined(parts, "OR")

    def _of_index(self, test: settled.Settled, key: Key, key_id: int) -> Filter:
        if isinstance(test, Present):
            return _joined([_number(key_id), _text(key_id)], "OR")
        if isinstance(test, Nan):
            return _text(key_id, "= %s", _NAN)
        if isinstance(test, Equals):
            equal = _equal(key_id, test.readings)
            return _other_than(key_id, equal) if test.negated else equal
        if isinstance(test, Matches):
            short = _text(key_id, f"IS NOT NULL AND {IS_TEXT} AND LOWER(v.text) LIKE %s", sql_pattern(test.pattern))
            if not self.catalogue.has_long_texts(key_id):
                return short
            long = self._by_document(test, key, key, " AND v.text >= '\x02' AND v.text < '\x03'", table="value_text")
            return _joined([short, long], "OR")
        if isinstance(test, Ordered):
            return self._ordered(test, key, key_id)
        if isinstance(test, Inside):
            ends = (Ordered(key, ">=", test.low), Ordered(key, "<=", test.high))
            if max(abs(test.low), abs(test.high)) < _EXACT:
                return _number(key_id, "BETWEEN %s AND %s", float(test.low), float(test.high))
            return _joined([self._ordered(end, key, key_id) for end in ends], "AND")
        raise TypeError(type(test).__name__)

    def _ordered(self, test: Ordered, key: Key, key_id: int) -> Filter:
        rounded, _ = index_forms(test.number)
        if abs(test.number) < _EXACT:
            return _number(key_id, f"{test.operator} %s", rounded)
        # Beyond 2^53 different numbers round to one: those that do are told from the documents.
        clear = _number(key_id, f"{test.operator[0]} %s", rounded)
        return _joined(
            [clear, self._by_document(test, key, key, " AND v.num = %s", (rounded,), table="value_num")], "OR"
        )

    def _by_document(
        self,
        test: settled.Settled,
        key: Key,
        held_as: Key,
        more: str = "",
        values: tuple[Any, ...] = (),
        table: str = "",
    ) -> Filter:
        """Test documents of the runs that hold a key, and return an expression that names those that fit."""
        ids = self._holders(held_as, more, values, [table] if table else ["value_num", "value_text"])
        if len(ids) > DOCUMENTS_LIMIT:
            what = f"{key.aggregate}({key.name})" if key.aggregate != "shown" else f"long texts of {key.name}"
            raise InvalidInput(
                f"{what} is read from the documents of the runs that have it, of {DOCUMENTS_LIMIT:,} at most; more "
                "have it here. last, min, max and best are asked of any number of runs.",
                field="query",
            )
        fitting: list[int] = []
        for start in range(0, len(ids), _DOCUMENTS_AT_ONCE):
            part = ids[start : start + _DOCUMENTS_AT_ONCE]
            rows = query(
                "SELECT run_id, r.experiment_id, d.doc FROM run_doc d JOIN run r USING (run_id)"
                f" WHERE run_id IN {places(part)}",
                *part,
            )
            fitting += [
                run_id
                for run_id, experiment_id, raw in rows
                if _fits(test, key, unpack_doc(raw), self.catalogue.goals[experiment_id])
            ]
        return Filter(f"r.run_id IN {places(fitting)}", tuple(sorted(fitting))) if fitting else NEVER

    def _holders(self, key: Key, more: str, values: tuple[Any, ...], tables: list[str]) -> list[int]:
        run_ids: set[int] = set()
        for place in self.catalogue.index_places(key):
            for table in tables:
                rows = query(
                    f"SELECT v.run_id FROM {table} v WHERE v.key_id = %s AND v.experiment_id {self.searched.within}"
                    f"{more} LIMIT %s",
                    place.key_id,
                    *self.searched.ids,
                    *values,
                    DOCUMENTS_LIMIT + 1,
                )
                run_ids.update(run_id for (run_id,) in rows)
        return sorted(run_ids)

    def _experiments(self, test: settled.Settled) -> list[int]:
        """Return the experiments that fit a test on their names; one that was renamed goes by its earlier names too."""
        earlier = names.earlier_in(self.searched.project_id, names.EXPERIMENT)
        # To be none of some names is to be so under each that it has or had.
        fits = all if getattr(test, "negated", False) else any
        return [
            row_id
            for row_id, name in self.searched.experiments
            if fits(holds(test, known) for known in (name, *earlier.get(row_id, ())))
        ]

    def _of_field(self, test: settled.Settled, field: Field) -> Filter:
        name = field.name
        if name == "project":
            return ALWAYS if holds(test, self.searched.project) else NEVER
        if name == "experiment":
            fitting = self._experiments(test)
            return Filter(f"r.experiment_id IN {places(fitting)}", tuple(fitting)) if fitting else NEVER
        if name in {"commit", "code", "problem", "replicates"}:
            return self._described(test, name)
        if name == "id":
            assert isinstance(test, Hexed | Present)
            return ALWAYS if isinstance(test, Present) else _hexed(test, Filter("LOWER(HEX(r.uid)) LIKE %s"))
        if name == "note":
            return (
                ALWAYS_NOTED if isinstance(test, Present) else _texts(test, "n.text", _NOTE.replace("{0}", " AND {0}"))
            )
        if name == "author":
            return ALWAYS if isinstance(test, Present) else _author(test)
        if name == "parent":
            return Filter("r.parent_uid IS NOT NULL")
        return _column(test, _COLUMNS[name])

    def _described(self, test: settled.Settled, name: str) -> Filter:
        places_of_it = self.catalogue.index_places(Key("field", name))
        if not places_of_it:
            return NEVER
        key_id = places_of_it[0].key_id
        if isinstance(test, Hexed):
            return _hexed(test, _text(key_id, "LIKE %s", ""), _text(key_id))
        return self._of_index(test, Key("field", name), key_id)


ALWAYS_NOTED = Filter(_NOTE.format(""))


def _joined(parts: list[Filter], word: str) -> Filter:
    if len(parts) == 1:
        return parts[0]
    return Filter(f"({f' {word} '.join(part.sql for part in parts)})", tuple(v for part in parts for v in part.values))


def _in_table(table: str, column: str, key_id: int, more: str, values: tuple[Any, ...]) -> Filter:
    at = "v.key_id = %s AND v.experiment_id = r.experiment_id AND v.run_id = r.run_id"
    test = f" AND v.{column} {more}" if more else ""
    return Filter(f"EXISTS (SELECT 1 FROM {table} v WHERE {at}{test})", (key_id, *values))


def _number(key_id: int, more: str = "", *values: Any) -> Filter:
    return _in_table("value_num", "num", key_id, more, values)


def _text(key_id: int, more: str = "", *values: Any) -> Filter:
    return _in_table("value_text", "text", key_id, more, values)


def _equal(key_id: int, wanted: Sequence[Value]) -> Filter:
    forms = [index_forms(reading) for reading in wanted]
    texts = [text for _, text in forms if text is not None]
    numbers = [number for number, text in forms if text is None]
    parts = [_text(key_id, f"IN {places(texts)}", *texts)] if texts else []
    if numbers:
        parts.append(_number(key_id, f"IN {places(numbers)}", *numbers))
    return _joined(parts, "OR") if parts else NEVER


def _other_than(key_id: int, equal: Filter) -> Filter:
    """It has a value, NaN excepted, and not that one."""
    present = _joined([_number(key_id), _text(key_id, "<> %s", _NAN)], "OR")
    return _joined([present, ~equal], "AND")


def _fits(test: settled.Settled, key: Key, doc: RunDoc, goals: dict[str, Goal]) -> bool:
    if key.scope == "value" and key.aggregate == "shown":
        present, value = doc.value(key.name, goals)
    elif key.scope == "value":
        present = key.name in doc.stats
        value = aggregate_value(doc.stats[key.name], key.aggregate, goals.get(key.name)) if present else None
    else:
        scopes: dict[str, Mapping[str, Value]] = {"param": doc.params, "label": doc.labels, "field": doc.fields()}
        present, value = key.name in scopes[key.scope], scopes[key.scope].get(key.name)
    return present and holds(test, value)


def sql_pattern(pattern: str) -> str:
    """Turn a pattern of * and ? into one of LIKE, in lower case."""
    escaped = pattern.lower().replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_")
    return escaped.replace("*", "%").replace("?", "_")


def _hexed(test: Hexed, like: Filter, present: Filter = ALWAYS) -> Filter:
    first = Filter(like.sql, (*[v for v in like.values if v != ""], f"{test.digits}%"))
    last = Filter(like.sql, (*[v for v in like.values if v != ""], f"%{test.digits}"))
    either = _joined([first, last], "OR")
    return _joined([present, ~either], "AND") if test.negated else either


def _texts(test: settled.Settled, column: str, around: str) -> Filter:
    """Test a text column inside an EXISTS."""
    if isinstance(test, Matches):
        return Filter(around.format(f"LOWER({column}) LIKE %s"), (sql_pattern(test.pattern),))
    assert isinstance(test, Equals)
    wanted = places(list(test.readings))
    return Filter(around.format(f"{column} {'NOT ' if test.negated else ''}IN {wanted}"), test.readings)


def _author(test: settled.Settled) -> Filter:
    if isinstance(test, Matches):
        lower = _AUTHOR.replace("a.name", "LOWER(a.name)").replace("a.full_name", "LOWER(a.full_name)")
        return Filter(lower.format("LIKE %s"), (sql_pattern(test.pattern),) * 2)
    assert isinstance(test, Equals)
    same = Filter(_AUTHOR.format(f"IN {places(list(test.readings))}"), (*test.readings, *test.readings))
    return ~same if test.negated else same


def _column(test: settled.Settled, column: str) -> Filter:
    """Test a column of the run's row; where it is empty, the run lacks the field."""
    is_time = column.endswith("_at")
    if isinstance(test, Present):
        return Filter(f"({column} IS NOT NULL AND {column} <> '')" if column == "r.host" else f"{column} IS NOT NULL")
    if isinstance(test, Matches):
        return Filter(f"IFNULL(LOWER({column}) LIKE %s, FALSE)", (sql_pattern(test.pattern),))
    if isinstance(test, Equals):
        word = "NOT IN" if test.negated else "IN"
        return Filter(f"IFNULL({column} {word} {places(list(test.readings))}, FALSE)", test.readings)
    if isinstance(test, Ordered):
        return Filter(f"IFNULL({column} {test.operator} %s, FALSE)", (operand_of(test.number, is_time),))
    assert isinstance(test, Inside)
    word = "NOT BETWEEN" if test.negated else "BETWEEN"
    ends = (operand_of(test.low, is_time), operand_of(test.high, is_time))
    return Filter(f"IFNULL({column} {word} %s AND %s, FALSE)", ends)


def operand_of(number: float, is_time: bool) -> Any:
    """Return what a column of times, or of numbers, is compared with."""
    if not is_time:
        return max(-1.7e308, min(1.7e308, number))
    return from_micros(max(_FIRST_TIME, min(_LAST_TIME, int(number))))
