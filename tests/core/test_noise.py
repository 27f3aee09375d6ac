"""Whether a difference is more than noise: against SciPy, closed forms, and worlds in which the truth is known."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy import stats
from sklearn import metrics

from kinetrum.core.effects import effects_on, holm
from kinetrum.core.errors import InvalidInput
from kinetrum.core.noise import difference_of, spread_of
from kinetrum.core.noise.difference import picked, runs_to_tell
from kinetrum.core.noise.measures import compare_classes, compare_numbers, compare_scores
from kinetrum.core.noise.rows import compare_areas, mcnemar, paired_bootstrap, resampled_sums
from kinetrum.core.noise.samples import pooled_deviation
from kinetrum.core.pareto import pareto_front

NUMBERS = st.lists(st.floats(-100, 100), min_size=2, max_size=12)


def unseeded(numbers: list[float]) -> list[tuple[str | None, float]]:
    return [(None, number) for number in numbers]


def seeded(numbers: list[float]) -> list[tuple[str | None, float]]:
    return [(str(seed), number) for seed, number in enumerate(numbers)]


@given(NUMBERS)
def test_the_interval_of_a_mean_is_students(numbers: list[float]) -> None:
    found = spread_of(numbers, 0.95)
    assert found.deviation == pytest.approx(np.std(numbers, ddof=1), abs=1e-9)
    if found.deviation and found.deviation > 1e-6:
        wanted = stats.t.interval(0.95, len(numbers) - 1, np.mean(numbers), stats.sem(numbers))
        assert (found.low, found.high) == pytest.approx(wanted, rel=1e-6, abs=1e-9)


def test_one_run_has_a_mean_and_no_noise() -> None:
    assert vars(spread_of([0.5], 0.95)) == {"runs": 1, "mean": 0.5, "deviation": None, "low": None, "high": None}


@given(NUMBERS, NUMBERS)
def test_different_groups_are_compared_as_scipy_does_it(left: list[float], right: list[float]) -> None:
    if np.std(left) < 1e-6 or np.std(right) < 1e-6:
        return
    found = difference_of(unseeded(left), unseeded(right))
    wanted = stats.ttest_ind(left, right, equal_var=False)
    assert found.method == "Welch"
    assert found.low is not None
    assert (found.low, found.high) == pytest.approx(wanted.confidence_interval(0.95), rel=1e-6, abs=1e-7)
    assert found.probability == pytest.approx(
        stats.ttest_ind(left, right, equal_var=False, alternative="less").pvalue, abs=1e-9
    )
    assert found.beyond == (wanted.pvalue < 0.05) or math.isclose(wanted.pvalue, 0.05, rel_tol=1e-6)


def test_the_same_seeds_are_compared_pair_by_pair() -> None:
    left, right = [0.90, 0.92, 0.95, 0.91], [0.89, 0.91, 0.93, 0.905]
    found = difference_of(seeded(left), list(reversed(seeded(right))))
    wanted = stats.ttest_rel(left, right)
    assert found.method == "paired by seed"
    assert (found.low, found.high) == pytest.approx(wanted.confidence_interval(0.95))
    # A seed given twice, or one that the other lacks: no pairs.
    assert difference_of([("1", 1.0), ("1", 2.0)], [("1", 1.0), ("1", 3.0)]).method == "Welch"
    assert difference_of(seeded(left), seeded(right[:3])).method == "Welch"


def test_one_run_against_a_group_is_a_new_draw_from_it() -> None:
    group = [1.0, 1.2, 0.9, 1.1, 1.05]
    found = difference_of([(None, 1.5)], unseeded(group))
    t = (1.5 - np.mean(group)) / (np.std(group, ddof=1) * math.sqrt(1 + 1 / 5))
    assert found.probability == pytest.approx(stats.t.cdf(t, 4))
    assert found.method == "one run against a group"
    assert difference_of(unseeded(group), [(None, 1.5)]).probability == pytest.approx(1 - stats.t.cdf(t, 4))


def test_one_run_each_says_nothing_of_noise_but_how_many_would() -> None:
    found = difference_of([(None, 0.9)], [(None, 0.88)])
    assert (found.beyond, found.probability, found.needed) == (None, None, None)
    assert difference_of([(None, 0.9)], [(None, 0.88)], noise=0.01).needed == runs_to_tell(0.02, 0.01)
    assert difference_of([(None, 0.9)], [(None, 0.9)], noise=0.01).needed is None


def test_replicates_without_any_spread_differ_for_certain() -> None:
    found = difference_of(unseeded([1.0, 1.0]), unseeded([2.0, 2.0]))
    assert (found.low, found.high, found.probability, found.beyond) == (-1.0, -1.0, 0.0, True)
    same = difference_of(unseeded([1.0, 1.0]), unseeded([1.0, 1.0]))
    assert (same.probability, same.beyond) == (0.5, False)


def test_a_difference_of_noise_alone_is_called_so_as_often_as_promised() -> None:
    chance = np.random.default_rng(5)
    called = [
        difference_of(unseeded(chance.normal(size=5).tolist()), unseeded(chance.normal(size=5).tolist())).beyond
        for _ in range(1_000)
    ]
    assert 0.025 < np.mean(called) < 0.065


def test_the_best_of_many_is_called_better_no_more_often_than_promised() -> None:
    chance = np.random.default_rng(6)
    wrong = naive = 0
    for _ in range(500):
        baseline = unseeded(chance.normal(size=5).tolist())
        candidates = [unseeded(chance.normal(size=5).tolist()) for _ in range(10)]
        best = max(candidates, key=lambda group: sum(number for _, number in group))
        wrong += bool(difference_of(best, baseline, candidates=10).beyond)
        naive += bool(difference_of(best, baseline).beyond)
    assert wrong / 500 < 0.06 < naive / 500
    assert picked(0.95, 1) == 0.95
    assert picked(0.95, 10) ** 10 == pytest.approx(0.95)


def test_as_many_runs_as_were_said_do_tell() -> None:
    runs = runs_to_tell(0.02, 0.015)
    assert runs is not None
    chance = np.random.default_rng(7)
    told = [
        difference_of(
            unseeded(chance.normal(0.02, 0.015, runs).tolist()), unseeded(chance.normal(0, 0.015, runs).tolist())
        ).beyond
        for _ in range(1_000)
    ]
    assert 0.76 < np.mean(told) < 0.9
    assert runs_to_tell(0.02, None) is None
    assert runs_to_tell(1e-9, 1.0) == 1_000


def test_noise_is_pooled_over_groups() -> None:
    groups = [[1.0, 1.2, 1.1], [5.0, 5.4]]
    wanted = math.sqrt((2 * np.var(groups[0], ddof=1) + np.var(groups[1], ddof=1)) / 3)
    assert pooled_deviation([spread_of(group, 0.95) for group in groups]) == pytest.approx(wanted)
    assert pooled_deviation([spread_of([1.0], 0.95)]) is None


def test_mcnemar_is_the_exact_binomial_test() -> None:
    chance = np.random.default_rng(8)
    left, right = chance.random(300) < 0.85, chance.random(300) < 0.8
    only_left, only_right, p = mcnemar(left, right)
    assert p == pytest.approx(stats.binomtest(min(only_left, only_right), only_left + only_right).pvalue)
    assert mcnemar(left, left) == (0, 0, 1.0)


def test_the_paired_bootstrap_agrees_with_scipys() -> None:
    chance = np.random.default_rng(9)
    gain = chance.normal(0.1, 1.0, 200)
    low, high, above = paired_bootstrap(lambda rows: gain[rows].mean(axis=1), 200)
    wanted = stats.bootstrap((gain,), np.mean, n_resamples=4_000, method="percentile", rng=1).confidence_interval
    assert (low, high) == pytest.approx(wanted, abs=0.02)
    assert above == pytest.approx(stats.norm.cdf(gain.mean() / stats.sem(gain)), abs=0.03)


def test_sums_are_resampled_as_the_bootstrap_draws_rows() -> None:
    chance = np.random.default_rng(4)
    table = chance.normal(size=(70, 3))
    drawn: list[np.ndarray] = []
    paired_bootstrap(lambda rows: drawn.append(rows.copy()) or np.zeros(len(rows)), 70)  # type: ignore[func-returns-value]
    wanted = table[np.concatenate(drawn)].sum(axis=1)
    assert np.allclose(resampled_sums(table), wanted)


def test_classes_on_the_same_rows() -> None:
    truth = np.array([True, True, False, False] * 50, dtype=object)
    left = truth.copy()
    right = truth.copy()
    right[:40:4] = False
    found = {one.measure: one for one in compare_classes(truth, left, right, True)}
    accuracy, recall, precision = found["accuracy"], found["recall"], found["precision"]
    assert (accuracy.left, accuracy.right, accuracy.only_left_right, accuracy.only_right_right) == (1.0, 0.95, 10, 0)
    assert accuracy.beyond
    assert (recall.left, recall.right, recall.beyond) == (1.0, 0.9, True)
    assert precision.change == 0
    assert not precision.beyond
    # A model that never says so has no precision, and no correlation.
    never = np.full(200, False, dtype=object)
    assert not {"precision", "mcc"} & {one.measure for one in compare_classes(truth, left, never, True)}


def test_numbers_on_the_same_rows() -> None:
    truth = np.random.default_rng(2).normal(300, 1, 50)
    found = {one.measure: one for one in compare_numbers(truth, truth + 1.0, truth - 2.0)}
    mae = found["mae"]
    assert (mae.change, mae.low, mae.high) == pytest.approx((-1.0, -1.0, -1.0))
    assert (mae.beyond, mae.higher_is_better) == (True, False)
    assert found["rmse"].change == pytest.approx(-1.0)
    assert found["mse"].change == pytest.approx(-3.0)
    assert (found["r2"].left, found["r2"].higher_is_better) == (pytest.approx(metrics.r2_score(truth, truth + 1)), True)


def noisy(seed: int, rows: int = 300) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Truths, and two scores of them with ties, the first the better."""
    chance = np.random.default_rng(seed)
    truth = chance.random(rows) < 0.3
    scores = [np.clip(0.3 + gain * (truth - 0.5) + chance.normal(0, 0.2, rows), 0, 1).round(2) for gain in (0.5, 0.3)]
    return truth, scores[0], scores[1]


