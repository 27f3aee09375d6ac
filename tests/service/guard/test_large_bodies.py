"""Large bodies are read one at a time, and after one that was refused the next waits."""

from __future__ import annotations

import time
from collections.abc import Awaitable, Callable
from concurrent.futures import ThreadPoolExecutor
from typing import Any

import anyio
import pytest

from kinetrum.service.guard import large_bodies
from kinetrum.service.guard.large_bodies import SMALL, read_body


def run(act: Callable[..., Awaitable[Any]], *arguments: Any) -> Any:
    """Run in a thread of its own: in this one the browser of other tests may have a loop."""
    with ThreadPoolExecutor(1) as other:
        return other.submit(anyio.run, act, *arguments).result()


def slow(body: bytes) -> int:
    time.sleep(0.02)
    if body.startswith(b"bad"):
        raise ValueError("refused")
    return len(body)


@pytest.fixture
def rests(monkeypatch: pytest.MonkeyPatch) -> list[float]:
    taken: list[float] = []

    async def note(seconds: float) -> None:
        taken.append(seconds)

    monkeypatch.setattr(large_bodies, "_one", anyio.CapacityLimiter(1))
    monkeypatch.setattr(large_bodies, "sleep", note)
    return taken


def test_what_is_taken_makes_nobody_wait(rests: list[float]) -> None:
    assert run(read_body, slow, b"x" * (SMALL + 1)) == SMALL + 1
    assert rests == []


def test_after_what_is_refused_the_next_large_one_waits(rests: list[float]) -> None:
    with pytest.raises(ValueError, match="refused"):
        run(read_body, slow, b"bad" + b"x" * SMALL)
    (rest,) = rests
    assert 4 * 0.02 <= rest <= 2.0


def test_receiving_it_counts_too(rests: list[float]) -> None:
    def refuse_at_once(body: bytes) -> None:
        raise ValueError

    with pytest.raises(ValueError):  # noqa: PT011
        run(read_body, refuse_at_once, b"x" * 4_000_000)
    assert rests == [0.1]


def test_small_ones_wait_for_nothing(rests: list[float]) -> None:
    with pytest.raises(ValueError, match="refused"):
        run(read_body, slow, b"bad" + b"x" * (SMALL - 3))
    assert rests == []


def test_two_large_ones_are_not_read_together(rests: list[float]) -> None:
    under_way = []

    def read(body: bytes) -> int:
        under_way.append(len(under_way))
        time.sleep(0.02)
        assert len(under_way) == 1
        under_way.pop()
        return 1

    async def both() -> None:
        async with anyio.create_task_group() as group:
            for _ in range(3):
                group.start_soon(read_body, read, b"x" * (SMALL + 1))

    run(both)
    assert under_way == []


def test_a_refused_one_that_takes_long_holds_up_for_two_seconds_at_most(
    rests: list[float], monkeypatch: pytest.MonkeyPatch
) -> None:
    clock: Any = iter([0.0, 60.0])
    monkeypatch.setattr(large_bodies, "monotonic", lambda: next(clock))
    with pytest.raises(ValueError, match="refused"):
        run(read_body, lambda body: slow(b"bad"), b"x" * (SMALL + 1))
    assert rests == [2.0]
