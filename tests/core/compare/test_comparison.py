"""What comparisons are made of: sentences, reasons, bands of curves, predictions on the same rows, trade-offs."""

from __future__ import annotations

import math

import numpy as np
import pyarrow as pa
import pytest

from kinetrum.core.base.errors import InvalidInput, TooLarge
from kinetrum.core.base.goals import Direction, Goal
from kinetrum.core.base.samples import used
from kinetrum.core.compare import RunFacts, compare_runs
from kinetrum.core.compare.reasons import Factor, factors_of, reasons_for
from kinetrum.core.compare.runs import Replicate
from kinetrum.core.compare.sentence import effects_sentence
from kinetrum.core.points.columns import Points
from kinetrum.core.points.together import band_of
from kinetrum.core.rows import judging
from kinetrum.core.rows.judging import judge_predictions
from kinetrum.core.statistics.effects import Effects, effects_on
from kinetrum.core.statistics.noise import DifferenceOfMeans
from kinetrum.core.statistics.noise.measures import select_measures

GOALS = {"recall": Goal("recall", Direction.HIGHER), "loss": Goal("loss", Direction.LOWER, "s")}


def curve(steps: list[int], values: list[float]) -> Points:
    return Points(np.array(steps), np.array(steps), np.array(values))


def group(number: int, recalls: list[float], losses: list[float]) -> RunFacts:
    replicates = tuple(
        Replicate(f"e/{number}-{seed}", seed, {"recall": recall, "loss": loss}, {"duration (s)": 10.0 + seed})
        for seed, (recall, loss) in enumerate(zip(recalls, losses, strict=True))
    )
    values = {"recall": recalls[0], "loss": losses[0]}
    return RunFacts(
        f"e/{number}",
        f"Run {number}",
        "e",
        "finished",
        {"depth": number},
        values,
        replicates=replicates,
        costs={"duration (s)": 10.0},
    )  # type: ignore[arg-type]


@pytest.mark.parametrize(
    ("loss", "said"), [(1.0, "1 value differs, 1 setting differs."), (2.0, "2 values differ, 1 setting differs.")]
)
def test_what_differs_is_counted_in_english(loss: float, said: str) -> None:
    found = compare_runs([group(1, [0.9], [1.0]), group(2, [0.8], [loss])], {})
    assert found.headline.finding + found.headline.rest == said


def told(change: float, beyond: bool | None, needed: int | None = None) -> DifferenceOfMeans:
    return DifferenceOfMeans(change, change - 0.01, change + 0.01, 0.99, beyond, 0.95, "Welch", needed)


STEADY, APART, WILD = [0.9, 0.901, 0.902], [0.8, 0.801, 0.803], [0.7, 0.9, 1.0]


@pytest.mark.parametrize(
    ("left", "right", "said"),
    [
        (
            group(1, STEADY, [1.0, 1.1, 1.2]),
            group(2, APART, [1.0, 1.1, 1.2]),
            "Run 1 is better than Run 2 on recall (+0.0997), beyond noise.",
        ),
        (
            group(1, APART, [1.0, 1.1, 1.2]),
            group(2, STEADY, [1.1, 1.0, 1.3]),
            "Run 1 is worse than Run 2 on recall (−0.0997), beyond noise; loss (−0.0333 s) within noise.",
        ),
        (
            group(1, STEADY, [5.0, 5.1, 5.2]),
            group(2, APART, [1.0, 1.1, 1.2]),
            "Run 1 is better on recall (+0.0997) and worse on loss (+4 s) than Run 2, beyond noise.",
        ),
        (
            group(1, STEADY, [1.0] * 3),
            group(2, WILD, [1.0] * 3),
            "Run 1 and Run 2 are within noise of each other on recall (+0.0343).",
        ),
    ],
)
def test_the_sentence_of_two_groups(left: RunFacts, right: RunFacts, said: str) -> None:
    found = compare_runs([left, right], GOALS)
    assert found.headline.finding + found.headline.rest == said
    assert "Means of 3 and 3 runs, paired by seed" in found.headline.reason
    assert found.costs[0].values == [11.0, 11.0]


def test_how_many_would_tell_stands_where_it_is_not_told() -> None:
    found = compare_runs([group(1, STEADY, [1.0] * 3), group(2, WILD, [1.0] * 3)], GOALS)
    needed = found.outcomes[0].main and found.outcomes[0].main.difference.needed
    assert needed
    assert f"{needed} runs each would tell such a difference" in found.headline.reason


def test_every_run_has_its_change_against_the_baseline() -> None:
    runs = [group(1, STEADY, [1.0] * 3), group(2, APART, [2.0] * 3), group(3, [math.nan] * 3, [1.0] * 3)]
    recall = compare_runs(runs, GOALS, baseline=1).outcomes[0]
    assert [change and round(change.change, 3) for change in recall.changes] == [0.1, None, None]
    assert recall.spreads[2] is None
    assert recall.best == [True, False, False]


