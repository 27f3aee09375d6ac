"""Plots of runs: the view and the numbers in plain, the columns packed beside them."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

import zstandard
from peewee import fn

from kinetrum.core.plots import Plot, read_plot, write_plot
from kinetrum.storage.db.database import named_rows, one_row
from kinetrum.storage.tables.runs import RunRow, StoredPlot

_LISTED = [field for field in StoredPlot._meta.sorted_fields if field.name not in {"uid", "payload"}]


@dataclass(frozen=True)
class PlotRow:
    """A plot without its columns; `declared` tells that somebody declared its view after it was recorded."""

    plot_id: int
    run_id: int
    name: str
    kind: str
    step: int | None
    row_count: int
    recorded_at: datetime
    view: dict[str, Any]
    declared: bool
    numbers: dict[str, Any]
    note: str


def add_plot(
    run_id: int, uid: bytes, name: str, step: int | None, at: datetime, plot: Plot, declared: bool = False
) -> bool:
    """Keep a plot; tells whether it is new. Sent again under the same id, nothing changes."""
    data = write_plot(plot)
    packed = zstandard.ZstdCompressor(level=3).compress(json.dumps(data["columns"], separators=(",", ":")).encode())
    row = StoredPlot.insert(
        run_id=run_id,
        uid=uid,
        name=name,
        kind=plot.kind,
        step=step,
        row_count=plot.rows,
        recorded_at=at,
        view=json.dumps(data["view"]),
        declared=declared,
        numbers=json.dumps(data["numbers"]),
        note=plot.note,
        payload=packed,
    )
    return bool(row.on_conflict_ignore().as_rowcount().execute())


def _row(row: Any) -> PlotRow:
    return PlotRow(
        row.plot_id,
        row.run_id,
        row.name,
        row.kind,
        row.step,
        row.row_count,
        row.recorded_at,
        json.loads(row.view),
        bool(row.declared),
        json.loads(row.numbers),
        row.note,
    )


def plots_of_runs(run_ids: Sequence[int], name: str | None = None) -> list[PlotRow]:
    """Return the plots of runs by name and step, of one name if given; of one step recorded twice the later."""
    wanted = sorted(set(run_ids))
    if not wanted:
        return []
    plots = StoredPlot.select(*_LISTED).where(StoredPlot.run_id.in_(wanted))
    if name is not None:
        plots = plots.where(StoredPlot.name == name)
    rows = map(_row, named_rows(plots.order_by(StoredPlot.recorded_at, StoredPlot.plot_id)))
    latest = {(row.run_id, row.name, row.step): row for row in rows}
    return sorted(latest.values(), key=lambda row: (row.run_id, row.name, row.step is not None, row.step or 0))


def read_kept(plot_id: int) -> Plot:
    """Return a plot with its columns."""
    row = StoredPlot.get_by_id(plot_id)
    return read_plot(
        {
            "kind": row.kind,
            "columns": json.loads(zstandard.ZstdDecompressor().decompress(row.payload)),
            "view": json.loads(row.view),
            "numbers": json.loads(row.numbers),
            "note": row.note,
        }
    )


def set_view(plot_id: int, plot: Plot) -> None:
    """Declare anew how a plot is drawn."""
    changes = StoredPlot.update(view=json.dumps(write_plot(plot)["view"]), declared=True)
    changes.where(StoredPlot.plot_id == plot_id).execute()


def names_in(experiment_ids: Sequence[int], limit: int) -> list[str]:
    """Return names of plots that runs of these experiments keep."""
    if not experiment_ids:
        return []
    rows = (
        StoredPlot.select(StoredPlot.name)
        .join(RunRow, on=RunRow.run_id == StoredPlot.run_id)
        .where(RunRow.experiment_id.in_(list(experiment_ids)))
        .distinct()
        .limit(limit)
    )
    return sorted(row.name for row in named_rows(rows))


def count_plots(run_id: int) -> tuple[int, int]:
    """Return how many plots a run has, and the bytes that their columns take."""
    row = one_row(
        StoredPlot.select(
            fn.COUNT(StoredPlot.plot_id).alias("plots"),
            fn.COALESCE(fn.SUM(fn.LENGTH(StoredPlot.payload)), 0).alias("size"),
        ).where(StoredPlot.run_id == run_id)
    )
    return int(row.plots), int(row.size)


def every_plot(run_id: int) -> list[tuple[bytes, PlotRow]]:
    """Return every plot of a run with its id, also those that a later one of the same name and step replaced."""
    plots = StoredPlot.select(StoredPlot.uid, *_LISTED).where(StoredPlot.run_id == run_id)
    rows = named_rows(plots.order_by(StoredPlot.recorded_at, StoredPlot.plot_id))
    return [(row.uid, _row(row)) for row in rows]
