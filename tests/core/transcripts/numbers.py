"""Points and noise, number by number: packing, merging, reducing, statistics; verdicts on rows and on runs."""

from __future__ import annotations

import math
import struct
from collections.abc import Callable, Iterator
from itertools import product
from typing import Any

import numpy as np
import zstandard

from kinetrum.core.points.codec import (
    Group,
    check_group,
    decode_batch,
    decode_chunk,
    encode_batch,
    encode_chunk,
    value_rows,
)
from kinetrum.core.points.columns import Points, merge, no_points, points_of, shown, split
from kinetrum.core.points.reduce import from_rollups, reduce, rollup, sketch
from kinetrum.core.points.stats import combine, stats_of, unpack
from kinetrum.core.points.together import band_of
from kinetrum.core.statistics.noise.areas import compare_areas
from kinetrum.core.statistics.noise.difference import (
    difference_of,
    differences_at_once,
    paired_by_seed,
    picked,
    runs_to_tell,
    tell_runs,
)
from kinetrum.core.statistics.noise.dunnett import critical_value, pooled_error, vary_alike
from kinetrum.core.statistics.noise.losses import mean_interval
from kinetrum.core.statistics.noise.measures import (
    compare_classes,
    compare_numbers,
    compare_scores,
    is_known,
    select_measures,
)
from kinetrum.core.statistics.noise.samples import pooled_deviation, spread_of
from kinetrum.core.statistics.noise.shares import Pairs, mean_share_interval, share_interval
from kinetrum.core.statistics.noise.swaps import RATIOS, Counts, ratio_interval, ratio_values
from kinetrum.core.statistics.noise.verdict import Interval, fewest_rows, percent, too_few, verdict_of

Asked = Iterator[tuple[str, Callable[[], Any]]]
NAN, INF = math.nan, math.inf


def line(count: int, seed: int = 0, odd: bool = False) -> Points:
    """A curve of so many points, with numbers that every machine writes alike."""
    at = np.arange(count)
    values = np.round(np.sin(at * 0.37 + seed) * 100) / 8
    if odd:
        values[::7], values[3::11] = NAN, INF
    return points_of(at * 3 + seed, 1_000_000 * at + seed, values)


SERIES = {
    "none": no_points(),
    "one": line(1),
    "two": line(2, 5),
    "odd": line(40, 1, True),
    "many": line(700, 2),
    "nan": points_of([1, 2, 3], [1, 2, 3], [NAN, NAN, NAN]),
    "twice": points_of([1, 1, 2, 2, 2, 9], [5, 7, 1, 3, 2, 0], [1.0, 2.0, -0.0, 0.0, NAN, INF]),
    "back": points_of([9, -4, 3, 3], [1, 2, 3, 3], [1.5, -2.5, 3.5, 3.5]),
    "flat": points_of(range(30), range(30), [2.0] * 30),
    "huge": points_of([-(2**62), 0, 2**62], [0, 1, 2], [1e308, -1e308, 5e-324]),
}


def rows_of(points: Points) -> list[Any]:
    return [points.steps, points.times, points.values]