def test_reasons_follow_what_other_runs_show() -> None:
    rows = [{"depth": depth, "learner": learner} for depth in (2, 4, 6) for learner in ("a", "b") for _ in range(4)]
    chance = np.random.default_rng(1)
    effects = effects_on([0.1 * float(row["depth"]) + chance.normal(0, 0.01) for row in rows], rows)  # type: ignore[arg-type]
    factors = factors_of(
        {
            "setting": [("depth", 6, 2), ("learner", "a", "b"), ("new", 1, None)],
            "data": [("nights", "nights@2", "nights@1")],
            "environment": [("host", "here", "there")],
        }
    )
    found = reasons_for("recall", told(0.4, True), factors, effects)
    assert [reason.name for reason in found][:2] == ["depth", "nights"]
    assert found[0].expected == pytest.approx(0.4, abs=0.02)
    assert "depth: 2 → 6; over 24 different runs recall is +0.399" in found[0].text
    assert "(clear)" in found[0].text
    by_name = {reason.name: reason for reason in found}
    assert "no other runs of this experiment tell" in by_name["new"].text
    assert by_name["host"].weight < by_name["nights"].weight
    # The other way round than it came out, a setting can hardly be why.
    turned = reasons_for("recall", told(-0.4, True), [Factor("setting", "depth", 6, 2)], effects)
    assert turned[0].weight < 0.1
    assert "the other way round" in turned[0].text


@pytest.mark.parametrize(
    ("difference", "first", "text"),
    [
        (told(0.02, False, 7), "noise", "within the noise of replicates; 7 runs each would tell it"),
        (
            DifferenceOfMeans(0.02, None, None, None, None, 0.95, "none", 4),
            "noise",
            "may be noise. 4 runs each would tell",
        ),
        (told(0.02, True), "commit", "no other runs"),
    ],
)
def test_noise_is_among_the_causes(difference: DifferenceOfMeans, first: str, text: str) -> None:
    found = reasons_for("recall", difference, [Factor("code", "commit", "a", "b")], Effects(0, [], [], []))
    assert (found[0].name, text in found[0].text) == (first, True)


def test_what_is_said_of_effects_claims_no_more_than_runs_show() -> None:
    assert (
        effects_sentence("recall", effects_on([1.0, 2.0], [{}, {}]))
        == "2 different runs: too few, or too much alike, to tell what moves recall."
    )
    chance = np.random.default_rng(3)
    rows = [{"a": at % 2, "b": at % 3} for at in range(30)]
    assert "nothing is told from chance" in effects_sentence(
        "recall", effects_on(chance.normal(size=30).tolist(), rows)
    )
    clear = effects_sentence("recall", effects_on([float(row["a"]) + chance.normal(0, 0.1) for row in rows], rows))
    assert clear.startswith("Over 30 different runs recall goes along with a (")
    assert clear.endswith("; 1 other is not told from chance.")


def test_curves_of_replicates_as_mean_and_band() -> None:
    found = band_of([curve([0, 2, 4], [0.0, 2.0, 4.0]), curve([0, 1, 2], [2.0, 3.0, math.nan]), curve([], [])], 100)
    assert found.steps.tolist() == [0, 1, 2, 4]
    assert found.mean.tolist() == [1.0, 2.0, 2.0, 4.0]
    assert (found.low.tolist(), found.high.tolist()) == ([0.0, 1.0, 2.0, 4.0], [2.0, 3.0, 2.0, 4.0])
    assert found.runs.tolist() == [2, 2, 1, 1]
    assert len(band_of([curve(list(range(1000)), [1.0] * 1000)], 50).steps) == 50
    assert len(band_of([], 50).steps) == len(band_of([curve([1], [math.inf])], 50).steps) == 0


def predictions(**columns: list[object]) -> pa.Table:
    return pa.table(columns)


def test_predictions_are_judged_on_the_rows_of_both() -> None:
    left = predictions(row=["a", "b", "c"], truth=["x", "y", "z"], prediction=["x", "y", "x"])
    right = predictions(row=["c", "b", "d"], truth=["z", "y", "x"], prediction=["z", "x", "x"])
    accuracy, *others = judge_predictions(left, right, "row")
    # Of three classes no one is that of recall.
    assert [one.measure for one in others] == ["balanced_accuracy"]
    assert (accuracy.measure, accuracy.rows, accuracy.left, accuracy.right) == ("accuracy", 2, 0.5, 0.5)
    assert (accuracy.only_left_right, accuracy.only_right_right, accuracy.outcome) == (1, 1, "too few to tell")
    # One row of the right table is not in the left one.
    assert accuracy.left_out == 1
    numbers = judge_predictions(
        predictions(row=[1, 2], truth=[1.0, 2.0], prediction=[1.5, 2.5]),
        predictions(row=[1, 2], truth=[1.0, 2.0], prediction=[2.0, 3.0]),
        "row",
    )
    assert [(one.measure, one.change) for one in select_measures(numbers, [])] == [("mae", -0.5), ("rmse", -0.5)]
    assert {one.measure for one in numbers} == {"mae", "rmse", "mse", "r2"}


