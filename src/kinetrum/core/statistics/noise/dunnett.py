"""Several groups of replicates against one baseline at once, where all of them vary alike."""

from __future__ import annotations

import math
from collections.abc import Sequence
from functools import lru_cache

import numpy as np

FEWEST_RUNS = 5
_ALIKE = 0.25
_NOISIER = 1.25
_NODES = 48


def vary_alike(groups: Sequence[Sequence[float]], baseline: Sequence[float]) -> bool:
    """Tell whether Dunnett's comparison applies: 5 runs or more in each group, and nothing says they vary unlike.

    The second by Levene's test on medians at a p-value of 0.25, and by the baseline's own deviation, which must not be
    over 1.25 of the shared one: a baseline that varies more than the others would make every comparison too sure, and a
    doubt costs no more than a little power. Source: Brown and Forsythe, Robust tests for the equality of variances,
    JASA 69, 1974.
    """
    from scipy.stats import levene

    every = [*groups, baseline]
    if min(map(len, every)) < FEWEST_RUNS or any(np.ptp(group) == 0 for group in every):
        return False
    shared, _ = pooled_error(every)
    if float(np.std(baseline, ddof=1)) > _NOISIER * shared:
        return False
    return bool(levene(*every, center="median").pvalue >= _ALIKE)


def pooled_error(groups: Sequence[Sequence[float]]) -> tuple[float, int]:
    """Return the standard deviation that groups share, and its degrees of freedom."""
    freedom = sum(len(group) - 1 for group in groups)
    squares = sum(float(np.var(group)) * len(group) for group in groups)
    return math.sqrt(squares / freedom), freedom


def critical_value(sizes: Sequence[int], baseline: int, freedom: int, confidence: float) -> float:
    """Return how many standard errors the intervals of all differences from a baseline reach, at a joint confidence.

    `sizes`: runs of each group; `baseline`: runs of the baseline. Source: Dunnett, A multiple comparison procedure for
    comparing several treatments with a control, JASA 50, 1955.
    """
    return _critical_value(tuple(sorted(sizes)), baseline, freedom, confidence)


@lru_cache(maxsize=512)
def _critical_value(sizes: tuple[int, ...], baseline: int, freedom: int, confidence: float) -> float:
    from scipy.optimize import brentq
    from scipy.special import ndtr
    from scipy.stats import chi2, norm

    # Differences from one baseline are independent once the baseline and the shared deviation are given: the chance
    # that all lie within is an integral over these two, of a product over the groups.
    nodes, weights = np.polynomial.legendre.leggauss(_NODES)
    chances, weights = (nodes + 1) / 2, weights / 2
    deviations = np.sqrt(chi2.ppf(chances, freedom) / freedom)[:, None]
    means, shares = norm.ppf(chances)[None, :], weights[:, None] * weights[None, :]
    counted = [(math.sqrt(size / (size + baseline)), sizes.count(size)) for size in set(sizes)]

    def excess(reach: float) -> float:
        inside = np.ones_like(shares)
        for weight, count in counted:
            rest = math.sqrt(1 - weight**2)
            high = ndtr((reach * deviations + weight * means) / rest)
            inside *= (high - ndtr((weight * means - reach * deviations) / rest)) ** count
        return float((inside * shares).sum()) - confidence

    return float(brentq(excess, 0.01, 200.0, xtol=1e-6))
