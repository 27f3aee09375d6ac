"""Finding runs: filter and sort on the narrow index tables, a page at a time.

Sorted by one number, a page is read off the index in its order and costs the same at any size;
runs that lack the key come last. Counting stops at a cap.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from kinetrum.core.errors import InvalidInput
from kinetrum.core.indexing import index_forms
from kinetrum.core.query.condition import Condition
from kinetrum.storage.database import query
from kinetrum.storage.run_index import key_ids

COUNT_CAP = 10_000
_FIELDS = {
    "number": "r.number", "name": "r.name", "status": "r.status", "host": "r.host", "started": "r.started_at",
    "ended": "r.ended_at", "author": "(SELECT a.name FROM person a WHERE a.person_id = r.author_id)",
    "duration": "TIMESTAMPDIFF(MICROSECOND, r.started_at, r.ended_at)",
}  # fmt: skip


@dataclass(frozen=True)
class SortKey:
    """One key to sort by: scope field, param or value."""

    scope: str
    name: str
    descending: bool


@dataclass(frozen=True)
class Filter:
    """A condition in SQL: an expression over `r` and its values."""

    sql: str
    values: tuple[Any, ...]


# Marks of values that are neither number nor short text begin below the space; they sort as missing.
_ONLY_TEXTS = " AND ALIAS.text >= ' '"
ALWAYS = Filter("TRUE", ())
# Runs in the bin are out of sight, out of tables and out of counts.
_KEPT = "r.binned_at IS NULL AND "


def compile_condition(project_id: int, experiment_id: int, condition: Condition | None) -> Filter:
    """Turn a condition into SQL on the indexes.

    A bare name is a run field, else a result or metric, else a parameter. A run that lacks the key matches nothing.
    """
    if condition is None:
        return ALWAYS
    if condition.scope in {None, "run"} and condition.name in _FIELDS:
        return _field_filter(condition)
    scopes = {"metric": ["value"], "param": ["param"], None: ["value", "param"]}.get(condition.scope, [])
    for scope in scopes:
        key = (scope, "shown" if scope == "value" else "", condition.name)
        key_id = key_ids(project_id, [key]).get(key)
        if key_id is not None and _has_key(experiment_id, key_id):
            return _key_filter(key_id, condition)
    known = [name for (name,) in query(
        "SELECT DISTINCT k.name FROM experiment_key x JOIN key_name k USING (key_id) WHERE x.experiment_id = %s"
        " ORDER BY k.name LIMIT 500", experiment_id)]  # fmt: skip
    raise InvalidInput(_unknown(condition, known), field="query")


def _unknown(condition: Condition, known: list[str]) -> str:
    import difflib

    near = difflib.get_close_matches(condition.name, [*known, *_FIELDS], 3, 0.5)
    hint = f" Nearest: {', '.join(near)}." if near else ""
    return f"No run here has {condition.name!r}.{hint}"


def _has_key(experiment_id: int, key_id: int) -> bool:
    return bool(query("SELECT 1 FROM experiment_key WHERE experiment_id = %s AND key_id = %s", experiment_id, key_id))


def _field_filter(condition: Condition) -> Filter:
    if condition.name not in {"number", "name", "status", "host", "author"}:
        raise InvalidInput(f"{condition.name!r} cannot be asked for yet; number, name, status, host, author can.",
                           field="query")  # fmt: skip
    value: Any = condition.value
    if condition.name == "number":
        if not isinstance(value, int) or isinstance(value, bool):
            raise InvalidInput(f"{condition.text!r} is no run number.", field="query")
    else:
        value = condition.text
        if condition.operator not in {"=", "!="}:
            raise InvalidInput(f"{condition.name} takes = and !=.", field="query")
    return Filter(f"{_FIELDS[condition.name]} {condition.operator} %s", (value,))


def _key_filter(key_id: int, condition: Condition) -> Filter:
    number, text = index_forms(condition.value)
    at = "v.key_id = %s AND v.experiment_id = r.experiment_id AND v.run_id = r.run_id"
    in_num = f"EXISTS (SELECT 1 FROM value_num v WHERE {at} AND v.num {condition.operator} %s)"
    in_text = f"EXISTS (SELECT 1 FROM value_text v WHERE {at} AND v.text {condition.operator} %s)"
    if condition.operator in {"=", "!="}:
        if text is not None:
            other = f" OR EXISTS (SELECT 1 FROM value_num v WHERE {at})" if condition.operator == "!=" else ""
            more = (key_id,) if other else ()
            return Filter(f"({in_text}{other})", (key_id, text, *more))
        if condition.operator == "!=":
            # A text, or a truth value, is no number and so differs; NaN matches no comparison.
            return Filter(
                f"({in_num} OR EXISTS (SELECT 1 FROM value_text v WHERE {at} AND v.text <> '\x01NaN'))",
                (key_id, number, key_id),
            )
    return Filter(in_num, (key_id, number))


def count(experiment_id: int, where: Filter) -> int:
    """Count matching runs, at most one over the cap."""
    ((found,),) = query(
        f"SELECT COUNT(*) FROM (SELECT 1 FROM run r WHERE r.experiment_id = %s AND {_KEPT}{where.sql}"
        " LIMIT %s) counted",
        experiment_id, *where.values, COUNT_CAP + 1,
    )  # fmt: skip
    return int(found)


def page(project_id: int, experiment_id: int, where: Filter, sort: list[SortKey], offset: int, limit: int) -> list[int]:
    """Return run ids of one page. Ties are broken by the later run first."""
    if len(sort) == 1 and sort[0].scope != "field":
        key = (sort[0].scope, "shown" if sort[0].scope == "value" else "", sort[0].name)
        key_id = key_ids(project_id, [key]).get(key)
        if key_id is not None and not _has_text(key_id, experiment_id):
            return _page_by_number(experiment_id, key_id, sort[0].descending, where, offset, limit)
    return _page_by_joins(project_id, experiment_id, where, sort, offset, limit)


def _has_text(key_id: int, experiment_id: int) -> bool:
    return bool(query(
        "SELECT 1 FROM value_text WHERE key_id = %s AND experiment_id = %s AND text >= ' ' LIMIT 1",
        key_id, experiment_id))  # fmt: skip


def _page_by_number(
    experiment_id: int, key_id: int, descending: bool, where: Filter, offset: int, limit: int
) -> list[int]:
    way = "DESC" if descending else "ASC"
    rows = query(
        "SELECT s.run_id FROM value_num s FORCE INDEX (value_num_order) STRAIGHT_JOIN run r ON r.run_id = s.run_id"
        f" WHERE s.key_id = %s AND s.experiment_id = %s AND {_KEPT}{where.sql}"
        f" ORDER BY s.num {way}, s.run_id {way} LIMIT %s OFFSET %s",
        key_id, experiment_id, *where.values, limit, offset,
    )  # fmt: skip
    found = [run_id for (run_id,) in rows]
    if len(found) == limit:
        return found
    ((numbered,),) = query(
        "SELECT COUNT(*) FROM value_num s JOIN run r ON r.run_id = s.run_id"
        f" WHERE s.key_id = %s AND s.experiment_id = %s AND {_KEPT}{where.sql}",
        key_id, experiment_id, *where.values,
    )  # fmt: skip
    rest = query(
        f"SELECT r.run_id FROM run r WHERE r.experiment_id = %s AND {_KEPT}{where.sql} AND NOT EXISTS (SELECT 1 FROM"
        " value_num s WHERE s.key_id = %s AND s.experiment_id = r.experiment_id AND s.run_id = r.run_id)"
        " ORDER BY r.run_id DESC LIMIT %s OFFSET %s",
        experiment_id, *where.values, key_id, limit - len(found), max(0, offset - int(numbered)),
    )  # fmt: skip
    return found + [run_id for (run_id,) in rest]


def _page_by_joins(
    project_id: int, experiment_id: int, where: Filter, sort: list[SortKey], offset: int, limit: int
) -> list[int]:
    joins, order, values = [], [], []
    for at, key in enumerate(sort):
        way = "DESC" if key.descending else "ASC"
        if key.scope == "field":
            order += [f"{_FIELDS[key.name]} IS NULL", f"{_FIELDS[key.name]} {way}"]
            continue
        wanted = (key.scope, "shown" if key.scope == "value" else "", key.name)
        key_id = key_ids(project_id, [wanted]).get(wanted, 0)
        for table, column in (("value_num", "num"), ("value_text", "text")):
            alias = f"{column}{at}"
            joins.append(
                f"LEFT JOIN {table} {alias} ON {alias}.key_id = %s AND {alias}.experiment_id = r.experiment_id"
                f" AND {alias}.run_id = r.run_id{_ONLY_TEXTS if column == 'text' else ''}".replace("ALIAS", alias)
            )
            values.append(key_id)
        order += [
            f"num{at}.num IS NULL",
            f"num{at}.num {way}",
            f"text{at}.text IS NULL",
            f"text{at}.text {way}",
        ]
    rows = query(
        f"SELECT r.run_id FROM run r {' '.join(joins)} WHERE r.experiment_id = %s AND {_KEPT}{where.sql}"
        f" ORDER BY {', '.join([*order, 'r.run_id DESC'])} LIMIT %s OFFSET %s",
        *values, experiment_id, *where.values, limit, offset,
    )  # fmt: skip
    return [run_id for (run_id,) in rows]


def all_ids(project_id: int, experiment_id: int, where: Filter, sort: list[SortKey], most: int) -> list[int]:
    """Return the run ids of the whole table in its order, up to `most`."""
    return page(project_id, experiment_id, where, sort, 0, most)


def sort_field(name: str) -> bool:
    """Tell whether `name` is a field of the run's row to sort by."""
    return name in _FIELDS