def test_the_class_that_counts_is_the_one_that_scores_are_of() -> None:
    truth = ["calm", "frost"] * 40
    said = [one if at % 7 else "calm" for at, one in enumerate(truth)]
    sure = [0.9 if one == "frost" else 0.2 + at / 800 for at, one in enumerate(said)]
    left = predictions(row=list(range(80)), truth=truth, prediction=said, score=sure)
    found = {one.measure: one for one in judge_predictions(left, left, "row")}
    assert found["recall"].left == said.count("frost") / 40
    assert found["roc_auc"].left > 0.8 and found["log_loss"].left < 0.5
    # The same told of the other class: high scores are of calm now.
    flipped = left.set_column(3, "score", pa.array([1 - one for one in sure]))
    turned = {one.measure: one for one in judge_predictions(flipped, flipped, "row")}
    assert turned["recall"].left == found["specificity"].left == 1.0
    assert turned["roc_auc"].left == pytest.approx(found["roc_auc"].left)
    assert turned["log_loss"].left == pytest.approx(found["log_loss"].left)
    # Scores of two different classes are not compared, nor are those that only one has, nor none at all.
    for other in (flipped, left.drop_columns("score"), left.set_column(3, "score", pa.nulls(80, pa.float64()))):
        assert "roc_auc" not in {one.measure for one in judge_predictions(left, other, "row")}
    # Where scores are missing in some rows, these may be the hard ones.
    holes = left.set_column(3, "score", pa.array([None if at < 1 else one for at, one in enumerate(sure)]))
    for one, other in ((holes, left), (left, holes)):
        assert not {"roc_auc", "brier"} & {verdict.measure for verdict in judge_predictions(one, other, "row")}


def test_missing_truths_and_predictions_are_right_nowhere() -> None:
    left = predictions(row=list(range(8)), truth=["a", "b"] * 3 + [None, None], prediction=["a", "b"] * 3 + [None, "a"])
    accuracy = judge_predictions(left, left, "row")[0]
    assert (accuracy.measure, accuracy.left, accuracy.rows) == ("accuracy", 6 / 8, 8)


def test_a_number_that_was_not_predicted_cannot_be_left_out() -> None:
    whole = predictions(
        row=list(range(9)), truth=[float(at) for at in range(9)], prediction=[float(at) for at in range(9)]
    )
    for hole in (None, float("nan"), float("inf")):
        holed = whole.set_column(2, "prediction", pa.array([hole, *[float(at) for at in range(1, 9)]]))
        with pytest.raises(InvalidInput, match="left table has no finite prediction in 1 of 9 rows"):
            judge_predictions(holed, whole, "row")
        with pytest.raises(InvalidInput, match="right table has no finite prediction in 1 of 9 rows"):
            judge_predictions(whole, holed, "row")
    # A row without a truth tells nothing of either.
    unknown = whole.set_column(1, "truth", pa.array([None, *[float(at) for at in range(1, 9)]]))
    assert judge_predictions(unknown, unknown, "row")[0].rows == 8
    with pytest.raises(InvalidInput, match="No row has a truth"):
        none = whole.set_column(1, "truth", pa.nulls(9, pa.float64()))
        judge_predictions(none, none, "row")


@pytest.mark.parametrize(
    ("left", "right", "why"),
    [
        (
            predictions(row=[1], truth=[1], prediction=[1]),
            predictions(row=[2], truth=[1], prediction=[1]),
            "No row is in both",
        ),
        (
            predictions(row=[1], truth=[1], prediction=[1]),
            predictions(row=[1], truth=[2], prediction=[1]),
            "not of the same data",
        ),
        (predictions(row=[1], truth=[1]), predictions(row=[1], truth=[1], prediction=[1]), "truth and prediction"),
        (
            predictions(row=[1, 1], truth=[1, 1], prediction=[1, 1]),
            predictions(row=[1], truth=[1], prediction=[1]),
            "in several rows",
        ),
    ],
)
def test_predictions_that_cannot_be_judged_say_why(left: pa.Table, right: pa.Table, why: str) -> None:
    with pytest.raises(InvalidInput, match=why):
        judge_predictions(left, right, "row")


def test_too_many_rows_to_judge(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(judging, "ROWS_LIMIT", 1)
    table = predictions(row=[1, 2], truth=[1, 2], prediction=[1, 2])
    with pytest.raises(TooLarge, match="up to 1 are judged"):
        judge_predictions(table, table, "row")


def test_what_a_run_used_of_its_machine() -> None:
    samples = {"at": [1, 2, 3], "memory (bytes)": [5_000_000, None, 8_000_000], "cpu (%)": [50.0, 100.0, None]}
    assert used(samples) == {"peak memory (MB)": 8.0, "mean processor (%)": 75.0}  # type: ignore[arg-type]
    assert used({}) == {}
