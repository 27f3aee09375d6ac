"""Rows of stored tables: predictions row by row, filtered to what was wrong, or two tables joined by a row key."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, overload

from kinetrum.client.display.html import html_table, text_table
from kinetrum.client.reading.frames import import_pandas
from kinetrum.client.transport.http import path_of
from kinetrum.client.transport.session import Session, open_session
from kinetrum.core.base.errors import InvalidInput
from kinetrum.core.base.refs import VersionRef, parse_ref
from kinetrum.core.base.values import JsonObject, Value, from_json, show

if TYPE_CHECKING:
    from pandas import DataFrame

_PAGE = 5_000
_LINES, _SHOWN = 20, 50


@dataclass(frozen=True, repr=False)
class Rows(Sequence[tuple[Value, ...]]):
    """Rows of a table in order: a sequence of tuples under `columns`.

    `total` rows fit of `of`, also where fewer were asked for. `judged` tells that there are truths and predictions,
    `wrong` how many rows differ. `counts` has the rows of each outcome where two tables were joined, by `key`.
    """

    columns: tuple[str, ...]
    rows: tuple[tuple[Value, ...], ...]
    total: int
    of: int
    judged: bool
    wrong: int | None = None
    counts: Mapping[str, int] = field(default_factory=dict)
    key: str | None = None

    def __len__(self) -> int:
        return len(self.rows)

    @overload
    def __getitem__(self, at: int) -> tuple[Value, ...]: ...

    @overload
    def __getitem__(self, at: slice) -> tuple[tuple[Value, ...], ...]: ...

    def __getitem__(self, at: int | slice) -> tuple[Value, ...] | tuple[tuple[Value, ...], ...]:
        return self.rows[at]

    def __iter__(self) -> Iterator[tuple[Value, ...]]:
        return iter(self.rows)

    def __repr__(self) -> str:
        title = f"<{len(self.rows):,} of {self.of:,} rows>"
        cells = [[show(cell) for cell in row] for row in self.rows[:_LINES]]
        return text_table(title, self.columns, cells, len(self.rows) - len(cells)) if cells else title

    def _repr_html_(self) -> str:
        more = f"<p>{_SHOWN} of {len(self.rows):,} rows</p>" if len(self.rows) > _SHOWN else ""
        return more + html_table(self.columns, [[show(cell) for cell in row] for row in self.rows[:_SHOWN]])

    def to_pandas(self) -> DataFrame:
        """Return the rows as a pandas DataFrame."""
        return import_pandas().DataFrame(list(self.rows), columns=list(self.columns))


def rows(
    of: str,
    *,
    where: str | Sequence[str] = (),
    find: str = "",
    wrong: bool = False,
    sort: str = "",
    limit: int | None = None,
    project: str | None = None,
) -> Rows:
    """Read rows of a table that is stored as CSV, TSV, JSON Lines or Parquet: `rows("hail-predictions@3", wrong=True)`.

    `of` is `NAME@NUMBER`, with `:PATH` where it has several tables. `where` holds conditions that all hold, like
    `score > 0.9`; `find` a text that stands in some cell; `wrong` keeps rows whose prediction is not the truth (of
    numbers the largest errors come first). `sort` names a column, with `:desc` behind it the other way round.
    Raises NotFound, InvalidInput that names the condition at fault, TooLarge for tables beyond a million rows.
    `limit` is how many rows are read at most, None for all. `project` is another than the connection's.
    """
    session, table = _place(of, project)
    query = {"of": table, "where": _listed(where), "find": find, "wrong": wrong, "sort": sort}
    return _read(session, "rows", query, limit)


def join_rows(  # noqa: PLR0913
    left: str,
    right: str,
    *,
    key: str | None = None,
    outcome: str | Sequence[str] = (),
    where: str | Sequence[str] = (),
    find: str = "",
    sort: str = "",
    limit: int | None = None,
    project: str | None = None,
) -> Rows:
    """Put two tables side by side, row by row: `join_rows(old, new, outcome="newly wrong")`.

    `key` names the column that tells rows apart; without it the tables' own, else the first that does. Of predictions
    the outcomes are newly wrong, newly right, both wrong, both right (of numbers farther, nearer, as near); of other
    tables changed and same; of both only left and only right. Raises as `rows` does.
    `where`, `find`, `sort` and `limit` are those of `rows`. `project` is another than the connection's.
    """
    session, one = _place(left, project)
    _, two = _place(right, project)
    query = {
        "left": one,
        "right": two,
        "key": key,
        "outcome": _listed(outcome),
        "where": _listed(where),
        "find": find,
        "sort": sort,
    }
    return _read(session, "rows/joined", query, limit)


def _listed(conditions: str | Sequence[str]) -> list[str]:
    return [conditions] if isinstance(conditions, str) else list(conditions)


def _place(reference: str, project: str | None) -> tuple[Session, str]:
    ref = parse_ref(reference)
    if not isinstance(ref, VersionRef):
        raise InvalidInput(f"{reference!r} names no table; write NAME@NUMBER or NAME@NUMBER:PATH.", field="of")
    session = open_session(ref.project or project)
    return session, str(VersionRef(ref.name, ref.which, None, ref.path))


def _read(session: Session, what: str, query: JsonObject, limit: int | None) -> Rows:
    if limit is not None and limit < 0:
        raise InvalidInput(f"limit is {limit}; it is at least 0.", field="limit")
    path = path_of("projects", session.project, *what.split("/"))
    rows: list[tuple[Value, ...]] = []
    while True:
        left = _PAGE if limit is None else min(_PAGE, limit - len(rows))
        page = session.service.get(path, **query, offset=len(rows), limit=left)
        names = tuple(column["name"] for column in page["columns"])
        rows += [tuple(from_json(value) for value in row) for row in page["rows"]]
        if not page["rows"] or len(rows) >= page["total"] or (limit is not None and len(rows) >= limit):
            return Rows(
                names,
                tuple(rows),
                page["total"],
                page["of"],
                page["judged"],
                page.get("wrong"),
                page.get("counts", {}),
                page.get("key"),
            )
