"""The difference of two groups of replicates: how large, how sure, and by which method that was told."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

from kinetrum.core.noise.samples import Spread, pooled_deviation, spread_of

CONFIDENCE = 0.95
_POWER = 0.8
_MOST_RUNS = 1_000
# A value with what tells its run from its replicates: the seed, where it has one.
Seeded = tuple[str | None, float]


@dataclass(frozen=True)
class Difference:
    """Left less right: its size, its interval, and the probability that the left one's true mean is the higher.

    `beyond` tells whether the interval leaves out zero; None where one run on each side says nothing of noise.
    `confidence` is that of the interval, after correction for the best having been picked. `needed` is how many runs a
    side would tell such a difference, where it was not told; None where nothing is known to say so.
    """

    change: float
    low: float | None
    high: float | None
    probability: float | None
    beyond: bool | None
    confidence: float
    method: str
    needed: int | None = None


def picked(confidence: float, candidates: int) -> float:
    """Return the confidence for each of several comparisons, so that all of them hold at once at the one given.

    Who picks the best of k and compares it with a baseline has made k comparisons. Source: Šidák, Rectangular
    confidence regions for the means of multivariate normal distributions, JASA 62, 1967.
    """
    return float(confidence ** (1 / max(1, candidates)))


def difference_of(
    left: Sequence[Seeded], right: Sequence[Seeded], *, confidence: float = CONFIDENCE, candidates: int = 1,
    noise: float | None = None,
) -> Difference:  # fmt: skip
    """Compare two groups of replicates: one or more finite numbers each, with the seeds of their runs.

    The same seeds on both sides are compared pair by pair (Student's paired t); else Welch's t with Satterthwaite's
    degrees of freedom, and of one run against a group Crawford and Howell's t, which takes both to vary alike. The
    probability is that of the t distribution around the difference: the posterior under flat priors, for Welch an
    approximation of Behrens and Fisher's. `candidates`: of how many the left was picked as the best. `noise`: the
    standard deviation that replicates of other settings have, to say how many runs would tell.

    Sources: Welch, Biometrika 34, 1947; Crawford and Howell, The Clinical Neuropsychologist 12, 1998.
    """
    sure = picked(confidence, candidates)
    a, b = spread_of([n for _, n in left], sure), spread_of([n for _, n in right], sure)
    change = a.mean - b.mean
    if a.runs == 1 and b.runs == 1:
        return Difference(change, None, None, None, None, sure, "none", runs_to_tell(change, noise))
    by_seed = _paired(left, right)
    if by_seed is not None:
        pairs = spread_of(by_seed, sure)
        assert pairs.deviation is not None
        error, freedom, method = pairs.deviation / math.sqrt(pairs.runs), float(pairs.runs - 1), "paired by seed"
    else:
        error, freedom, method = _unpaired(a, b)
    found = _told(change, error, freedom, sure, method)
    if found.beyond:
        return found
    return Difference(**{**vars(found), "needed": runs_to_tell(change, pooled_deviation([a, b]) or noise)})


def _paired(left: Sequence[Seeded], right: Sequence[Seeded]) -> list[float] | None:
    """Return the differences seed by seed, where both sides have the same seeds, each once."""
    ours, theirs = dict(left), dict(right)
    if None in ours or len(ours) < len(left) or len(theirs) < len(right) or ours.keys() != theirs.keys():
        return None
    return [number - theirs[seed] for seed, number in ours.items()]


def _unpaired(a: Spread, b: Spread) -> tuple[float, float, str]:
    """Return the standard error of a difference of means, its degrees of freedom, and the method's name."""
    if a.deviation is None or b.deviation is None:
        group = b if a.deviation is None else a
        assert group.deviation is not None
        return group.deviation * math.sqrt(1 + 1 / group.runs), group.runs - 1.0, "one run against a group"
    left, right = a.deviation**2 / a.runs, b.deviation**2 / b.runs
    if left + right == 0:
        return 0.0, a.runs + b.runs - 2.0, "Welch"
    freedom = (left + right) ** 2 / (left**2 / (a.runs - 1) + right**2 / (b.runs - 1))
    return math.sqrt(left + right), freedom, "Welch"


def _told(change: float, error: float, freedom: float, confidence: float, method: str) -> Difference:
    from scipy.special import stdtr, stdtrit

    if error == 0:
        # Every replicate gave the same: what differs, differs for certain.
        probability = 0.5 if change == 0 else 1.0 if change > 0 else 0.0
        return Difference(change, change, change, probability, change != 0, confidence, method)
    half = float(stdtrit(freedom, 0.5 + confidence / 2)) * error
    probability = float(stdtr(freedom, change / error))
    return Difference(change, change - half, change + half, probability, abs(change) > half, confidence, method)


def runs_to_tell(change: float, deviation: float | None, confidence: float = CONFIDENCE) -> int | None:
    """Return how many runs a side tell a difference of this size with a power of 0.8; None where nothing is known.

    Source: the sample size of the two-sample t test, as in Chow, Shao and Wang, Sample Size Calculations in Clinical
    Research, 2008, with t in place of normal quantiles. At most 1,000 are counted.
    """
    from scipy.special import stdtrit

    if not deviation or change == 0 or not math.isfinite(change):
        return 2 if deviation == 0 and change else None
    for runs in range(2, _MOST_RUNS + 1):
        freedom = 2 * runs - 2
        reach = float(stdtrit(freedom, 0.5 + confidence / 2) + stdtrit(freedom, _POWER))
        if runs >= 2 * (deviation * reach / change) ** 2:
            return runs
    return _MOST_RUNS