def points() -> Asked:
    for name, held in SERIES.items():
        yield f"{name}: merged", lambda held=held: rows_of(merge([held]))
        yield (
            f"{name}: merged with others",
            lambda held=held: rows_of(merge([held, SERIES["twice"], no_points(), held])),
        )
        yield f"{name}: shown", lambda held=held: rows_of(shown(merge([held])))
        for size in (1, 2, 3, 5, 256):
            yield (
                f"{name}: split by {size}",
                lambda held=held, size=size: [len(part) for part in split(merge([held]), size)],
            )
        for width in (1, 2, 3, 10, 349, 350, 351):
            yield (
                f"{name}: reduced to {width}",
                lambda held=held, width=width: rows_of(reduce(shown(merge([held])), width)),
            )
        for size in (1, 2, 5, 48):
            yield f"{name}: sketched in {size}", lambda held=held, size=size: sketch(merge([held]), size)
        yield f"{name}: sketched", lambda held=held: len(sketch(merge([held])))
        yield f"{name}: packed as a chunk", lambda held=held: rows_of(decode_chunk(encode_chunk(merge([held]))))
        if len(held):
            yield (
                f"{name}: rolled up",
                lambda held=held: (rollup(merge([held])), rows_of(from_rollups([rollup(merge([held]))]))),
            )
            yield (
                f"{name}: statistics",
                lambda held=held: (
                    stats_of(merge([held])),
                    stats_of(merge([held])).mean,
                    [stats_of(merge([held])).best(way) for way in (True, False)],
                ),
            )
            yield (
                f"{name}: statistics packed",
                lambda held=held: (
                    stats_of(merge([held])).pack(),
                    unpack(stats_of(merge([held])).pack()) == stats_of(merge([held])),
                ),
            )
            for other in ("one", "odd", "nan", "back", "huge"):
                yield (
                    f"{name}: statistics with {other}",
                    lambda held=held, other=other: combine([stats_of(merge([held])), stats_of(merge([SERIES[other]]))]),
                )
    for names, width in product(
        (("one",), ("odd", "many"), ("nan", "flat"), ("two", "back", "flat"), ("none", "one"), ()), (1, 3, 10)
    ):
        yield (
            f"{names} together in {width}",
            lambda names=names, width=width: band_of([merge([SERIES[name]]) for name in names], width),
        )


def group(**changes: Any) -> Group:
    held: dict[str, Any] = {
        "keys": ("loss", "val/loss"),
        "steps": np.array([1, 2, 5]),
        "times": np.array([10, 20, 20]),
        "values": np.array([[0.5, NAN, -INF], [1.0, 2.0, 3.0]]),
    }
    return Group(**{**held, **changes})


GROUPS = {
    "plain": lambda: group(),
    "no column": lambda: group(keys=(), values=np.empty((0, 3))),
    "no points": lambda: group(
        steps=np.array([], dtype=np.int64), times=np.array([], dtype=np.int64), values=np.empty((2, 0))
    ),
    "short times": lambda: group(times=np.array([10])),
    "a row too few": lambda: group(values=np.array([[1.0, 2.0, 3.0]])),
    "short rows": lambda: group(values=np.array([[1.0], [2.0]])),
    "a key twice": lambda: group(keys=("loss", "loss")),
    "a bad key": lambda: group(keys=("loss", "a\nb")),
    "an empty key": lambda: group(keys=("", "loss")),
    "steps backwards": lambda: group(steps=np.array([5, 2, 1])),
    "a huge step": lambda: group(steps=np.array([1, 2, 2**62 + 1])),
    "times before 1970": lambda: group(times=np.array([-1, 20, 30])),
}


