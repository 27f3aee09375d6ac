"""Reading points: whole, in stretches, at steps, and reduced to the pixels of a chart."""

from __future__ import annotations

from bisect import bisect_right
from collections import defaultdict
from collections.abc import Sequence

from peewee import SQL, Expression, fn

from kinetrum.core.points.codec import decode_chunk
from kinetrum.core.points.columns import Points, merge, shown
from kinetrum.core.points.reduce import from_rollups, reduce
from kinetrum.storage.db.database import named_rows, one_row
from kinetrum.storage.runs.points import series_ids, tail_points
from kinetrum.storage.tables.runs import PointChunk, PointRollup, PointTail, Series

ROLLUP_FROM = 64


def metric_names(run_id: int) -> list[str]:
    """Return the names of the run's metrics, in the order of their first arrival."""
    waiting = tail_points(run_id, None)
    series = Series.select(Series.name).where(Series.run_id == run_id).order_by(Series.series_id)
    return list(dict.fromkeys([*(row.name for row in named_rows(series)), *waiting]))


def metric_names_of(run_ids: list[int]) -> dict[int, tuple[str, ...]]:
    """Return the names of many runs' metrics by run id; runs without any are missing."""
    if not run_ids:
        return {}
    named = Series.select(Series.run_id, Series.name).where(Series.run_id.in_(run_ids)).order_by(Series.series_id)
    waiting = PointTail.select(PointTail.run_id).where(PointTail.run_id.in_(run_ids)).distinct()
    names: dict[int, list[str]] = {}
    for row in named_rows(named):
        names.setdefault(row.run_id, []).append(row.name)
    return {run_id: tuple(of_run) for run_id, of_run in names.items()} | {
        row.run_id: tuple(metric_names(row.run_id)) for row in named_rows(waiting)
    }


def read_points(run_id: int, key: str) -> Points:
    """Return every point of a metric that was acknowledged before the call, merged; also those not shown."""
    waiting = tail_points(run_id, {key}).get(key, [])
    series_id = series_ids(run_id, [key]).get(key)
    stored = []
    if series_id is not None:
        chunks = PointChunk.select(PointChunk.data).where(PointChunk.series_id == series_id)
        stored = [decode_chunk(row.data) for row in named_rows(chunks.order_by(PointChunk.first_step))]
    return merge([*stored, *waiting])


def read_at(run_id: int, steps: Sequence[int]) -> dict[int, dict[str, tuple[int, float]]]:
    """Return for each step the latest shown point of every metric of a run up to it: (its step, its value).

    A metric that began later is missing there. Only the chunks that hold these points are read.
    """
    # The tail is read before the chunks: compaction moves points from it to them, never back.
    waiting = tail_points(run_id, None)
    series = Series.select(Series.series_id, Series.name).where(Series.run_id == run_id).order_by(Series.series_id)
    names = {row.series_id: row.name for row in named_rows(series)}
    starts: dict[int, list[tuple[int, int]]] = defaultdict(list)
    layout = (
        PointChunk.select(PointChunk.series_id, PointChunk.first_step, PointChunk.chunk_id)
        .where(PointChunk.series_id.in_(list(names)))
        .order_by(PointChunk.series_id, PointChunk.first_step, PointChunk.first_time)
    )
    for row in named_rows(layout) if names else ():
        starts[row.series_id].append((row.first_step, row.chunk_id))
    needed: dict[int, dict[int, int]] = {
        step: {
            series_id: rows[at - 1][1]
            for series_id, rows in starts.items()
            if (at := bisect_right(rows, (step, 2**63)))
        }
        for step in steps
    }
    wanted = sorted({chunk for chunks in needed.values() for chunk in chunks.values()})
    chunks = PointChunk.select(PointChunk.chunk_id, PointChunk.data).where(PointChunk.chunk_id.in_(wanted))
    stored = {row.chunk_id: decode_chunk(row.data) for row in named_rows(chunks)} if wanted else {}
    return {
        step: _latest_up_to(
            step, {names[series_id]: stored[chunk] for series_id, chunk in keys_at_step.items()}, waiting
        )
        for step, keys_at_step in needed.items()
    }


def _latest_up_to(
    step: int, stored: dict[str, Points], waiting: dict[str, list[Points]]
) -> dict[str, tuple[int, float]]:
    points_by_step = {}
    for name in dict.fromkeys([*stored, *waiting]):
        points = shown(merge([*([stored[name]] if name in stored else []), *waiting.get(name, [])]))
        points = points.cut(points.steps <= step)
        if len(points):
            points_by_step[name] = (int(points.steps[-1]), float(points.values[-1]))
    return points_by_step


