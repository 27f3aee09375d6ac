"""One large body at a time: where it is counted, and where it is read."""

from __future__ import annotations

import ctypes
from collections.abc import Callable
from time import monotonic
from typing import TypeVar

import anyio
import anyio.to_thread
from anyio import sleep

T = TypeVar("T")
_libc = ctypes.CDLL(None)
# Smaller ones are done in less time than a thread takes to begin.
SMALL = 16 * 1024
# The interpreter does one thing at a time: several large ones at once would leave no time between them for others.
_one = anyio.CapacityLimiter(1)
# After a large body that was refused, the next large one waits: so many times as long as that one took, and as long as
# its bytes take at so many a second, since receiving costs too. Whoever sends nothing but such has a fifth of the
# interpreter's time at most, and plain requests have the rest.
_REST_FACTOR, _BYTES_A_SECOND, _LONGEST_REST_S = 4.0, 40e6, 2.0


def _give_memory_back() -> None:
    """Let the system have what large bodies took: the GNU library keeps it for the thread that had it."""
    trim = getattr(_libc, "malloc_trim", None)
    if trim is not None:
        trim(0)


async def read_body(reader: Callable[[bytes], T], body: bytes) -> T:
    """Return what a function makes of a body: a small one here and now, a large one in a thread, in its turn.

    Raises what the function raises.
    """
    if len(body) <= SMALL:
        return reader(body)
    async with _one:
        began = monotonic()
        try:
            return await anyio.to_thread.run_sync(reader, body)
        except Exception:
            await anyio.to_thread.run_sync(_give_memory_back)
            rest = max(_REST_FACTOR * (monotonic() - began), len(body) / _BYTES_A_SECOND)
            await sleep(min(_LONGEST_REST_S, rest))
            raise
