"""Turns for costly work: bounded, fair between people, and given on whatever happens to who waits."""

from __future__ import annotations

import asyncio
from collections import Counter
from collections.abc import Coroutine
from typing import Any

import pytest

from kinetrum.core.base.errors import Unavailable
from kinetrum.service.guard import turns as module
from kinetrum.service.guard.turns import Turns
from tests.support.programs import run_apart


class Workshop:
    """Work that people do in turns; what begins is noted in order."""

    def __init__(self, turns: Turns) -> None:
        self.turns, self.begun = turns, list[str]()
        self.most: Counter[str] = Counter()
        self.now: Counter[str] = Counter()

    async def work(self, person: str, name: str = "", seconds: float = 0.02) -> None:
        async with self.turns.turn(person):
            self.begun.append(name or person)
            self.now[person] += 1
            self.most[person] = max(self.most[person], self.now[person])
            self.most["all"] = max(self.most["all"], self.now.total())
            await asyncio.sleep(seconds)
            self.now[person] -= 1


async def outcomes(*work: Coroutine[Any, Any, None]) -> list[str]:
    tasks = []
    for one in work:
        tasks.append(asyncio.create_task(one))
        await asyncio.sleep(0)
    done = await asyncio.gather(*tasks, return_exceptions=True)
    return ["done" if one is None else str(one) for one in done]


def test_so_many_at_once_and_no_more_of_one_person() -> None:
    shop = Workshop(Turns("tests", at_once=3, waiting=40, each=2, each_waiting=20))
    done = run_apart(outcomes(*(shop.work(person) for person in "aaaaaaaabbbb")))
    assert done == ["done"] * 12
    assert (shop.most["a"], shop.most["b"], shop.most["all"]) == (2, 2, 3)


def test_everybody_has_one_turn_before_anybody_has_two() -> None:
    """One person's twenty requests do not stand before another's first."""
    shop = Workshop(Turns("tests", at_once=1, waiting=40, each_waiting=30))
    run_apart(outcomes(*(shop.work("a") for _ in range(20)), shop.work("b"), shop.work("c"), shop.work("b")))
    assert shop.begun.index("b") <= 3
    assert shop.begun.index("c") <= 4
    assert Counter(shop.begun) == {"a": 20, "b": 2, "c": 1}


def test_beyond_its_length_the_queue_refuses_at_once() -> None:
    """On both sides of both bounds: the fifth of one person, the seventh of all."""
    shop = Workshop(Turns("tests", at_once=1, waiting=6, each_waiting=4))
    done = run_apart(outcomes(*(shop.work(person) for person in "aaaaaabbbb")))
    assert done[:5] == ["done"] * 5
    assert done[5] == "Too many requests of yours wait for tests just now; try again in a moment."
    assert done[6:8] == ["done"] * 2
    assert done[8:] == ["Too many requests wait for tests just now; try again in a moment."] * 2


def test_who_gives_up_or_fails_leaves_no_turn_taken(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(module, "PATIENCE_S", 0.05)

    async def story() -> None:
        turns = Turns("tests", at_once=1, waiting=6)
        shop = Workshop(turns)
        long = asyncio.create_task(shop.work("a", seconds=0.3))
        await asyncio.sleep(0.01)
        # One waits too long, one is cancelled while it waits.
        with pytest.raises(Unavailable):
            await shop.work("b")
        waiting = asyncio.create_task(shop.work("c"))
        await asyncio.sleep(0.01)
        waiting.cancel()
        with pytest.raises(asyncio.CancelledError):
            await waiting
        await long
        with pytest.raises(ValueError, match="broke"):
            async with turns.turn("d"):
                raise ValueError("broke")
        await asyncio.wait_for(shop.work("e"), 0.2)
        assert not turns._queues and not turns._working.total()

    run_apart(story())


def test_one_that_is_called_and_cancelled_in_one_moment_passes_its_turn_on() -> None:
    async def story() -> None:
        turns = Turns("tests", at_once=1, waiting=6)
        shop = Workshop(turns)
        async with turns.turn("a"):
            second, third = asyncio.create_task(shop.work("b")), asyncio.create_task(shop.work("c"))
            await asyncio.sleep(0)
        # The turn was given to the second, which has not run since.
        second.cancel()
        await asyncio.wait_for(third, 0.5)
        assert shop.begun == ["c"]
        assert not turns._working.total()

    run_apart(story())
