"""The difference of two groups of replicates: how large, how sure, and by which method that was told."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

from kinetrum.core.statistics.noise.dunnett import critical_value, pooled_error, vary_alike
from kinetrum.core.statistics.noise.samples import MeanSpread, pooled_deviation, spread_of

CONFIDENCE = 0.95
_POWER = 0.8
_MOST_RUNS = 1_000
# A value with what tells its run from its replicates: the seed, where it has one.
Seeded = tuple[str | None, float]


@dataclass(frozen=True)
class DifferenceOfMeans:
    """Left less right: its size, its interval, and the probability that the left one's true mean is the higher.

    `beyond` tells whether the interval leaves out zero; None where one run on each side says nothing of noise.
    `confidence` is that of the interval, after correction for the best having been picked; Dunnett's holds for all
    comparisons at once. `needed` is how many runs a side would tell such a difference, where it was not told, however
    many that are; None where nothing is known to say so.
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
    left: Sequence[Seeded],
    right: Sequence[Seeded],
    *,
    confidence: float = CONFIDENCE,
    candidates: int = 1,
    noise: float | None = None,
) -> DifferenceOfMeans:
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
        return DifferenceOfMeans(change, None, None, None, None, sure, "none", runs_to_tell(change, noise, sure))
    by_seed = paired_by_seed(left, right)
    deviation: float | None
    if by_seed is not None:
        pairs = spread_of(by_seed, sure)
        assert pairs.deviation is not None
        error, freedom, method = pairs.deviation / math.sqrt(pairs.runs), float(pairs.runs - 1), "paired by seed"
        deviation, sides = pairs.deviation, 1
    else:
        error, freedom, method = _unpaired(a, b)
        deviation, sides = pooled_deviation([a, b]) or noise, 2
    verdict = _told(change, error, freedom, sure, method)
    return verdict if verdict.beyond else replace(verdict, needed=runs_to_tell(change, deviation, sure, sides))


def paired_by_seed(left: Sequence[Seeded], right: Sequence[Seeded]) -> list[float] | None:
    """Return the differences seed by seed, where both sides have the same seeds, each once."""
    ours, theirs = dict(left), dict(right)
    if None in ours or len(ours) < len(left) or len(theirs) < len(right) or ours.keys() != theirs.keys():
        return None
    return [number - theirs[seed] for seed, number in ours.items()]


def _unpaired(a: MeanSpread, b: MeanSpread) -> tuple[float, float, str]:
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


def _told(change: float, error: float, freedom: float, confidence: float, method: str) -> DifferenceOfMeans:
    from scipy.special import stdtr, stdtrit

    if error == 0:
        # Every replicate gave the same: what differs, differs for certain.
        probability = 0.5 if change == 0 else 1.0 if change > 0 else 0.0
        return DifferenceOfMeans(change, change, change, probability, change != 0, confidence, method)
    half = float(stdtrit(freedom, 0.5 + confidence / 2)) * error
    probability = float(stdtr(freedom, change / error))
    return DifferenceOfMeans(change, change - half, change + half, probability, abs(change) > half, confidence, method)


def runs_to_tell(change: float, deviation: float | None, confidence: float = CONFIDENCE, sides: int = 2) -> int | None:
    """Return how many runs a side would tell a difference of this size with a power of 0.8; None where nothing is
    known.

    `deviation`: the standard deviation of one run, or with `sides` 1 that of the differences of pairs. `confidence`
    (0 to 1) is that of the one comparison, after correction for others made beside it. However many they are, the
    number is the true one: `tell_runs` words it.

    Source: the sample size of the t test, as in Chow, Shao and Wang, Sample Size Calculations in Clinical Research,
    2008, with t in place of normal quantiles.
    """
    from scipy.special import stdtrit

    if not deviation or change == 0 or not math.isfinite(change):
        return 2 if deviation == 0 and change else None

    def enough(runs: int) -> bool:
        freedom = sides * (runs - 1)
        reach = float(stdtrit(freedom, 0.5 + confidence / 2) + stdtrit(freedom, _POWER))
        return runs >= sides * (deviation * reach / change) ** 2

    low, high = 1, 2
    while not enough(high):
        low, high = high, high * 2
    while high - low > 1:
        middle = (low + high) // 2
        low, high = (low, middle) if enough(middle) else (middle, high)
    return high


def tell_runs(needed: int) -> str:
    """Word how many runs would tell: the number, or that it is out of reach."""
    return f"{needed:,}" if needed <= _MOST_RUNS else f"more than {_MOST_RUNS:,}"


def differences_at_once(
    groups: Sequence[Sequence[float]], baseline: Sequence[float], confidence: float = CONFIDENCE
) -> list[DifferenceOfMeans] | None:
    """Compare several groups of replicates with one baseline, so that all intervals hold at once; None where that
    does not apply.

    Source: Dunnett, A multiple comparison procedure for comparing several treatments with a control, JASA 50, 1955.
    """
    from scipy.special import stdtr

    if len(groups) < 2 or not vary_alike(groups, baseline):
        return None
    deviation, freedom = pooled_error([*groups, baseline])
    reach = critical_value([len(group) for group in groups], len(baseline), freedom, confidence)
    verdicts = []
    for group in groups:
        change = math.fsum(group) / len(group) - math.fsum(baseline) / len(baseline)
        error = deviation * math.sqrt(1 / len(group) + 1 / len(baseline))
        half, beyond = reach * error, abs(change) > reach * error
        alone = picked(confidence, len(groups))
        needed = None if beyond else runs_to_tell(change, deviation, alone)
        verdicts.append(
            DifferenceOfMeans(
                change,
                change - half,
                change + half,
                float(stdtr(freedom, change / error)),
                beyond,
                confidence,
                "Dunnett",
                needed,
            )
        )
    return verdicts
