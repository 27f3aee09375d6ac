"""One large body at a time: where it is counted, and where it is read."""

from __future__ import annotations

from collections.abc import Callable
from typing import TypeVar

import anyio
import anyio.to_thread

T = TypeVar("T")
# Smaller ones are done in less time than a thread takes to begin.
SMALL = 16 * 1024
# The interpreter does one thing at a time: several large ones at once would leave no time between them for others.
_one = anyio.CapacityLimiter(1)


async def read_body(reader: Callable[[bytes], T], body: bytes) -> T:
    """Return what a function makes of a body: a small one here and now, a large one in a thread, in its turn."""
    if len(body) <= SMALL:
        return reader(body)
    return await anyio.to_thread.run_sync(reader, body, limiter=_one)
