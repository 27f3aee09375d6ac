"""When an announcement that did not arrive is tried again, and when a rule is given up."""

from __future__ import annotations

FIRST_PAUSE_S, LONGEST_PAUSE_S, FACTOR = 5.0, 6 * 3_600.0, 2.5
# A receiver that was away for a long weekend gets everything; one that is away for longer pauses the rule.
GIVEN_UP_AFTER_S = 3 * 86_400.0
# What says that nobody is to come back (RFC 9110, section 15.5.11).
GONE = 410


def pause_before(attempt: int, chance: float) -> float:
    """Return how long to wait before the next try.

    Parameters
    ----------
    attempt:
        How many tries failed in a row, from 1.
    chance:
        A number from 0 to 1, by which the pause is shortened by up to half: those who failed together do not all come
        back together.
    """
    whole = min(LONGEST_PAUSE_S, FIRST_PAUSE_S * FACTOR ** min(attempt - 1, 64))
    return whole * (1 - chance / 2)


def is_given_up(status: int | None, failing_for_s: float) -> bool:
    """Tell whether a rule pauses until somebody looks: its receiver is gone for good, or failed for three days.

    `status` is that of the last answer, None where there was none.
    """
    return status == GONE or failing_for_s >= GIVEN_UP_AFTER_S