def test_measures_are_those_of_scikit_learn() -> None:
    truth, left, right = noisy(1)
    said = [(score > 0.5).astype(object) for score in (left, right)]
    wanted: dict[str, Any] = {
        "accuracy": metrics.accuracy_score, "recall": metrics.recall_score, "precision": metrics.precision_score,
        "f1": metrics.f1_score, "balanced_accuracy": metrics.balanced_accuracy_score,
        "mcc": metrics.matthews_corrcoef,
        "specificity": lambda truth, said: metrics.recall_score(truth, said, pos_label=False),
    }  # fmt: skip
    found = {one.measure: one for one in compare_classes(truth.astype(object), *said, True)}
    assert found.keys() == wanted.keys()
    for name, measure in wanted.items():
        for told, guess in ((found[name].left, said[0]), (found[name].right, said[1])):
            assert told == pytest.approx(measure(truth, guess.astype(bool)), abs=1e-12), name
        assert found[name].low < found[name].change < found[name].high
    scored = {one.measure: one for one in compare_scores(truth, left, right)}
    for name, of in (("roc_auc", metrics.roc_auc_score), ("log_loss", metrics.log_loss),
                     ("brier", metrics.brier_score_loss)):  # fmt: skip
        assert (scored[name].left, scored[name].right) == pytest.approx((of(truth, left), of(truth, right)), abs=1e-12)
    assert (scored["brier"].higher_is_better, scored["roc_auc"].higher_is_better) == (False, True)
    assert scored["roc_auc"].beyond
    # Scores that are no probabilities have no losses.
    assert [one.measure for one in compare_scores(truth, left * 3, right)] == ["roc_auc"]


