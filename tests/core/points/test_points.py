"""Points: merging, splitting, statistics, codecs, reduction."""

import math
import struct

import numpy as np
import pytest
import zstandard
from hypothesis import given, settings
from hypothesis import strategies as st

from kinetrum.core.base.errors import InvalidInput, TooLarge
from kinetrum.core.points.codec import (
    BATCH_MAGIC,
    Group,
    check_group,
    decode_batch,
    decode_chunk,
    encode_batch,
    encode_chunk,
)
from kinetrum.core.points.columns import Points, merge, no_points, points_of, shown, split
from kinetrum.core.points.reduce import from_rollups, reduce, rollup, sketch
from kinetrum.core.points.stats import combine, stats_of, unpack

point = st.tuples(st.integers(-20, 20), st.integers(0, 6), st.sampled_from([0.0, -0.0, 1.5, math.nan, math.inf, -3.25]))


def made(rows: list[tuple[int, int, float]]) -> Points:
    return points_of([r[0] for r in rows], [r[1] for r in rows], [r[2] for r in rows])


def bits(points: Points) -> list[tuple[int, int, bytes]]:
    return [
        (int(s), int(t), struct.pack("<d", v))
        for s, t, v in zip(points.steps, points.times, points.values, strict=True)
    ]


@given(st.lists(point, max_size=40), st.randoms(use_true_random=False), st.integers(1, 5))
def test_merge_knows_no_order_and_no_repeats(rows: list, random, parts: int) -> None:
    once = merge([made(rows)])
    shuffled = rows + rows[: len(rows) // 2]
    random.shuffle(shuffled)
    pieces = [made(shuffled[at::parts]) for at in range(parts)]
    assert bits(merge(pieces)) == bits(once)
    assert bits(merge([merge(pieces[:2]), *pieces[2:]])) == bits(once)
    assert bits(once) == sorted(
        {(s, t, struct.pack("<d", v)) for s, t, v in rows}, key=lambda r: (r[0], r[1], struct.unpack("<Q", r[2])[0])
    )


@given(st.lists(point, min_size=1, max_size=40))
def test_shown_is_the_latest_of_each_step(rows: list) -> None:
    seen = shown(merge([made(rows)]))
    assert list(seen.steps) == sorted({row[0] for row in rows})
    for step, time in zip(seen.steps, seen.times, strict=True):
        assert time == max(row[1] for row in rows if row[0] == step)


@given(st.lists(point, max_size=60), st.integers(1, 9))
def test_split_keeps_everything_and_never_cuts_a_step(rows: list, size: int) -> None:
    whole = merge([made(rows)])
    pieces = split(whole, size)
    assert bits(merge(pieces)) == bits(whole)
    for before, after in zip(pieces, pieces[1:], strict=False):
        assert before.steps[-1] < after.steps[0]


@given(st.lists(point, min_size=1, max_size=60), st.integers(1, 9))
def test_statistics_of_pieces_combine_to_those_of_the_whole(rows: list, size: int) -> None:
    whole = merge([made(rows)])
    one, many = stats_of(whole), combine(stats_of(piece) for piece in split(whole, size))
    seen = shown(whole)
    assert many.count == one.count == len(seen)
    assert many.nan_count == one.nan_count == int(np.isnan(seen.values).sum())
    for name in ("first", "last", "low", "high", "first_step", "last_step"):
        left, right = getattr(one, name), getattr(many, name)
        assert left == right or (math.isnan(left) and math.isnan(right)), name
    numbers = seen.values[~np.isnan(seen.values)]
    if len(numbers):
        assert many.low == numbers.min()
        assert many.high == numbers.max()
    assert unpack(one.pack()).pack() == one.pack()


def test_nan_is_never_best() -> None:
    stats = stats_of(made([(0, 0, math.nan), (1, 0, 2.0), (2, 0, 1.0), (3, 0, math.nan)]))
    assert stats.best(True) == (2.0, 1)
    assert stats.best(False) == (1.0, 2)
    assert (stats.count, stats.nan_count) == (4, 2)
    assert stats.mean == 1.5
    assert math.isnan(stats.last)
    only = stats_of(made([(0, 0, math.nan)]))
    assert math.isnan(only.best(True)[0])
    assert math.isnan(only.mean)


@given(st.lists(point, min_size=1, max_size=50))
def test_a_chunk_keeps_every_bit(rows: list) -> None:
    whole = merge([made(rows)])
    assert bits(decode_chunk(encode_chunk(whole))) == bits(whole)


def test_a_chunk_is_small() -> None:
    random = np.random.default_rng(0)
    steps = np.arange(4096)
    curve = np.exp(-steps / 900) + random.normal(0, 0.01, 4096).astype(np.float32)
    size = len(encode_chunk(points_of(steps, 1_790_000_000_000_000 + steps * 100_000, curve.astype(np.float32))))
    assert size / 4096 < 7


def group(keys: tuple[str, ...], count: int) -> Group:
    return Group(keys, np.arange(count), np.arange(count) + 5, np.ones((len(keys), count)))


def test_a_batch_comes_back() -> None:
    sent = [group(("loss", "val/größe"), 3), group(("x",), 0), group(("y",), 1)]
    for left, right in zip(sent, decode_batch(encode_batch(sent)), strict=True):
        assert left.keys == right.keys
        assert (left.steps == right.steps).all()
        assert (left.times == right.times).all()
        assert (left.values == right.values).all()


@settings(max_examples=200)
@given(st.binary(max_size=200))
def test_any_bytes_are_refused_or_read(body: bytes) -> None:
    for form in (body, BATCH_MAGIC + body, BATCH_MAGIC + zstandard.ZstdCompressor().compress(body)):
        try:
            decode_batch(form)
        except (InvalidInput, TooLarge):
            pass


@given(st.integers(5, 200))
def test_a_cut_batch_is_refused(cut: int) -> None:
    frame = zstandard.ZstdDecompressor().decompress(encode_batch([group(("loss", "recall"), 5)])[4:])
    part = frame[: len(frame) - 1 - cut % (len(frame) - 3)]
    with pytest.raises(InvalidInput):
        decode_batch(BATCH_MAGIC + zstandard.ZstdCompressor().compress(part))


def test_a_batch_that_unpacks_too_large_is_refused() -> None:
    bomb = BATCH_MAGIC + zstandard.ZstdCompressor().compress(b"\0" * (40 * 1024 * 1024))
    assert len(bomb) < 10_000
    with pytest.raises(TooLarge):
        decode_batch(bomb)


def test_groups_out_of_range_are_refused() -> None:
    good = group(("loss",), 2)
    check_group(good)
    for wrong in (
        Group(("a", "a"), good.steps, good.times, np.zeros((2, 2))),
        Group((), good.steps, good.times, np.zeros((0, 2))),
        Group(("a",), np.array([0, 2**63 - 1]), good.times, good.values),
        Group(("a",), np.array([0, -(2**63)]), good.times, good.values),
        Group(("a",), good.steps, np.array([0, -1]), good.values),
    ):
        with pytest.raises(InvalidInput):
            check_group(wrong)


@given(st.integers(1, 3000), st.integers(10, 200), st.integers(0, 2**31))
@settings(max_examples=50)
def test_reduction_keeps_ends_and_extremes(count: int, width: int, seed: int) -> None:
    random = np.random.default_rng(seed)
    values = random.normal(size=count)
    values[random.random(count) < 0.05] = np.nan
    whole = points_of(np.cumsum(random.integers(1, 9, count)), np.arange(count), values)
    less = reduce(whole, width)
    assert len(less) <= max(count, 0) and (count <= 2 * width or len(less) <= 2 * width + 2)
    assert less.steps[0] == whole.steps[0] and less.steps[-1] == whole.steps[-1]
    if not np.isnan(values).all():
        assert np.nanmin(less.values) == np.nanmin(values)
        assert np.nanmax(less.values) == np.nanmax(values)


def test_rollups_keep_peaks() -> None:
    values = np.zeros(10_000)
    values[7_777], values[1_234] = 9.0, -4.0
    whole = points_of(np.arange(10_000), np.arange(10_000), values)
    coarse = from_rollups([rollup(piece) for piece in split(whole, 4096)])
    assert coarse.values.max() == 9.0
    assert coarse.values.min() == -4.0
    assert len(coarse) < 100


def test_sketch_is_short_and_ends_at_the_end() -> None:
    whole = points_of(np.arange(1000), np.arange(1000), np.arange(1000.0))
    line = sketch(whole, 48)
    assert len(line) == 48
    assert line[0] == (0, 0.0)
    assert line[-1] == (999, 999.0)
    assert sketch(no_points()) == []
    assert sketch(whole.cut(slice(0, 2))) == [(0, 0.0), (1, 1.0)]


def test_statistics_carry_the_version_of_their_form() -> None:
    stats = stats_of(points_of(np.array([1, 2]), np.array([1, 2]), np.array([3.0, 4.0])))
    packed = stats.pack()
    assert (packed[0], len(packed)) == (1, 81)
    assert unpack(packed) == stats
    # As they were packed before versions were told.
    assert unpack(packed[1:]) == stats
    with pytest.raises(ValueError, match="form 2"):
        unpack(b"\x02" + packed[1:])
