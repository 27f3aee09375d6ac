"""Runs that repeat one another share a mark: settings but seed, data, code."""

from __future__ import annotations

from kinetrum.core.base.run_document import Link, RunDoc
from kinetrum.core.base.values import Value
from kinetrum.core.statistics.replicates import replicate_mark


def doc(commit: str = "c", difference: str = "", data: str = "d", role: str = "train", **params: Value) -> RunDoc:
    used = [Link("nights", 1, data, role)] if data else []
    texts = {"difference": difference} if difference else {}
    return RunDoc(params=params, used=used, code={"commit": commit}, texts=texts)


def test_what_makes_replicates() -> None:
    mark = replicate_mark(doc(depth=5, seed=1))
    assert mark is not None
    assert len(mark) == 24
    same = [doc(depth=5.0, seed=2), doc(seed="x", depth=5), doc(depth=5)]
    assert {replicate_mark(other) for other in same} == {mark}
    others = [
        doc(depth=6),
        doc(depth=5, rate=1),
        doc(depth=True),
        doc(depth="5"),
        doc(depth=5, data="other"),
        doc(depth=5, role="holdout"),
        doc(depth=5, commit="b"),
        doc(depth=5, difference="sha"),
        doc(depth=5, data=""),
    ]
    marks = [replicate_mark(other) for other in others]
    assert len({mark, *marks}) == len(others) + 1


def test_the_order_in_which_things_were_recorded_does_not_count() -> None:
    first = RunDoc(params={"a": 1, "b": 2}, used=[Link("x", 1, "1"), Link("y", 2, "2")])
    second = RunDoc(params={"b": 2, "a": 1}, used=[Link("y", 3, "2"), Link("x", 1, "1"), Link("x", 1, "1")])
    assert replicate_mark(first) == replicate_mark(second)


def test_a_run_that_says_nothing_repeats_nothing() -> None:
    assert replicate_mark(RunDoc(params={"seed": 3}, code={"commit": "c"})) is None