def frames() -> Iterator[tuple[str, bytes]]:
    """Batches that no client of ours would write, with what is wrong with them."""

    def framed(raw: bytes, sized: bool = True) -> bytes:
        return b"KPB1" + zstandard.ZstdCompressor(level=1, write_content_size=sized).compress(raw)

    def block(count: int, keys: list[bytes], told: int | None = None) -> bytes:
        names = b"".join(struct.pack("<H", len(key)) + key for key in keys)
        held = bytes(8 * count * (2 + len(keys)))
        return struct.pack("<H", len(keys)) + names + struct.pack("<I", count if told is None else told) + held

    ten = [f"k{at}".encode() for at in range(10)]
    yield "no byte at all", framed(b"")
    yield "one byte", framed(b"\1")
    yield "its size not stated", framed(struct.pack("<H", 0), sized=False)
    yield "no groups, and more", framed(struct.pack("<H", 0) + b"x")
    yield "a group too few", framed(struct.pack("<H", 2) + block(1, [b"a"]))
    yield "a group too many", framed(struct.pack("<H", 1) + block(1, [b"a"]) * 2)
    yield "a point too few", framed(struct.pack("<H", 1) + block(2, [b"a"], 3))
    yield "points without end", framed(struct.pack("<H", 1) + block(0, [b"a"], 2**32 - 1))
    yield "a name that is not UTF-8", framed(struct.pack("<H", 1) + block(1, [b"\xff" * 60]))
    yield "as many values as are taken", framed(struct.pack("<H", 2) + block(50_000, ten) * 2)
    yield "one value more", framed(struct.pack("<H", 3) + block(50_000, ten) * 2 + block(1, [b"a"]))
    yield "as many bytes as are taken", framed(bytes(32 * 2**20))
    yield "one byte more", framed(bytes(32 * 2**20 + 1))
    yield "many groups", framed(struct.pack("<H", 33_000) + block(0, [b"a"]) * 33_000)
    yield "many metrics", framed(struct.pack("<H", 1) + block(0, [f"k{at}".encode() for at in range(33_000)]))
    yield (
        "many groups, by our own hand",
        encode_batch([group(steps=np.array([1]), times=np.array([1]), keys=("a",), values=np.array([[1]]))] * 33_000),
    )
    yield (
        "many metrics, by our own hand",
        encode_batch(
            [
                group(
                    steps=np.array([1]),
                    times=np.array([1]),
                    keys=tuple(f"k{at}" for at in range(33_000)),
                    values=np.ones((33_000, 1)),
                )
            ]
        ),
    )