def read_stretch(run_id: int, key: str, after: int, chunks: int = 32) -> tuple[Points, int | None]:
    """Return the next stretch of a metric's points with steps beyond `after`, and where the one after it begins.

    The second is None at the end. Memory is bounded by the number of chunks, however long the metric is.
    """
    waiting = [part.cut(part.steps > after) for part in tail_points(run_id, {key}).get(key, [])]
    series_id = series_ids(run_id, [key]).get(key)
    rows = []
    if series_id is not None:
        rows = named_rows(
            PointChunk.select(PointChunk.data, PointChunk.first_step)
            .where(PointChunk.series_id == series_id, PointChunk.last_step > after)
            .order_by(PointChunk.first_step)
            .limit(chunks + 1)
        )
    points = merge([*[decode_chunk(row.data) for row in rows[:chunks]], *waiting])
    points = points.cut(points.steps > after)
    if len(rows) <= chunks:
        return points, None
    end = int(rows[chunks].first_step) - 1
    return points.cut(points.steps <= end), end


def read_curve(run_id: int, key: str, width: int, first: int | None, last: int | None) -> Points:
    """Return a metric's shown points between two steps, reduced to `width` pixels.

    Long stretches are read from rollups: lowest and highest value of every 256 points.
    """
    # The tail is read before the chunks: compaction moves points from it to them, never back.
    waiting = tail_points(run_id, {key}).get(key, [])
    series_id = series_ids(run_id, [key]).get(key)
    stored: list[Points] = []
    if series_id is not None:
        begin, end = _or(first, -(2**62)), _or(last, 2**62)
        within = (PointChunk.series_id == series_id, PointChunk.last_step >= begin, PointChunk.first_step <= end)
        size = one_row(
            PointChunk.select(
                fn.COUNT(SQL("*")).alias("chunks"), fn.COALESCE(fn.SUM(PointChunk.n), 0).alias("total")
            ).where(*within)
        )
        if size.chunks and size.total > ROLLUP_FROM * width:
            coarse = merge([from_rollups(_rollups(series_id, begin, end)), *_ends(within)])
            newest = shown(merge(waiting))
            if not len(newest):
                return reduce(_between(coarse, first, last), width)
            early, late = coarse.steps < newest.steps[0], coarse.steps > newest.steps[-1]
            whole = [coarse.cut(early), newest, coarse.cut(late)]
            return reduce(_between(_joined(whole), first, last), width)
        chunks = PointChunk.select(PointChunk.data).where(*within).order_by(PointChunk.first_step)
        stored = [decode_chunk(row.data) for row in named_rows(chunks)]
    return reduce(_between(shown(merge([*stored, *waiting])), first, last), width)


def _rollups(series_id: int, begin: int, end: int) -> list[bytes]:
    """Return the rollups of a stretch, from the chunk on in which it begins."""
    before = PointChunk.select(fn.MAX(PointChunk.first_step)).where(
        PointChunk.series_id == series_id, PointChunk.first_step <= begin
    )
    rows = (
        PointRollup.select(PointRollup.mini)
        .where(
            PointRollup.series_id == series_id,
            PointRollup.first_step <= end,
            PointRollup.first_step >= fn.COALESCE(before, begin),
        )
        .order_by(PointRollup.first_step)
    )
    return [row.mini for row in named_rows(rows)]


def _ends(within: tuple[Expression, ...]) -> list[Points]:
    """Return the first and the last point of a stretch, which a rollup may have left out."""
    ends = []
    for order, at in ((PointChunk.first_step.asc(), 0), (PointChunk.first_step.desc(), -1)):
        points = decode_chunk(one_row(PointChunk.select(PointChunk.data).where(*within).order_by(order).limit(1)).data)
        ends.append(points.cut([at]))
    return ends


def _joined(parts: list[Points]) -> Points:
    import numpy as np

    return Points(
        np.concatenate([part.steps for part in parts]),
        np.concatenate([part.times for part in parts]),
        np.concatenate([part.values for part in parts]),
    )


def _or(value: int | None, otherwise: int) -> int:
    return otherwise if value is None else value


def _between(points: Points, first: int | None, last: int | None) -> Points:
    if first is None and last is None:
        return points
    return points.cut((points.steps >= _or(first, -(2**62))) & (points.steps <= _or(last, 2**62)))
