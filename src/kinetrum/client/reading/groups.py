"""Groups of runs: what they share, and mean and spread of their numbers."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, overload

from kinetrum.client.display.html import html_table, text_table
from kinetrum.client.reading.frames import import_pandas
from kinetrum.client.reading.table_export import table_path
from kinetrum.client.transport.session import Session
from kinetrum.core.base.values import Value, from_json, show

if TYPE_CHECKING:
    from pandas import DataFrame

    from kinetrum.client.transport import answers

_PAGE, _SHOWN, _LINES = 500, 50, 20


@dataclass(frozen=True)
class Spread:
    """Numbers of a group in one column: how many runs have one, mean, standard deviation of the sample, ends."""

    runs: int
    mean: float
    deviation: float | None
    low: float
    high: float


@dataclass(frozen=True)
class RunGroup:
    """Runs that share a value; `present` is false for those that lack it. `query` finds its runs again.

    `shared` holds, by column, a value that all have; `spreads` the numbers of all other columns of numbers.
    """

    value: Value
    present: bool
    runs: int
    last_run: str
    query: str
    shared: dict[str, Value]
    spreads: dict[str, Spread]


class RunGroups(Sequence[RunGroup]):
    """Groups of the runs that fit a query, read when they are made."""

    def __init__(
        self,
        session: Session,
        experiment: str | None,
        query: str,
        sort: str,
        by: str,
        columns: list[str] | None,
        pareto: str = "",
    ) -> None:
        self.by, self.columns = by, list[str]()
        self._groups: list[RunGroup] = []
        offset = 0
        while True:
            page = session.service.get(
                f"{table_path(session.project, experiment)}/groups",
                by=by,
                query=query,
                sort=sort,
                column=columns,
                offset=offset,
                limit=_PAGE,
                pareto=pareto,
            )
            self.columns = [column["text"] for column in page["columns"]]
            self._groups += [_group(row, self.columns) for row in page["groups"]]
            offset += _PAGE
            if not page["more"]:
                break

    def __len__(self) -> int:
        return len(self._groups)

    def __iter__(self) -> Iterator[RunGroup]:
        return iter(self._groups)

    @overload
    def __getitem__(self, at: int) -> RunGroup: ...
    @overload
    def __getitem__(self, at: slice) -> list[RunGroup]: ...
    def __getitem__(self, at: int | slice) -> RunGroup | list[RunGroup]:
        return self._groups[at]

    def to_rows(self) -> list[dict[str, Value]]:
        """Return one flat dictionary per group: value, runs, and by column the shared value or mean and deviation."""
        rows = []
        for group in self._groups:
            row: dict[str, Value] = {self.by: group.value, "runs": group.runs, "last_run": group.last_run}
            for column in self.columns:
                spread = group.spreads.get(column)
                if column in group.shared:
                    row[column] = group.shared[column]
                elif spread is not None:
                    row |= {column: spread.mean, f"{column} ±": spread.deviation}
            rows.append(row)
        return rows

    def __repr__(self) -> str:
        head, rows = self._table(_LINES)
        title = f"<{len(self._groups):,} {'group' if len(self._groups) == 1 else 'groups'} by {self.by}>"
        return text_table(title, head, rows, len(self._groups) - len(rows)) if rows else title

    def _repr_html_(self) -> str:
        head, rows = self._table(_SHOWN)
        more = f"<p>{_SHOWN} of {len(self._groups):,} groups</p>" if len(self._groups) > _SHOWN else ""
        return more + html_table(head, rows)

    def _table(self, most: int) -> tuple[list[str], list[list[str]]]:
        rows = [
            [
                show(group.value) if group.present else "–",
                f"×{group.runs}",
                group.last_run,
                *(_told(group, column) for column in self.columns),
            ]
            for group in self._groups[:most]
        ]
        head = [self.by, "runs", "latest run", *self.columns]
        if self.by == "replicates":
            # The mark that they share says nothing to people.
            head, rows = head[1:], [row[1:] for row in rows]
        return head, rows

    def to_pandas(self) -> DataFrame:
        """Return the groups as a pandas DataFrame; needs pandas."""
        return import_pandas().DataFrame(self.to_rows())


def _told(group: RunGroup, column: str) -> str:
    spread = group.spreads.get(column)
    if column in group.shared:
        return show(group.shared[column])
    if spread is None:
        return ""
    return f"{spread.mean:.4g}" + ("" if spread.deviation is None else f" ± {spread.deviation:.2g}")


def _group(row: answers.RunGroup, columns: list[str]) -> RunGroup:
    cells = {column: cell for column, cell in zip(columns, row["cells"], strict=True) if cell is not None}
    return RunGroup(
        from_json(row["value"]),
        row["present"],
        row["runs"],
        row["last"]["reference"],
        row["query"],
        {column: from_json(cell["shared"]) for column, cell in cells.items() if cell["is_shared"]},
        {column: Spread(**cell["spread"]) for column, cell in cells.items() if cell["spread"]},
    )
