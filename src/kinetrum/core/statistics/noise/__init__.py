"""Whether a difference is more than noise: replicates, the same rows twice, and how many more runs would tell."""

from kinetrum.core.statistics.noise.difference import CONFIDENCE, Difference, difference_of
from kinetrum.core.statistics.noise.samples import Spread, spread_of

__all__ = ["CONFIDENCE", "Difference", "Spread", "difference_of", "spread_of"]
