"""measure() where it could go wrong: many threads, signals, refused values, segments that turn over."""

from __future__ import annotations

import contextlib
import traceback
import warnings
from pathlib import Path
from typing import Any

import numpy as np
import pytest

import kinetrum
from kinetrum.client.spool import spool
from kinetrum.core.base.errors import InvalidInput
from tests.client.recording.test_run import alone, measured, records

__all__ = ["alone"]


def test_many_threads_without_a_lock(alone: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Steps are given once, times grow, nothing is overwritten, and bad values leave no gap."""
    import sys
    import threading

    monkeypatch.setattr(spool, "_segment_size", 65_536)
    run = kinetrum.begin("threads")
    before = sys.getswitchinterval()
    sys.setswitchinterval(1e-6)

    def work(rank: int) -> None:
        for number in range(2_000):
            run.measure(loss=rank * 10_000 + number)
            run.measure({f"own-{rank}": number}, step=number)
            if number % 100 == 0:
                run.result({f"at-{rank}": number})
                with pytest.raises(InvalidInput):
                    run.measure(loss="x")

    try:
        threads = [threading.Thread(target=work, args=(rank,)) for rank in range(4)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
    finally:
        sys.setswitchinterval(before)
    run.end()
    found = records(alone)
    loss = [record for record in found if record["op"] == "point" and "loss" in record]
    assert sorted(record["loss"] for record in loss) == sorted(
        rank * 10_000 + n for rank in range(4) for n in range(2_000)
    )
    # A step of a bad value may be skipped, none is given twice.
    assert len({record["step"] for record in loss}) == 8_000
    times = [record["time"] for record in found if record["op"] == "point"]
    assert len(set(times)) == len(times)
    for rank in range(4):
        own = [record["step"] for record in found if record["op"] == "point" and f"own-{rank}" in record]
        assert own == list(range(2_000))
    assert sum(record["op"] == "results" for record in found) == 80


@pytest.mark.parametrize("size", [64 * 1024, 4 * 1024 * 1024])
def test_a_signal_in_the_middle_of_a_measure(alone: Path, monkeypatch: pytest.MonkeyPatch, size: int) -> None:
    """A handler that records, thousands of times, between any two steps of the interpreter."""
    import signal

    monkeypatch.setattr(spool, "_segment_size", size)
    run = kinetrum.begin("signals")
    fired = []

    def handler(number: int, frame: object) -> None:
        fired.append(number)
        run.result({f"fired-{len(fired)}": len(fired)})

    before = signal.signal(signal.SIGALRM, handler)
    signal.setitimer(signal.ITIMER_REAL, 0.0005, 0.0005)
    try:
        for number in range(20_000):
            run.measure(loss=number)
    finally:
        signal.setitimer(signal.ITIMER_REAL, 0)
        signal.signal(signal.SIGALRM, before)
    run.end()
    found = records(alone)
    assert [record["loss"] for record in found if record["op"] == "point"] == list(range(20_000))
    assert len(fired) > 10
    assert sum(record["op"] == "results" for record in found) == len(fired)
    numbers = sorted(int(path.stem) for path in alone.glob("writers/*/*.seg"))
    assert numbers == list(range(1, len(numbers) + 1))


@pytest.mark.parametrize("full", [False, True], ids=["on the disk", "in memory"])
@pytest.mark.parametrize("when", ["before", "after"])
def test_a_signal_while_a_segment_is_begun(alone: Path, monkeypatch: pytest.MonkeyPatch, when: str, full: bool) -> None:
    """A handler that records just before or after the file of the next segment is made, and fills one of its own."""
    monkeypatch.setattr(spool, "_segment_size", 64 * 1024)
    run = kinetrum.begin("signals")
    made, left = spool.Segment, [3]

    def interrupted(path: Path | None, *rest: Any) -> spool.Segment:
        if full and path is not None:
            raise OSError("no room")
        if when == "after":
            segment = made(path, *rest)
        if left[0]:
            left[0] -= 1
            for _ in range(5):
                run.result({"verdict": "x" * 16_000})
        return segment if when == "after" else made(path, *rest)

    monkeypatch.setattr(spool, "Segment", interrupted)
    told = pytest.warns(UserWarning, match="takes no more records") if full else contextlib.nullcontext()
    with told:
        for number in range(3_000):
            run.measure(loss=number)
    monkeypatch.setattr(spool, "Segment", made)
    monkeypatch.setattr(run._recorder.writer, "_next_try", 0.0)
    run.end()
    found = records(alone)
    assert [record["loss"] for record in found if record["op"] == "point"] == list(range(3_000))
    assert sum(record["op"] == "results" for record in found) == 15
    numbers = sorted(int(path.stem) for path in alone.glob("writers/*/*.seg"))
    assert numbers == list(range(1, len(numbers) + 1))


@pytest.mark.parametrize(
    "wrong", [{"loss": "x", "step": 500}, {"loss": 1, "step": 2**63}, {"loss": None}, {"loss": [1]}]
)
def test_a_refused_measure_moves_no_step(alone: Path, wrong: dict[str, Any]) -> None:
    run = kinetrum.begin("e")
    run.measure(loss=0.5)
    with pytest.raises(InvalidInput):
        run.measure(**wrong)
    run.measure(loss=0.25)
    run.measure(loss=0.125, step=10)
    with pytest.raises(InvalidInput):
        run.measure(**wrong)
    run.measure(loss=0)
    run.end()
    assert [step for step, _ in measured(alone)] == [0, 1, 10, 11]


def test_a_refused_measure_where_a_segment_turns_over(alone: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(spool, "_segment_size", 4_096)
    run = kinetrum.begin("e")
    kept = []
    for number in range(500):
        if number % 3 == 0:
            with pytest.raises(InvalidInput):
                run.measure(loss="x", step=10_000 + number)
        run.measure(loss=number)
        kept.append(number)
    run.end()
    assert measured(alone) == [(number, {"loss": float(number)}) for number in kept]


def test_nested_metrics_stand_below_their_name(alone: Path) -> None:
    run = kinetrum.begin("e")
    for number in range(3):
        run.measure({"val": {"loss": number, "by": {"hail": np.array([[0.5]])}}, "lr": np.float32(2)})
    run.measure({"val/loss": 9})
    run.measure({"val": {"loss": 10}}, step=40)
    run.measure({"val": {"loss": 11}})
    for wrong in ({"val": {"loss": "x"}}, {"val": {"loss": np.arange(2)}}, {"val": {3: 1}}, {"a": {"b": 1}, "a/b": 2}):
        with pytest.raises(InvalidInput):
            run.measure(wrong)
    run.measure({"val": {"loss": 12}})
    assert run.metrics == {"val/loss": 12.0, "val/by/hail": 0.5, "lr": 2.0}
    run.end()
    whole = {"val/by/hail": 0.5, "lr": 2.0}
    assert measured(alone) == [
        *[(number, {"val/loss": float(number), **whole}) for number in range(3)],
        *[(step, {"val/loss": float(value)}) for step, value in ((3, 9), (40, 10), (41, 11), (42, 12))],
    ]


class Graded:
    """A number with a gradient, which warns where it is taken for a number as it is."""

    requires_grad, shape = True, ()

    def __float__(self) -> float:
        warnings.warn("Converting a tensor with requires_grad=True to a scalar", stacklevel=2)
        return 0.5

    def item(self) -> float:
        return 0.5


def test_tensors_lose_their_gradient_without_a_word(alone: Path) -> None:
    run = kinetrum.begin("e")
    with warnings.catch_warnings():
        warnings.simplefilter("error")
        run.measure(loss=Graded(), lr=1)
        run.measure(loss=Graded(), lr=1)
        run.result(last=Graded())
    assert run.results == {"last": 0.5}
    run.end()
    assert measured(alone) == [(number, {"loss": 0.5, "lr": 1.0}) for number in range(2)]


def test_results_of_arrays_and_of_what_is_nested(alone: Path) -> None:
    run = kinetrum.begin("e")
    run.result({"cv": {"scores": np.array([0.5, 0.75]), "best": np.array([0.75])}, "named": "x"}, grid=[[1, 2], [3, 4]])
    assert run.results == {"cv/scores": [0.5, 0.75], "cv/best": 0.75, "named": "x", "grid": [[1, 2], [3, 4]]}
    for wrong in (np.zeros(1_001), object(), {"a": object()}):
        with pytest.raises(InvalidInput):
            run.result(wrong=wrong)
    run.end()


def test_settings_without_a_plain_form_are_told_once(alone: Path) -> None:
    with pytest.warns(UserWarning, match=r"The values of 'a', 'b.c' have no plain form") as told:
        run = kinetrum.begin("e", params={"a": object(), "b": {"c": object()}, "d": 1})
    run.set_params(other=object())
    assert len(told) == 1
    assert run.params == {"a": "<object object>", "b.c": "<object object>", "d": 1, "other": "<object object>"}
    run.end()


def test_metrics_in_changing_company(alone: Path) -> None:
    run = kinetrum.begin("e")
    for _ in range(3):
        run.measure(loss=1, recall=2)
    run.measure(loss=3)
    run.measure(loss=4, recall=5)
    with pytest.raises(InvalidInput):
        run.measure(loss=1, recall="x")
    run.measure(recall=6)
    run.end()
    steps: dict[str, list[int]] = {"loss": [], "recall": []}
    for step, values in measured(alone):
        for key in values:
            steps[key].append(step)
    assert steps == {"loss": [0, 1, 2, 3, 4], "recall": [0, 1, 2, 3, 4]}


def test_notes_and_labels_are_checked_in_the_callers_line(alone: Path) -> None:
    run = kinetrum.begin("e")
    for wrong in ("", " ", "x" * 50_001, 5):
        with pytest.raises(InvalidInput):
            run.note(wrong)  # type: ignore[arg-type]
    with pytest.raises(InvalidInput):
        run.label(purpose="x" * 501)
    run.label()
    run.end()
    assert [record["op"] for record in records(alone)] == ["begin", "end"]


def test_a_refusal_says_nothing_of_how_it_was_tried(alone: Path) -> None:
    run = kinetrum.begin("e")
    with pytest.raises(InvalidInput) as error:
        run.measure(loss="x")
    text = "".join(traceback.format_exception(error.value))
    assert "struct.error" not in text
    assert "During handling" not in text
    run.end()
