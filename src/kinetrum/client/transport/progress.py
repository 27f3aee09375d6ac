"""Telling how far long work is: a tick is told how many bytes came to those before."""

from __future__ import annotations

import threading
from collections.abc import Callable

Tick = Callable[[int], None]


def in_turn(tick: Tick | None) -> Tick:
    """Return a tick that threads may call side by side; without one, what is told goes nowhere."""
    lock = threading.Lock()

    def tell(count: int) -> None:
        if tick:
            with lock:
                tick(count)

    return tell
