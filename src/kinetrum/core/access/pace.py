"""The pace of guesses: after some wrong passwords each further one has to wait, longer each time.

It slows guessing by name and by address alike, and slows nothing but signing in: who has a session or a token goes on.
"""

from __future__ import annotations

# Mistypings that cost nothing; of an address more, behind which there may be many people.
FREE_BY_NAME, FREE_BY_ADDRESS = 5, 20
LONGEST_S = 60.0
# After so long without a wrong one, they are forgotten.
FORGOTTEN_S = 900.0


def seconds_to_wait(failures: int, since_last_s: float, free: int) -> float:
    """Return how long to wait until the next try: 1 s after the first that is not free, then twice as long each time.

    Parameters
    ----------
    failures:
        How many tries were wrong since the last right one.
    since_last_s:
        Seconds since the last wrong one; below zero, from a clock that ran ahead, counts as none.
    free:
        How many wrong ones cost nothing.
    """
    if failures < free or since_last_s >= FORGOTTEN_S:
        return 0.0
    pause: float = min(LONGEST_S, 2.0 ** min(failures - free, 16))
    return max(0.0, pause - max(0.0, since_last_s))
