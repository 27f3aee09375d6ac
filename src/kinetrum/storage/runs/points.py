"""Metric points: a tail of batches as they came, and chunks into which they are compacted.

Guarantees: a batch is durable when `append_batch` returns; the same batch sent again changes nothing;
batches that are late, repeated or overlapping give the same series in whatever order they arrive;
a reader sees every acknowledged point, also while compaction moves it.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass

from peewee import ModelSelect, Tuple, fn

from kinetrum.core.points.codec import Group, decode_batch, decode_chunk, encode_chunk
from kinetrum.core.points.columns import Points, merge, split
from kinetrum.core.points.reduce import rollup, sketch
from kinetrum.core.points.stats import Stats, combine, stats_of, unpack
from kinetrum.storage.db.database import Prepared, insert_rows, lock_rows, named_rows
from kinetrum.storage.runs import statements
from kinetrum.storage.tables.people import EarlierName, Experiment, Project
from kinetrum.storage.tables.runs import PointChunk, PointRollup, PointTail, RunIngest, RunRow, Series

CHUNK_SIZE = 4_096


SKETCH_SIZE = 48


_BATCHES_AT_ONCE = 64


_SERIES_AT_ONCE = 100


_CHUNK_FIELDS = (
    PointChunk.series_id,
    PointChunk.first_step,
    PointChunk.first_time,
    PointChunk.last_step,
    PointChunk.last_time,
    PointChunk.n,
    PointChunk.stats,
    PointChunk.data,
)


_APPEND = Prepared(
    lambda run_id, batch_uid, count, body: PointTail.insert(
        run_id=run_id, batch_uid=batch_uid, n=count, payload=body
    ).on_conflict_ignore()
)


def append_batch(run_id: int, batch_uid: bytes, body: bytes, count: int) -> bool:
    """Keep one batch; tells whether it is new."""
    return bool(_APPEND.execute(run_id, batch_uid, count, body))


def runs_to_compact(but: Sequence[int] = (), limit: int = 100) -> list[int]:
    """Return runs with batches in their tail, without the named ones."""
    waiting = PointTail.select(PointTail.run_id).distinct().limit(limit)
    if but:
        waiting = waiting.where(PointTail.run_id.not_in(list(but)))
    return [row.run_id for row in named_rows(waiting)]


def latest_batches(project: str | None, experiment: str | None = None) -> dict[int, int]:
    """Return the runs that have batches in their tail, each with its latest batch's number.

    Of all projects, of one, or with `experiment`, by its name or one that it had before, of that alone.
    """
    tail = PointTail.select(PointTail.run_id, fn.MAX(PointTail.seq).alias("latest")).group_by(PointTail.run_id)
    latest = {row.run_id: row.latest for row in named_rows(tail)}
    if project is None or not latest:
        return latest
    # Asked only of the few runs whose points wait: among all of a project's runs it would take as long as reading them.
    within = (
        RunRow.select(RunRow.run_id)
        .join(Experiment, on=Experiment.experiment_id == RunRow.experiment_id)
        .join(Project, on=Project.project_id == Experiment.project_id)
        .where(RunRow.run_id.in_(list(latest)), Project.name == project)
    )
    if experiment is not None:
        earlier = EarlierName.select(EarlierName.row_id).where(
            (EarlierName.kind == "experiment") & (EarlierName.name == experiment)
        )
        within = within.where((Experiment.name == experiment) | Experiment.experiment_id.in_(earlier))
    return {row.run_id: latest[row.run_id] for row in named_rows(within)}


def is_waiting(run_id: int, latest: int) -> bool:
    """Tell whether a run's tail still has a batch of this number or an earlier one."""
    return bool(PointTail.select().where(PointTail.run_id == run_id, PointTail.seq <= latest).exists())


@dataclass(frozen=True)
class Compacted:
    """What compaction changed: statistics and thin line of every touched metric."""

    stats: dict[str, Stats]
    sketches: dict[str, list[tuple[int, float]]]


def compact(run_id: int) -> Compacted | None:
    """Move the run's tail into chunks, in the caller's transaction.

    Returns None where another process is at it or there is nothing to do.
    """
    if not lock_rows(RunIngest.select().where(RunIngest.run_id == run_id), "FOR UPDATE SKIP LOCKED"):
        return None
    tail = named_rows(_tail_of(run_id).limit(_BATCHES_AT_ONCE))
    if not tail:
        return None
    fresh = {
        key: merge(parts)
        for key, parts in _by_key([group for row in tail for group in decode_batch(row.payload)]).items()
    }
    ids = _intern_series(run_id, list(fresh))
    changed: dict[str, Stats] = {}
    sketches: dict[str, list[tuple[int, float]]] = {}
    keys = sorted(fresh)
    for start in range(0, len(keys), _SERIES_AT_ONCE):
        part = {ids[key]: fresh[key] for key in keys[start : start + _SERIES_AT_ONCE]}
        done = _compact_series(part)
        for key in keys[start : start + _SERIES_AT_ONCE]:
            changed[key], sketches[key] = done[ids[key]]
    # Exactly the rows that were read: others may have been committed meanwhile. A batch that is repeated
    # after its row is gone arrives anew, and the merge finds every point of it in place.
    PointTail.delete().where(PointTail.run_id == run_id, PointTail.seq.in_([row.seq for row in tail])).execute()
    return Compacted(changed, sketches)


