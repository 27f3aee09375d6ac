"""Whether a difference is more than noise: against SciPy, closed forms, and worlds in which the truth is known."""

from __future__ import annotations

import math

import numpy as np
import pandas
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy import stats
from statsmodels.formula.api import ols
from statsmodels.stats.anova import anova_lm
from statsmodels.stats.power import TTestIndPower, TTestPower

from kinetrum.core.base.errors import InvalidInput
from kinetrum.core.statistics.effects import effects_on, holm
from kinetrum.core.statistics.noise import difference_of, spread_of
from kinetrum.core.statistics.noise.difference import differences_at_once, picked, runs_to_tell, tell_runs
from kinetrum.core.statistics.noise.dunnett import critical_value, vary_alike
from kinetrum.core.statistics.noise.samples import pooled_deviation
from kinetrum.core.statistics.pareto import pareto_front

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


@pytest.mark.worlds
def test_a_difference_of_noise_alone_is_called_so_as_often_as_promised() -> None:
    chance = np.random.default_rng(5)
    called = [
        difference_of(unseeded(chance.normal(size=5).tolist()), unseeded(chance.normal(size=5).tolist())).beyond
        for _ in range(1_000)
    ]
    assert 0.025 < np.mean(called) < 0.065


@pytest.mark.worlds
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


@pytest.mark.worlds
def test_as_many_runs_as_were_said_do_tell() -> None:
    runs = runs_to_tell(0.02, 0.015)
    assert runs is not None
    chance = np.random.default_rng(7)
    told = [
        difference_of(
            unseeded(chance.normal(0.02, 0.015, runs).tolist()), unseeded(chance.normal(0, 0.015, runs).tolist())
        ).beyond
        for _ in range(500)
    ]
    assert 0.76 < np.mean(told) < 0.9
    assert runs_to_tell(0.02, None) is None
    assert (runs_to_tell(0.0, 1.0), runs_to_tell(math.inf, 1.0), runs_to_tell(0.1, 0.0)) == (None, None, 2)


