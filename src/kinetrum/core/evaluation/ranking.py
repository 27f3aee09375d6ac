"""Results of a ranking: for each query its items with a relevance and a score.

Sources: Järvelin, Kekäläinen, Cumulated gain-based evaluation of IR techniques, ACM TOIS 20 (2002), with the
gain shared evenly among items of equal score (McSherry, Najork, ECIR 2008); Tsoumakas, Katakis, Vlahavas,
Mining multi-label data (2010) for the average precision of a ranking with ties.
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kinetrum.core.base.errors import InvalidInput
from kinetrum.core.evaluation.inputs import Numbers

Queries = list[tuple[Numbers, Numbers]]


def split_queries(truth: NDArray[Any], scores: NDArray[Any], groups: Any) -> Queries:
    """Return (relevance, score) for each query: rows of two tables, or the rows that share a group."""
    relevance, scores_sorted = truth.astype(np.float64), scores.astype(np.float64)
    if relevance.shape != scores_sorted.shape:
        raise InvalidInput(
            f"Relevances are {relevance.shape}, scores {scores_sorted.shape}; alike is needed.", field="y_score"
        )
    if (relevance < 0).any():
        raise InvalidInput("A relevance is zero or more.", field="y_true")
    if relevance.ndim == 2:
        return list(zip(relevance, scores_sorted, strict=True))
    if groups is None:
        return [(relevance, scores_sorted)]
    keys = np.asarray(groups)
    if keys.shape != relevance.shape:
        raise InvalidInput(
            f"There are {len(relevance)} rows and {keys.size} groups; one each is needed.", field="groups"
        )
    _, at = np.unique(keys, return_inverse=True)
    order = np.argsort(at, kind="stable")
    ends = np.cumsum(np.bincount(at))[:-1]
    return list(zip(np.split(relevance[order], ends), np.split(scores_sorted[order], ends), strict=True))


def ranking_results(queries: Queries, cuts: tuple[int, ...] = (5, 10)) -> dict[str, float]:
    """Return the results by name, each averaged over the queries for which it is defined."""
    longest = max(len(relevance) for relevance, _ in queries)
    results = {"ndcg": _mean([ndcg(*query, None) for query in queries])}
    for cut in cuts:
        if cut < longest:
            results[f"ndcg_at_{cut}"] = _mean([ndcg(*query, cut) for query in queries])
            results[f"precision_at_{cut}"] = _mean([_precision_at(*query, cut) for query in queries])
    results["mean_average_precision"] = _mean([_average_precision(*query) for query in queries])
    results["mean_reciprocal_rank"] = _mean([_reciprocal_rank(*query) for query in queries])
    return results


def _mean(values: list[float]) -> float:
    known = [value for value in values if not math.isnan(value)]
    return sum(known) / len(known) if known else math.nan


def ndcg(relevance: Numbers, scores: Numbers, cut: int | None) -> float:
    """Discounted cumulative gain against the best possible order; 0 where nothing is relevant."""
    discount = 1 / np.log2(np.arange(len(scores)) + 2.0)
    if cut is not None:
        discount[cut:] = 0
    best = float(np.sort(relevance)[::-1] @ discount)
    if best == 0:
        return 0.0
    _, at, counts = np.unique(-scores, return_inverse=True, return_counts=True)
    gains = np.zeros(len(counts))
    np.add.at(gains, at, relevance)
    ends = np.cumsum(counts) - 1
    sums = np.diff(np.append(0.0, np.cumsum(discount)[ends]))
    return float(np.sum(gains / counts * sums)) / best


def _precision_at(relevance: Numbers, scores: Numbers, cut: int) -> float:
    top = np.argsort(-scores, kind="stable")[:cut]
    return float(np.mean(relevance[top] > 0))


def _worst_ranks(scores: Numbers) -> NDArray[np.int64]:
    """Return each item's rank from 1 on; items of equal score all get the last of their ranks."""
    _, at, counts = np.unique(-scores, return_inverse=True, return_counts=True)
    ranks: NDArray[np.int64] = np.cumsum(counts)[at]
    return ranks


def _average_precision(relevance: Numbers, scores: Numbers) -> float:
    good = relevance > 0
    if not good.any() or good.all():
        return 1.0
    ranks = _worst_ranks(scores)[good]
    among = _worst_ranks(scores[good])
    return float(np.mean(among / ranks))


def _reciprocal_rank(relevance: Numbers, scores: Numbers) -> float:
    good = relevance > 0
    return float(1 / _worst_ranks(scores)[good].min()) if good.any() else 0.0
