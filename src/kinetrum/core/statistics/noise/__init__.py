"""Whether a difference is more than noise: replicates, the same rows twice, and how many more runs would tell."""

from kinetrum.core.statistics.noise.difference import CONFIDENCE, DifferenceOfMeans, difference_of
from kinetrum.core.statistics.noise.samples import MeanSpread, spread_of

__all__ = ["CONFIDENCE", "DifferenceOfMeans", "MeanSpread", "difference_of", "spread_of"]
