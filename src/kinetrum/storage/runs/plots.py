"""Plots of runs: the view and the numbers in plain, the columns packed beside them."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

import zstandard

from kinetrum.core.plots import Plot, read_plot, write_plot
from kinetrum.storage.db.database import execute, places, query

_LISTED = "plot_id, run_id, name, kind, step, row_count, recorded_at, view, declared, numbers, note"


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
    return bool(
        execute(
            "INSERT IGNORE INTO plot (run_id, uid, name, kind, step, row_count, recorded_at, view, declared, numbers,"
            " note, payload) VALUES (%s, %s, %s, %s, %s, %s, %s, %s, %s, %s, %s, %s)",
            run_id,
            uid,
            name,
            plot.kind,
            step,
            plot.rows,
            at,
            json.dumps(data["view"]),
            declared,
            json.dumps(data["numbers"]),
            plot.note,
            packed,
        )
    )


def _row(found: Sequence[Any]) -> PlotRow:
    plot_id, run_id, name, kind, step, rows, at, view, declared, numbers, note = found
    return PlotRow(
        plot_id, run_id, name, kind, step, rows, at, json.loads(view), bool(declared), json.loads(numbers), note
    )


def plots_of_runs(run_ids: Sequence[int], name: str | None = None) -> list[PlotRow]:
    """Return the plots of runs by name and step, of one name if given; of one step recorded twice the later."""
    wanted = sorted(set(run_ids))
    if not wanted:
        return []
    named = " AND name = %s" if name is not None else ""
    rows = query(
        f"SELECT {_LISTED} FROM plot WHERE run_id IN {places(wanted)}{named} ORDER BY recorded_at, plot_id",
        *wanted,
        *([name] if name is not None else []),
    )
    latest = {(row.run_id, row.name, row.step): row for row in map(_row, rows)}
    return sorted(latest.values(), key=lambda row: (row.run_id, row.name, row.step is not None, row.step or 0))


def read_kept(plot_id: int) -> Plot:
    """Return a plot with its columns."""
    kind, view, numbers, note, packed = query(
        "SELECT kind, view, numbers, note, payload FROM plot WHERE plot_id = %s", plot_id
    )[0]
    columns = json.loads(zstandard.ZstdDecompressor().decompress(packed))
    return read_plot(
        {"kind": kind, "columns": columns, "view": json.loads(view), "numbers": json.loads(numbers), "note": note}
    )


def set_view(plot_id: int, plot: Plot) -> None:
    """Declare anew how a plot is drawn."""
    execute(
        "UPDATE plot SET view = %s, declared = TRUE WHERE plot_id = %s", json.dumps(write_plot(plot)["view"]), plot_id
    )


def names_in(experiment_ids: Sequence[int], limit: int) -> list[str]:
    """Return names of plots that runs of these experiments keep."""
    if not experiment_ids:
        return []
    rows = query(
        "SELECT DISTINCT p.name FROM plot p JOIN run r USING (run_id)"
        f" WHERE r.experiment_id IN {places(list(experiment_ids))} LIMIT %s",
        *experiment_ids,
        limit,
    )
    return sorted(name for (name,) in rows)


def count_plots(run_id: int) -> tuple[int, int]:
    """Return how many plots a run has, and the bytes that their columns take."""
    ((count, size),) = query("SELECT COUNT(*), COALESCE(SUM(LENGTH(payload)), 0) FROM plot WHERE run_id = %s", run_id)
    return int(count), int(size)


def every_plot(run_id: int) -> list[tuple[bytes, PlotRow]]:
    """Return every plot of a run with its id, also those that a later one of the same name and step replaced."""
    rows = query(f"SELECT uid, {_LISTED} FROM plot WHERE run_id = %s ORDER BY recorded_at, plot_id", run_id)
    return [(row[0], _row(row[1:])) for row in rows]