@pytest.mark.parametrize("effect", [0.01, 0.05, 0.2, 0.5, 1.0, 3.0])
@pytest.mark.parametrize("confidence", [0.95, 0.9974])
def test_how_many_runs_would_tell_is_the_power_of_the_t_test(effect: float, confidence: float) -> None:
    asked = {"effect_size": effect, "alpha": 1 - confidence, "power": 0.8}
    for sides, power in ((2, TTestIndPower()), (1, TTestPower())):
        wanted = math.ceil(float(np.ravel(power.solve_power(**asked))[0]))
        assert abs((runs_to_tell(effect, 1.0, confidence, sides) or 0) - wanted) <= max(1, wanted // 5_000)


def test_what_is_out_of_reach_is_said_so() -> None:
    assert (tell_runs(999), tell_runs(1_000), tell_runs(1_001)) == ("999", "1,000", "more than 1,000")
    assert (runs_to_tell(0.05, 1.0) or 0) > 6_000


def test_more_candidates_and_pairs_change_how_many_would_tell() -> None:
    chance = np.random.default_rng(21)
    base = chance.normal(0, 1.0, 5)
    left, right = (base + 0.05 + chance.normal(0, 0.1, 5)).tolist(), base.tolist()
    alone, among = (difference_of(unseeded(left), unseeded(right), candidates=of).needed or 0 for of in (1, 20))
    assert among > alone
    # Pairs vary less than runs do, so that fewer tell.
    paired = difference_of(seeded(left), seeded(right))
    assert paired.method == "paired by seed"
    assert (paired.needed or 0) < alone
    deviation = float(np.std(np.subtract(left, right), ddof=1))
    assert paired.needed == runs_to_tell(paired.change, deviation, 0.95, 1)


def test_several_against_one_baseline_are_dunnetts() -> None:
    chance = np.random.default_rng(31)
    groups = [chance.normal(at / 3, 1, runs).tolist() for at, runs in enumerate((6, 5, 8))]
    baseline = chance.normal(0, 1, 7).tolist()
    found = differences_at_once(groups, baseline, 0.9)
    assert found is not None
    wanted = stats.dunnett(*groups, control=baseline, rng=np.random.default_rng(1))
    interval = wanted.confidence_interval(0.9)
    assert [one.low for one in found] == pytest.approx(interval.low.tolist(), abs=0.01)
    assert [one.high for one in found] == pytest.approx(interval.high.tolist(), abs=0.01)
    assert [one.beyond for one in found] == (wanted.pvalue < 0.1).tolist()
    # It asks less than comparisons on their own, each widened.
    assert critical_value([6] * 5, 6, 30, 0.95) < stats.t.ppf(0.5 + picked(0.95, 5) / 2, 30)


@pytest.mark.parametrize(("times", "alike"), [(1.40, True), (1.43, True), (1.48, False), (1.60, False)])
def test_a_noisier_baseline_is_not_taken_for_dunnetts(times: float, alike: bool) -> None:
    # Of two groups and a baseline of one deviation: 1.25 of the shared one is reached at 1.474.
    group = np.array([-3, -0.2, -0.1, 0.1, 0.2, 3])
    assert vary_alike([group, group + 1], group * times) is alike


@pytest.mark.parametrize("sizes", [(4, 5), (5, 4)])
def test_dunnetts_is_not_for_few_runs_or_unlike_spreads(sizes: tuple[int, int]) -> None:
    chance = np.random.default_rng(32)
    few, many = sizes
    assert differences_at_once([chance.normal(size=few), chance.normal(size=5)], chance.normal(size=many)) is None
    alike = [chance.normal(size=8) for _ in range(3)]
    assert differences_at_once(alike[:1], alike[2]) is None
    assert differences_at_once([alike[0] * 20, alike[1]], alike[2]) is None
    assert differences_at_once([np.ones(8), alike[1]], alike[2]) is None
    assert differences_at_once([alike[0], alike[1]], alike[2] * 3) is None


@pytest.mark.worlds
def test_in_a_world_without_a_difference_the_best_of_many_is_rarely_called_better() -> None:
    chance = np.random.default_rng(33)
    wrong = 0
    for _ in range(300):
        groups, baseline = [chance.normal(size=6) for _ in range(6)], chance.normal(size=6)
        at_once = differences_at_once(groups, baseline) or [
            difference_of(unseeded(group), unseeded(baseline), candidates=6) for group in groups
        ]
        wrong += any(one.beyond for one in at_once)
    assert wrong / 300 <= 0.08


def test_noise_is_pooled_over_groups() -> None:
    groups = [[1.0, 1.2, 1.1], [5.0, 5.4]]
    wanted = math.sqrt((2 * np.var(groups[0], ddof=1) + np.var(groups[1], ddof=1)) / 3)
    assert pooled_deviation([spread_of(group, 0.95) for group in groups]) == pytest.approx(wanted)
    assert pooled_deviation([spread_of([1.0], 0.95)]) is None


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


def test_the_share_of_an_effect_is_omega_squared() -> None:
    """Against the sums of squares of statsmodels' analysis of variance, put into Hays' formula."""
    chance = np.random.default_rng(41)
    depth = chance.integers(1, 4, 50)
    y = 0.3 * depth + chance.normal(0, 0.5, 50)
    table = anova_lm(ols("y ~ C(depth)", pandas.DataFrame({"y": y, "depth": depth})).fit())
    between, within = table["sum_sq"]
    error = within / table["df"].iloc[1]
    wanted = (between - table["df"].iloc[0] * error) / (between + within + error)
    effect = effects_on(y.tolist(), [{"depth": int(one)} for one in depth]).effects[0]
    assert effect.share == pytest.approx(wanted)
    assert effect.p == pytest.approx(table["PR(>F)"].iloc[0])


@pytest.mark.parametrize("common", [0, 0.0, 0.5])
def test_a_setting_that_is_mostly_one_value_has_an_effect(common: float) -> None:
    chance = np.random.default_rng(42)
    others = chance.uniform(0.1, 0.9, 14).round(3).tolist()
    decay = [common] * 46 + others
    y = [chance.normal(3.0 if one != common else 0.0, 1.0) for one in decay]
    found = effects_on(y, [{"decay": one} for one in decay])
    assert found.left_out == []
    effect = found.effects[0]
    assert (effect.certainty, effect.levels[0].runs, sum(level.runs for level in effect.levels)) == ("clear", 46, 60)
    assert effect.level_of(common) is effect.levels[0]
    assert effect.level_of(others[0]) in effect.levels[1:]
    assert effect.level_of("none") is None


def test_a_quarter_of_the_runs_is_not_yet_a_level_of_its_own() -> None:
    chance = np.random.default_rng(43)
    spread = chance.uniform(1, 2, 30).tolist()
    for shared, levels in ((10, 4), (11, 5)):
        x = [0.0] * shared + spread[: 40 - shared]
        assert len(effects_on(chance.normal(size=40).tolist(), [{"x": one} for one in x]).effects[0].levels) == levels


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
