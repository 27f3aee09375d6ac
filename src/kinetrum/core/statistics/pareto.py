"""Trade-offs: which of many runs nobody else beats in every goal at once."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from kinetrum.core.base.errors import InvalidInput

GOALS_LIMIT = 3


def pareto_front(values: NDArray[np.float64], higher: list[bool]) -> NDArray[np.bool_]:
    """Return which of n runs stand on the front of two or three goals.

    `values`: n x goals, NaN where a run lacks a value (it is never on the front). `higher`: for each goal whether more
    is better. A run is on the front if no other is at least as good in every goal and better in one; runs that are
    equal in all goals are on it together. Raises InvalidInput for other numbers of goals.
    """
    if values.ndim != 2 or values.shape[1] != len(higher) or not 2 <= len(higher) <= GOALS_LIMIT:
        raise InvalidInput(f"A front has two or three goals, not {len(higher)}.", field="pareto")
    signs = np.array([1.0 if way else -1.0 for way in higher])
    gains = values * signs
    whole = ~np.isnan(gains).any(axis=1)
    is_front = np.zeros(len(gains), dtype=bool)
    # The best in the first goal first: whoever comes later can only be beaten by those before.
    order = np.lexsort(tuple(-gains[:, at] for at in reversed(range(gains.shape[1]))))
    front = np.empty((0, gains.shape[1]))
    for at in order[whole[order]]:
        one = gains[at]
        beaten = np.any((front >= one).all(axis=1) & (front > one).any(axis=1))
        if not beaten:
            is_front[at] = True
            front = np.vstack([front, one])
    return is_front
