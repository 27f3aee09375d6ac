"""The areas under the ROC curves of two models on the same rows."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from kinetrum.core.statistics.noise.verdict import Interval, fewest_rows

Floats = NDArray[np.float64]


def compare_areas(
    truth: NDArray[np.bool_], left: Floats, right: Floats, confidence: float
) -> tuple[float, float, Interval | None]:
    """Return the areas of two scores of n rows, and the interval of left less right.

    The interval is None where the rarer class has too few rows to tell; the areas are NaN where a class has none. The
    standard error is DeLong's, its degrees of freedom Satterthwaite's, since the rarer class decides how well it is
    known. Sources: DeLong, DeLong and Clarke-Pearson, Comparing the areas under two or more correlated receiver
    operating characteristic curves, Biometrics 44, 1988, on ranks as by Sun and Xu, IEEE Signal Processing Letters 21,
    2014; Satterthwaite, An approximate distribution of estimates of variance components, Biometrics Bulletin 2, 1946.
    """
    from scipy.special import stdtr, stdtrit
    from scipy.stats import rankdata

    positives, negatives = int(truth.sum()), int((~truth).sum())
    if min(positives, negatives) == 0:
        return float("nan"), float("nan"), None
    above, below = [], []
    for score in (left, right):
        ranks = rankdata(score)
        # Of each row of one class, the share of the other that it is on the right side of; ties count half.
        above.append((ranks[truth] - rankdata(score[truth])) / negatives)
        below.append(1 - (ranks[~truth] - rankdata(score[~truth])) / positives)
    one, two = (float(shares.mean()) for shares in above)
    if min(positives, negatives) < fewest_rows(confidence):
        return one, two, None
    change = one - two
    parts = [
        float(np.var(above[0] - above[1], ddof=1)) / positives,
        float(np.var(below[0] - below[1], ddof=1)) / negatives,
    ]
    variance = sum(parts)
    if variance < 1e-24:
        return one, two, Interval(change, change, 0.5 if abs(change) < 1e-12 else float(change > 0), "DeLong")
    freedom = variance**2 / sum(
        part**2 / (count - 1) for part, count in zip(parts, (positives, negatives), strict=True)
    )
    reach = float(stdtrit(freedom, 0.5 + confidence / 2)) * variance**0.5
    return one, two, Interval(change - reach, change + reach, float(stdtr(freedom, change / variance**0.5)), "DeLong")