def _tail_of(run_id: int) -> ModelSelect[PointTail]:
    return PointTail.select(PointTail.seq, PointTail.payload).where(PointTail.run_id == run_id).order_by(PointTail.seq)


def _by_key(groups: list[Group]) -> dict[str, list[Points]]:
    by_key: dict[str, list[Points]] = defaultdict(list)
    for group in groups:
        for key, points in group.series():
            if len(points):
                by_key[key].append(points)
    return by_key


def _intern_series(run_id: int, keys: list[str]) -> dict[str, int]:
    ids = series_ids(run_id, keys)
    missing = sorted(set(keys) - set(ids))
    if missing:
        insert_rows(Series, [Series.run_id, Series.name], [(run_id, key) for key in missing], ignore=True)
        ids.update(series_ids(run_id, missing))
    return ids


def series_ids(run_id: int, keys: list[str]) -> dict[str, int]:
    """Return the ids of the run's series of these names."""
    if not keys:
        return {}
    rows = Series.select(Series.name, Series.series_id).where(Series.run_id == run_id, Series.name.in_(keys))
    return {row.name: row.series_id for row in named_rows(rows)}


def _compact_series(fresh: dict[int, Points]) -> dict[int, tuple[Stats, list[tuple[int, float]]]]:
    """Merge new points into the chunks of their series, many series with few statements."""
    stored = _chunks_touched(fresh)
    gone = [row[0] for rows in stored.values() for row in rows]
    if gone:
        PointChunk.delete().where(PointChunk.chunk_id.in_(gone)).execute()
        starts = [(series, row[1]) for series, rows in stored.items() for row in rows]
        PointRollup.delete().where(Tuple(PointRollup.series_id, PointRollup.first_step).in_(starts)).execute()
    pieces = {
        series: split(merge([*[decode_chunk(row[2]) for row in stored.get(series, [])], new]), CHUNK_SIZE)
        for series, new in fresh.items()
    }
    insert_rows(
        PointChunk,
        _CHUNK_FIELDS,
        [
            (
                series,
                int(piece.steps[0]),
                int(piece.times[0]),
                int(piece.steps[-1]),
                int(piece.times[-1]),
                len(piece),
                stats_of(piece).pack(),
                encode_chunk(piece),
            )
            for series, parts in pieces.items()
            for piece in parts
        ],
        size=50,
    )
    insert_rows(
        PointRollup,
        [PointRollup.series_id, PointRollup.first_step, PointRollup.mini],
        [(series, int(piece.steps[0]), rollup(piece)) for series, parts in pieces.items() for piece in parts],
        size=200,
    )
    ids = sorted(fresh)
    stats: dict[int, list[Stats]] = defaultdict(list)
    rows = (
        PointChunk.select(PointChunk.series_id, PointChunk.stats)
        .where(PointChunk.series_id.in_(ids))
        .order_by(PointChunk.series_id, PointChunk.first_step)
    )
    for row in named_rows(rows):
        stats[row.series_id].append(unpack(row.stats))
    return {series: (combine(stats[series]), _thin_line(stats[series], pieces[series])) for series in ids}


def _chunks_touched(fresh: dict[int, Points]) -> dict[int, list[tuple[int, int, bytes]]]:
    """Return (chunk id, first step, data) of chunks that new points overlap, and of one before them to top up."""
    spans = {series: (int(points.steps[0]), int(points.steps[-1])) for series, points in fresh.items()}
    touched: dict[int, list[tuple[int, int, bytes]]] = defaultdict(list)
    for series, chunk, start, data in statements.chunks_touched(spans, CHUNK_SIZE):
        touched[series].append((chunk, start, data))
    return touched


def _thin_line(parts: list[Stats], pieces: list[Points]) -> list[tuple[int, float]]:
    if len(parts) == len(pieces):
        return sketch(merge(pieces), SKETCH_SIZE)
    if len(parts) < SKETCH_SIZE:
        line = [(part.first_step, part.first) for part in parts]
    else:
        line = [
            (parts[at * len(parts) // SKETCH_SIZE].first_step, parts[at * len(parts) // SKETCH_SIZE].mean)
            for at in range(SKETCH_SIZE)
        ]
    return [*line, (parts[-1].last_step, parts[-1].last)]


def tail_points(run_id: int, keys: set[str] | None) -> dict[str, list[Points]]:
    """Return the points of a run that wait to be put into chunks, by metric; of those named, or of all."""
    points_by_key = _by_key([group for row in named_rows(_tail_of(run_id)) for group in decode_batch(row.payload)])
    return {key: points for key, points in points_by_key.items() if keys is None or key in keys}