def packing() -> Asked:
    for name, make in GROUPS.items():
        yield f"{name}: checked", lambda make=make: check_group(make())
        yield (
            f"{name}: packed",
            lambda make=make: [
                [one.keys, one.steps, one.times, one.values] for one in decode_batch(encode_batch([make(), make()]))
            ],
        )
        yield f"{name}: series", lambda make=make: [(key, rows_of(held)) for key, held in make().series()]
    whole = encode_batch([group(), group(keys=("x", "y"))])
    yield "nothing packed", lambda: decode_batch(encode_batch([]))
    for cut in (0, 1, 3, 4, 5, 6, 8, 10, len(whole) // 2, len(whole) - 1):
        yield f"cut after {cut} of {len(whole)}", lambda cut=cut: len(decode_batch(whole[:cut]))
    for tail in (b"\0", b"more"):
        yield f"with {tail!r} behind", lambda tail=tail: len(decode_batch(whole + tail))
    for head in (b"", b"KTM0", b"XXXX", b"\0" * 40):
        yield f"beginning with {head!r}", lambda head=head: len(decode_batch(head + whole[4:]))
    for name, frame in frames():
        yield f"{name}", lambda frame=frame: [(len(one.keys), len(one.steps)) for one in decode_batch(frame)][:3]
    for steps, times in (
        ([2**62], [0]),
        ([-(2**62)], [0]),
        ([2**62 + 1], [0]),
        ([0], [-1]),
        ([0], [0]),
        ([0], [2**62]),
        ([0], [2**55]),
        ([0], [2**55 + 1]),
    ):
        yield (
            f"step {steps} at {times}",
            lambda steps=steps, times=times: check_group(
                Group(("a",), np.array(steps), np.array(times), np.zeros((1, 1)))
            ),
        )
    for columns in ({"a": [1, 2], "b": [3.5, NAN]}, {"a": np.array([True, False])}, {"a": [2**53 + 1]}):
        yield f"{columns} as rows", lambda columns=columns: (value_rows(columns), str(value_rows(columns).dtype))
    chunk = encode_chunk(line(20))
    for cut in (0, 1, 4, len(chunk) // 2, len(chunk) - 1):
        yield f"a chunk cut after {cut} of {len(chunk)}", lambda cut=cut: len(decode_chunk(chunk[:cut]))


def halves(count: int, seed: int) -> list[float]:
    return [round(math.sin(at * 1.7 + seed) * 40) / 16 + seed / 4 for at in range(count)]


def runs() -> Asked:
    for one, two, candidates, noise in product((1, 2, 5), (1, 2, 4), (1, 10), (None, 0.5)):
        left, right = halves(one, 1), halves(two, 3)
        yield (
            f"{one} runs against {two}, {candidates} candidates, noise {noise}",
            lambda left=left, right=right, candidates=candidates, noise=noise: difference_of(
                [(None, n) for n in left], [(None, n) for n in right], candidates=candidates, noise=noise
            ),
        )
        yield (
            f"{one} runs against {two}, by seed, {candidates} candidates",
            lambda left=left, right=right, candidates=candidates: difference_of(
                [(str(at), n) for at, n in enumerate(left)],
                [(str(at), n) for at, n in enumerate(right)],
                candidates=candidates,
                confidence=0.9,
            ),
        )
    for left, right in (
        ([1.0, 1.0], [2.0, 2.0]),
        ([1.0, 1.0], [1.0, 1.0]),
        ([2.0, 2.0, 2.0], [1.0]),
        ([1.0], [1.0, 1.0]),
        ([3.0], [2.0]),
    ):
        yield (
            f"{left} against {right}",
            lambda left=left, right=right: difference_of([(None, n) for n in left], [(None, n) for n in right]),
        )
    for left, right in (
        ([("1", 1.0), ("2", 2.0)], [("2", 1.0), ("1", 5.0)]),
        ([("1", 1.0), ("1", 2.0)], [("1", 1.0)]),
        ([("1", 1.0)], [("1", 1.0), ("1", 1.0)]),
        ([(None, 1.0)], [(None, 2.0)]),
        ([("1", 1.0)], [("2", 1.0)]),
        ([("1", 1.0), (None, 3.0)], [("1", 1.0), (None, 2.0)]),
        ([("1", 1.0)], [("1", 1.0), ("2", 2.0)]),
        ([], []),
    ):
        yield f"paired {left} {right}", lambda left=left, right=right: paired_by_seed(left, right)
    for change, deviation, confidence, sides in product(
        (0.0, 0.01, 0.5, -2.0, INF, NAN), (None, 0.0, 0.1, 1.0), (0.95, 0.99), (1, 2)
    ):
        yield (
            f"to tell {change} of {deviation} at {confidence}, {sides} sides",
            lambda given=(change, deviation, confidence, sides): runs_to_tell(*given),
        )
    for count in (2, 999, 1_000, 1_001, 157_000):
        yield f"{count} runs in words", lambda count=count: tell_runs(count)
    for confidence, candidates in product((0.5, 0.95, 0.99), (0, 1, 2, 20)):
        yield f"picked from {candidates} at {confidence}", lambda given=(confidence, candidates): picked(*given)
    for count, confidence in product((1, 2, 3, 9), (0.9, 0.95)):
        yield (
            f"spread of {count} at {confidence}",
            lambda count=count, confidence=confidence: spread_of(halves(count, 2), confidence),
        )
    for counts in ((1,), (1, 1), (2, 1), (3, 4), (2, 2, 2)):
        yield (
            f"pooled over {counts}",
            lambda counts=counts: pooled_deviation(
                [spread_of(halves(count, at), 0.95) for at, count in enumerate(counts)]
            ),
        )
    for sizes, baseline, confidence in product(((5,), (5, 5), (6, 8, 5)), (5, 9), (0.9, 0.95)):
        yield (
            f"critical for {sizes} against {baseline} at {confidence}",
            lambda given=(sizes, baseline, sum(sizes) + baseline - len(sizes) - 1, confidence): round(
                critical_value(*given), 5
            ),
        )
    for counts in ((5, 5), (6, 7, 5), (4, 5), (5,)):
        groups, base = [halves(count, at) for at, count in enumerate(counts)], halves(6, 9)
        yield (
            f"{counts} alike",
            lambda groups=groups, base=base: (vary_alike(groups, base), pooled_error([*groups, base])),
        )
        yield (
            f"{counts} at once",
            lambda groups=groups, base=base: [
                (
                    one.change,
                    round(one.low or 0, 5),
                    round(one.high or 0, 5),
                    one.probability,
                    one.beyond,
                    one.method,
                    one.needed,
                )
                for one in differences_at_once(groups, base, 0.9) or []
            ],
        )


def labels(count: int, seed: int, wrong: int) -> tuple[np.ndarray, np.ndarray]:
    """Truths of two classes, and guesses that are wrong in every so many-th row."""
    at = np.arange(count)
    truth = (at * (3 + 1) + 1) % 5 < 2
    return truth, np.where((at + seed) % wrong == 0, ~truth, truth)


def verdicts() -> Asked:
    for confidence in (0.5, 0.8, 0.9, 0.9375, 0.95, 0.99, 0.999, 0.9999):
        yield f"fewest at {confidence}", lambda confidence=confidence: (fewest_rows(confidence), percent(confidence))
    for measure, low, high in product(("recall", "mae"), (-0.2, 0.0, 0.1), (-0.1, 0.0, 0.2)):
        if low > high:
            continue
        yield (
            f"{measure} [{low}, {high}]",
            lambda measure=measure, low=low, high=high: verdict_of(
                measure, 30, (0.5, 0.4), Interval(low, high, 0.7, "t"), 0.95, 12
            ),
        )
    for counted in (0, 1, 2):
        yield (
            f"{counted} counted",
            lambda counted=counted: (
                verdict_of("f1", 30, (0.5, 0.4), None, 0.95, counted),
                too_few(verdict_of("f1", 30, (0.5, 0.4), None, 0.95, counted)),
            ),
        )
    for count, confidence in product((5, 6, 7, 12, 19, 20, 21, 60), (0.8, 0.95, 0.999)):
        yield (
            f"mean of {count} at {confidence}",
            lambda count=count, confidence=confidence: mean_interval(np.array(halves(count, 1)), confidence),
        )
        yield (
            f"skewed mean of {count} at {confidence}",
            lambda count=count, confidence=confidence: mean_interval(np.array(halves(count, 1)) ** 2 - 0.5, confidence),
        )
    for held in (
        [1.0] * 8,
        [0.0] * 8,
        [-2.0] * 25,
        [0.0] * 25,
        [1.25, -0.75] * 12,
        [0.3, -0.1] * 4,
        [0.1, 0.2, -0.3] * 3,
        [1.0] * 7 + [0.0] * 5,
    ):
        yield f"mean of {held[:4]} …", lambda held=held: mean_interval(np.array(held), 0.95)
    for rows, left, right, confidence in product(
        (5, 6, 40, 300), (0, 1, 5, 6, 30, 100), (0, 1, 4, 9, 70), (0.8, 0.9375, 0.95, 0.9999)
    ):
        if left + right <= rows:
            yield (
                f"{left} and {right} of {rows} at {confidence}",
                lambda given=(rows, left, right), confidence=confidence: share_interval(Pairs(*given), confidence),
            )
    for classes in (
        [],
        [(40, 3, 1)],
        [(40, 8, 2), (60, 3, 9)],
        [(40, 8, 2), (5, 1, 0)],
        [(10, 1, 0), (20, 0, 0), (30, 4, 4)],
    ):
        yield (
            f"mean over {classes}",
            lambda classes=classes: mean_share_interval([Pairs(*one) for one in classes], 0.95),
        )
    for name, given, confidence in product(
        RATIOS,
        (
            (40, 20, 11, 6, 0, 2, 0, 0),
            (40, 20, 12, 5, 0, 2, 0, 0),
            (40, 20, 9, 3, 4, 2, 5, 1),
            (300, 90, 60, 9, 5, 20, 11, 4),
            (12, 3, 1, 1, 0, 1, 1, 0),
            (12, 12, 6, 3, 1, 0, 0, 0),
            (30, 9, 0, 0, 0, 0, 0, 0),
            (30, 9, 5, 0, 0, 3, 0, 0),
            (9_000, 4_000, 1_000, 900, 800, 700, 900, 850),
        ),
        (0.8, 0.95),
    ):
        yield (
            f"{name} of {given} at {confidence}",
            lambda name=name, given=given, confidence=confidence: (
                ratio_values(RATIOS[name], Counts(*given)),
                ratio_interval(RATIOS[name], Counts(*given), confidence),
            ),
        )
    for count, confidence in product((5, 6, 9, 40, 200), (0.9, 0.95)):
        truth, left = labels(count, 0, 7)
        right = labels(count, 3, 4)[1]
        scores = [np.round((np.sin(np.arange(count) * step) + 1) * 40 + 16 * truth) / 100 for step in (0.9, 1.3)]
        yield (
            f"classes of {count} at {confidence}",
            lambda given=(truth, left, right), confidence=confidence: compare_classes(
                *(one.astype(object) for one in given), True, confidence
            ),
        )
        yield (
            f"the other class of {count} at {confidence}",
            lambda given=(truth, left, right), confidence=confidence: compare_classes(
                *(one.astype(object) for one in given), False, confidence
            ),
        )
        yield (
            f"many classes of {count} at {confidence}",
            lambda given=(truth, left, right), confidence=confidence: compare_classes(
                *(np.where(one, "a", "b").astype(object) for one in given), None, confidence
            ),
        )
        yield (
            f"areas of {count} at {confidence}",
            lambda truth=truth, scores=scores, confidence=confidence: compare_areas(truth, *scores, confidence),
        )
        yield (
            f"scores of {count} at {confidence}",
            lambda truth=truth, scores=scores, confidence=confidence: compare_scores(truth, *scores, confidence),
        )
        yield (
            f"numbers of {count} at {confidence}",
            lambda scores=scores, count=count, confidence=confidence: compare_numbers(
                np.array(halves(count, 4)), *scores, confidence
            ),
        )
    yield (
        "scores beyond 0 to 1",
        lambda: [
            one.measure for one in compare_scores(np.arange(20) < 8, np.linspace(0, 2, 20), np.linspace(0, 1, 20))
        ],
    )
    yield (
        "scores of one class",
        lambda: [
            one.measure for one in compare_scores(np.arange(20) < 0, np.linspace(0, 1, 20), np.linspace(0, 1, 20))
        ],
    )
    yield (
        "certain scores",
        lambda: compare_scores(np.arange(20) < 8, (np.arange(20) < 8) * 1.0, (np.arange(20) >= 8) * 1.0),
    )
    yield "equal numbers", lambda: compare_numbers(np.zeros(8), np.ones(8), np.ones(8))
    yield "exact numbers", lambda: compare_numbers(np.arange(8.0), np.arange(8.0), np.arange(8.0))
    yield "what is known", lambda: is_known(np.array([None, "a", 0, "", False], dtype=object))
    yield (
        "what is selected",
        lambda: [
            one.measure
            for one in select_measures(compare_numbers(np.arange(8.0), np.arange(8.0), np.arange(8.0)), ["r2"])
        ],
    )
    missing = np.array(["x"] * 8 + [None] * 3, dtype=object)
    yield (
        "scores of a rare other class",
        lambda: compare_scores(np.arange(40) >= 3, np.linspace(0, 1, 40), np.linspace(1, 0, 40)),
    )
    yield (
        "scores of a rare class",
        lambda: compare_scores(np.arange(40) < 3, np.linspace(0, 1, 40), np.linspace(1, 0, 40)),
    )
    for scale in (1e-9, 1e9):
        yield (
            f"mean of numbers of {scale}",
            lambda scale=scale: mean_interval(np.array([3.0, -1.0, 2.0, 0.5, 1.0, 4.0, -0.25, 2.5]) * scale, 0.95),
        )
    yield (
        "missing ones",
        lambda: (compare_classes(missing, missing, missing, None), compare_classes(missing, missing, missing, "x")),
    )


TOPICS = {"points": points, "points-packed": packing, "noise-of-runs": runs, "noise-of-rows": verdicts}
