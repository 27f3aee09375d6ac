"""Runs side by side: what was set differently, what came out differently, and a sentence that says it."""

from kinetrum.core.compare.runs import Comparison, RunFacts, compare_runs

__all__ = ["Comparison", "RunFacts", "compare_runs"]