def test_many_classes_have_accuracy_and_its_mean_over_classes() -> None:
    chance = np.random.default_rng(6)
    truth = chance.choice(["clear", "fog", "hail"], 200, p=[0.7, 0.2, 0.1]).astype(object)
    left, right = (np.where(chance.random(200) < keep, truth, "clear").astype(object) for keep in (0.9, 0.6))
    found = {one.measure: one for one in compare_classes(truth, left, right, None)}
    assert found.keys() == {"accuracy", "balanced_accuracy"}
    for one, guess in ((found["balanced_accuracy"].left, left), (found["balanced_accuracy"].right, right)):
        assert one == pytest.approx(metrics.balanced_accuracy_score(truth, guess))
    labels = np.arange(60).astype(str).astype(object)
    assert [one.measure for one in compare_classes(labels, labels, labels, None)] == ["accuracy"]


def test_areas_by_delong_as_its_formula_says() -> None:
    truth, left, right = noisy(3, 120)
    one, two, low, high, above = compare_areas(truth, left, right, 0.9)
    shares = []
    for score in (left, right):
        wins = (score[truth][:, None] > score[~truth]) + 0.5 * (score[truth][:, None] == score[~truth])
        shares.append((wins.mean(axis=1), wins.mean(axis=0)))
    assert (one, two) == pytest.approx([rows.mean() for rows, _ in shares])
    variance = sum(np.var(a - b, ddof=1) / len(a) for a, b in zip(*shares, strict=True))
    reach = stats.norm.ppf(0.95) * np.sqrt(variance)
    assert (low, high) == pytest.approx((one - two - reach, one - two + reach))
    assert above == pytest.approx(stats.norm.cdf((one - two) / np.sqrt(variance)))
    drawn = paired_bootstrap(
        lambda rows: np.array([
            metrics.roc_auc_score(truth[each], left[each]) - metrics.roc_auc_score(truth[each], right[each])
            for each in rows[:400]
        ]), 120, 0.9,
    )  # fmt: skip
    assert drawn[:2] == pytest.approx((low, high), abs=0.03)
    same = compare_areas(truth, left, left, 0.95)
    assert same[2:] == (0.0, 0.0, 0.5)
    assert np.isnan(compare_areas(np.arange(120) < 1, left, right, 0.95)).all()


