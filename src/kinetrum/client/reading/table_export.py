"""Whole tables from the service, streamed: CSV, JSON Lines, Parquet; and points packed for NumPy."""

from __future__ import annotations

import os
import struct
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from kinetrum.client.reading.frames import import_arrow
from kinetrum.client.transport.http import path_of
from kinetrum.client.transport.session import Session
from kinetrum.core.base.errors import Unavailable

if TYPE_CHECKING:
    from pyarrow import Table

    from kinetrum.core.points.columns import Points


_PATIENCE_S = 900.0


def table_path(project: str, experiment: str | None) -> str:
    """Return where the runs of an experiment, or of the whole project, are."""
    return path_of("projects", project, *(("experiments", experiment) if experiment else ()))


@dataclass(frozen=True)
class RunsWanted:
    """Which runs a table has, in which order, and which columns: all of them without a choice."""

    query: str = ""
    sort: str = ""
    columns: Sequence[str] | None = None
    pareto: str = ""


def stream_runs(
    session: Session,
    experiment: str | None,
    wanted: RunsWanted,
    form: str,
    *,
    exact: bool = False,
) -> Iterator[bytes]:
    """Yield the whole table of runs of an experiment, or of the project, in a form, piece by piece.

    `exact` leaves texts that begin like formulas as recorded where the form is CSV.
    """
    path = f"{table_path(session.project, experiment)}/table"
    params: dict[str, object] = {
        "form": form,
        "query": wanted.query,
        "sort": wanted.sort,
        "pareto": wanted.pareto,
        "exact": exact,
    }
    if wanted.columns:
        params["column"] = list(wanted.columns)
    # Parquet begins once the types of all columns are known, so after every run was read.
    with session.service.stream(path, params, patience_s=_PATIENCE_S) as response:
        yield from response.iter_bytes()


def stream_series(
    session: Session,
    experiment: str | None,
    query: str,
    metrics: Sequence[str],
    form: str,
    pareto: str = "",
    *,
    exact: bool = False,
) -> Iterator[bytes]:
    """Yield every point of metrics of all runs that fit, as run, metric, step, time, value, piece by piece."""
    params: dict[str, object] = {
        "form": form,
        "query": query,
        "metric": list(metrics),
        "pareto": pareto,
        "exact": exact,
    }
    with session.service.stream(f"{table_path(session.project, experiment)}/series", params) as response:
        yield from response.iter_bytes()


def read_arrow(pieces: Iterator[bytes]) -> Table:
    """Return a streamed Parquet file as a pyarrow Table; on its way it lies on disk, not in memory."""
    import tempfile

    import_arrow()
    from pyarrow import parquet

    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "table.parquet"
        save_stream(pieces, path)
        return parquet.read_table(path)


def stream_points(
    session: Session, run_path: str, metrics: Sequence[str], form: str, exact: bool = False
) -> Iterator[bytes]:
    """Yield every point of metrics (all without one) in a form, piece by piece."""
    params: dict[str, object] = {"form": form, "metric": list(metrics), "exact": exact}
    with session.service.stream(f"{run_path}/points/table", params) as response:
        yield from response.iter_bytes()


def save_stream(pieces: Iterator[bytes], to: str | Path) -> int:
    """Write pieces to a file that appears whole or not at all; returns its size in bytes."""
    path, size = Path(to), 0
    part = path.with_name(path.name + ".part")
    try:
        with part.open("wb") as file:
            for piece in pieces:
                size += file.write(piece)
        os.replace(part, path)
    finally:
        part.unlink(missing_ok=True)
    return size


def read_points(session: Session, run_path: str, metric: str) -> Points:
    """Read every point of a metric in its packed form."""
    from kinetrum.core.points.codec import decode_batch
    from kinetrum.core.points.columns import Points, no_points

    parts: list[Points] = []
    with session.service.stream(f"{run_path}/points/packed", {"metric": metric}) as response:
        waiting = bytearray()
        for piece in response.iter_bytes():
            waiting += piece
            while len(waiting) >= 4:
                (length,) = struct.unpack_from("<I", waiting)
                if len(waiting) < 4 + length:
                    break
                body = bytes(waiting[4 : 4 + length])
                del waiting[: 4 + length]
                parts += [points for group in decode_batch(body) for _, points in group.series()]
        if waiting:
            raise Unavailable(f"The points of {metric!r} ended in the middle; read them again.")
    if not parts:
        return no_points()
    import numpy as np

    return Points(
        np.concatenate([part.steps for part in parts]),
        np.concatenate([part.times for part in parts]),
        np.concatenate([part.values for part in parts]),
    )