@given(st.lists(st.tuples(st.integers(0, 6), st.integers(0, 6), st.integers(0, 6)), min_size=1, max_size=30))
def test_the_front_is_what_nobody_beats(points: list[tuple[int, int, int]]) -> None:
    for higher in ([True, False], [True, False, True]):
        held = np.array([point[: len(higher)] for point in points], dtype=float)
        gains = held * np.where(higher, 1, -1)
        wanted = [not any((other >= one).all() and (other > one).any() for other in gains) for one in gains]
        assert pareto_front(held, higher).tolist() == wanted


def test_a_run_without_a_value_is_never_on_the_front() -> None:
    assert pareto_front(np.array([[1.0, math.nan], [0.5, 0.5]]), [True, True]).tolist() == [False, True]
    with pytest.raises(InvalidInput, match="two or three"):
        pareto_front(np.zeros((3, 1)), [True])


def test_an_effect_is_that_of_the_analysis_of_variance() -> None:
    chance = np.random.default_rng(10)
    depth = chance.integers(1, 5, 60).tolist()
    learner = chance.choice(["forest", "boost"], 60).tolist()
    y = [0.1 * d + chance.normal(0, 0.05) for d in depth]
    found = effects_on(
        y, [{"depth": d, "learner": learner_, "same": 1} for d, learner_ in zip(depth, learner, strict=True)]
    )
    first, second = found.effects
    assert (first.factor, first.certainty, found.left_out) == ("depth", "clear", ["same"])
    assert first.share > 0.7
    assert first.rank == pytest.approx(stats.spearmanr(depth, y).statistic)
    groups = [[v for v, d in zip(y, depth, strict=True) if d == level] for level in (1, 2, 3, 4)]
    assert first.p == pytest.approx(2 * stats.f_oneway(*groups).pvalue, rel=1e-6)
    assert [level.name for level in first.levels] == ["1", "2", "3", "4"]
    assert second.certainty == "open"
    assert not found.interactions


def test_two_that_work_together_and_two_that_cannot_be_told_apart() -> None:
    chance = np.random.default_rng(11)
    rows = [{"a": a, "b": b, "c": f"c{a}"} for a in (0, 1) for b in (0, 1) for _ in range(10)]
    y = [float(row["a"] ^ row["b"]) + 0.5 * row["a"] + chance.normal(0, 0.1) for row in rows]  # type: ignore[operator]
    found = effects_on(y, rows)
    by_name = {effect.factor: effect for effect in found.effects}
    assert by_name["a"].together == ["c"]
    assert ("a", "b") in [tuple(sorted(one.factors)) for one in found.interactions]


def test_noise_alone_has_no_clear_effects() -> None:
    chance = np.random.default_rng(12)
    clear = 0
    for _ in range(100):
        rows = [{f"p{n}": int(chance.integers(0, 3)) for n in range(10)} for _ in range(40)]
        clear += any(effect.certainty != "open" for effect in effects_on(chance.normal(size=40).tolist(), rows).effects)
    assert clear <= 12
    assert holm([0.01, 0.04, 0.03]) == pytest.approx([0.03, 0.06, 0.06])


def test_too_little_to_say_anything() -> None:
    assert effects_on([1.0, 2.0], [{"a": 1}, {"a": 2}]).effects == []
    assert effects_on([1.0] * 8, [{"a": n % 2} for n in range(8)]).effects == []
    many = effects_on(list(range(40)), [{"a": float(n)} for n in range(40)])  # type: ignore[arg-type]
    assert [level.runs for level in many.effects[0].levels] == [10, 10, 10, 10]
