"""Plots kept as data: equal to scikit-learn on its own data sets and at the edges, thinned within their bounds."""

from __future__ import annotations

import json
import math
import warnings
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from sklearn import datasets, metrics
from sklearn.calibration import calibration_curve
from sklearn.linear_model import LinearRegression, LogisticRegression
from sklearn.naive_bayes import GaussianNB

from kinetrum.core.base.errors import InvalidInput, TooLarge
from kinetrum.core.plots import PLOT_KINDS, Plot, make_plot, read_plot, redeclare, table_plot, write_plot

TIES = [0.1, 0.1, 0.4, 0.4, 0.4, 0.35, 0.8, 0.8, 0.8, 0.2]
TIED = [0, 1, 0, 1, 1, 0, 1, 0, 1, 0]


def cancer() -> tuple[Any, Any]:
    x, y = datasets.load_breast_cancer(return_X_y=True)
    return y, GaussianNB().fit(x[:300], y[:300]).predict_proba(x)[:, 1]


def wine() -> tuple[Any, Any]:
    x, y = datasets.load_wine(return_X_y=True)
    return y, GaussianNB().fit(x[::2], y[::2]).predict_proba(x)


def weights(rows: int, kind: str) -> Any:
    if kind == "none":
        return None
    chance = np.random.default_rng(3)
    return chance.integers(0, 4, rows).astype(float) + (0.25 if kind == "some" else 0.0)


def column(plot: Plot, name: str, group: str | None = None) -> np.ndarray:
    values = np.array(plot.columns[name], float)
    return values if group is None else values[np.array(plot.columns["class"]) == group]


def near(found: Any, wanted: Any) -> bool:
    return np.shape(found) == np.shape(wanted) and bool(np.allclose(found, wanted, rtol=1e-12, atol=1e-12))


@pytest.mark.parametrize("weighed", ["none", "some", "zeros"])
@pytest.mark.parametrize("data", ["cancer", "ties"])
def test_roc_is_that_of_scikit_learn(data: str, weighed: str) -> None:
    y, score = cancer() if data == "cancer" else (np.array(TIED), np.array(TIES))
    w = weights(len(y), weighed)
    false, true, limits = metrics.roc_curve(y, score, sample_weight=w, drop_intermediate=False)
    plot = make_plot("roc", y, score, weights=w)
    assert near(column(plot, "false_positive_rate"), false)
    assert near(column(plot, "true_positive_rate"), true)
    assert near(column(plot, "threshold")[1:], limits[1:])
    assert plot.columns["threshold"][0] == math.inf
    assert plot.numbers["area"] == pytest.approx(metrics.roc_auc_score(y, score, sample_weight=w), abs=1e-12)
    assert plot.numbers["true positive rate at false positive rate 0.05"] == pytest.approx(
        true[false <= 0.05].max(), abs=1e-12
    )
    assert plot.numbers["false positive rate at true positive rate 0.9"] == pytest.approx(
        false[true >= 0.9].min(), abs=1e-12
    )
    assert plot.note == ""


@pytest.mark.parametrize("score", [[1.0] * 6, [0.0] * 6, [0, 1, 1, 0, 1, 1], [0.0, 1.0, 0.5, 0.0, 1.0, 1.0]])
def test_scores_that_equal_labels_are_scores(score: list[float]) -> None:
    y = np.array([0, 1, 1, 0, 0, 1])
    plot = make_plot("roc", y, np.array(score))
    assert plot.numbers["area"] == pytest.approx(metrics.roc_auc_score(y, score), abs=1e-12)
    area = metrics.average_precision_score(y, score)
    assert make_plot("precision_recall", y, score).numbers["average_precision"] == pytest.approx(area, abs=1e-12)
    assert make_plot("threshold", y, score).columns["threshold"]
    assert make_plot("calibration", y, score).columns


@pytest.mark.parametrize("weighed", ["none", "some"])
@pytest.mark.parametrize("data", ["cancer", "ties"])
def test_precision_and_recall_are_those_of_scikit_learn(data: str, weighed: str) -> None:
    y, score = cancer() if data == "cancer" else (np.array(TIED), np.array(TIES))
    w = weights(len(y), weighed)
    precision, recall, limits = metrics.precision_recall_curve(y, score, sample_weight=w)
    plot = make_plot("precision_recall", y, score, weights=w)
    assert near(column(plot, "precision"), precision[::-1])
    assert near(column(plot, "recall"), recall[::-1])
    assert near(column(plot, "threshold")[1:], limits[::-1])
    area = metrics.average_precision_score(y, score, sample_weight=w)
    assert plot.numbers["average_precision"] == pytest.approx(area, abs=1e-12)
    assert plot.numbers["precision at recall 0.9"] == pytest.approx(precision[recall >= 0.9].max(), abs=1e-12)


def test_curves_of_several_classes_are_one_against_the_rest() -> None:
    y, scores = wine()
    plot = make_plot("roc", y, scores)
    assert plot.view.group == "class"
    for at in range(3):
        false, true, _ = metrics.roc_curve(y == at, scores[:, at], drop_intermediate=False)
        assert near(column(plot, "false_positive_rate", str(at)), false)
        assert near(column(plot, "true_positive_rate", str(at)), true)
        assert plot.numbers[f"area of {at}"] == pytest.approx(metrics.auc(false, true), abs=1e-12)


@pytest.mark.parametrize("weighed", ["none", "some"])
def test_what_comes_of_every_threshold(weighed: str) -> None:
    y, score = np.array(TIED), np.array(TIES)
    w = weights(len(y), weighed)
    plot = make_plot("threshold", y, score, weights=w)
    for at, limit in enumerate(plot.columns["threshold"]):
        flagged = (score >= limit).astype(int)
        options = {"sample_weight": w}
        assert plot.columns["precision"][at] == pytest.approx(metrics.precision_score(y, flagged, **options), abs=1e-12)
        assert plot.columns["recall"][at] == pytest.approx(metrics.recall_score(y, flagged, **options), abs=1e-12)
        assert plot.columns["f1"][at] == pytest.approx(metrics.f1_score(y, flagged, **options), abs=1e-12)
        assert plot.columns["accuracy"][at] == pytest.approx(metrics.accuracy_score(y, flagged, **options), abs=1e-12)
        assert plot.columns["share_flagged"][at] == pytest.approx(np.average(flagged, weights=w), abs=1e-12)
    assert plot.numbers["best_f1"] == max(float(str(value)) for value in plot.columns["f1"])


@pytest.mark.parametrize("weighed", ["none", "some"])
def test_the_confusion_matrix_is_that_of_scikit_learn(weighed: str) -> None:
    for y, scores in (wine(), cancer(), (np.array(["ripe", "raw", "ripe"]), np.array(["raw", "raw", "ripe"]))):
        w = weights(len(y), weighed)
        plot = make_plot("confusion", y, scores, weights=w)
        names = sorted({*plot.columns["truth"], *plot.columns["prediction"]}, key=str)
        table = np.zeros((len(names), len(names)))
        for truth, prediction, count in zip(
            *(plot.columns[key] for key in ("truth", "prediction", "count")), strict=True
        ):
            table[names.index(truth), names.index(prediction)] += float(str(count))
        labels = scores.argmax(axis=1) if scores.ndim == 2 else scores if scores.dtype.kind == "U" else scores > 0.5
        wanted = metrics.confusion_matrix(
            y, labels if scores.dtype.kind == "U" else labels.astype(int), sample_weight=w
        )
        assert near(table, wanted)


@pytest.mark.parametrize("by", ["width", "count"])
@pytest.mark.parametrize("bins", [1, 5, 10, 37])
def test_calibration_is_that_of_scikit_learn(by: str, bins: int) -> None:
    x, y = datasets.load_breast_cancer(return_X_y=True)
    model = LogisticRegression(max_iter=5_000).fit(x[:300, :4], y[:300])
    score = model.predict_proba(x[:, :4])[:, 1]
    true, mean = calibration_curve(y, score, n_bins=bins, strategy="uniform" if by == "width" else "quantile")
    plot = make_plot("calibration", y, score, bins=bins, by=by)
    assert near(column(plot, "share_true"), true)
    assert near(column(plot, "probability"), mean)
    assert sum(float(str(rows)) for rows in plot.columns["rows"]) == len(y)
    assert plot.numbers["brier"] == pytest.approx(metrics.brier_score_loss(y, score), abs=1e-12)


@pytest.mark.parametrize("weighed", ["none", "some"])
def test_a_regression_in_numbers_is_that_of_scikit_learn(weighed: str) -> None:
    x, y = datasets.load_diabetes(return_X_y=True)
    w = weights(len(y), weighed)
    found = LinearRegression().fit(x[:200], y[:200]).predict(x)
    for kind, over in (("predicted", "truth"), ("residuals", "prediction")):
        plot = make_plot(kind, y, found, weights=w)
        assert near(column(plot, over), y if over == "truth" else found)
        for key, function in (("mae", metrics.mean_absolute_error), ("r2", metrics.r2_score)):
            assert plot.numbers[key] == pytest.approx(function(y, found, sample_weight=w), abs=1e-12)
        assert plot.numbers["rmse"] == pytest.approx(
            metrics.root_mean_squared_error(y, found, sample_weight=w), abs=1e-9
        )
    constant = make_plot("residuals", [2.0, 2.0], [2.0, 2.0])
    assert (constant.numbers["r2"], constant.numbers["rmse"]) == (1.0, 0.0)


def test_one_class_alone_is_said_and_not_made_up() -> None:
    roc = make_plot("roc", [1, 1, 1], [0.2, 0.9, 0.4])
    assert (roc.rows, roc.numbers) == (0, {})
    assert "takes both that class and others" in roc.note
    only = make_plot("precision_recall", [1, 1, 1], [0.2, 0.9, 0.4])
    assert only.numbers["average_precision"] == 1.0
    none = make_plot("threshold", [0, 0], [0.2, 0.9])
    assert (none.rows, none.view.y) == (0, ("precision", "recall", "f1"))
    lone = make_plot("confusion", ["a", "a"], ["a", "a"])
    assert lone.columns == {"truth": ["a"], "prediction": ["a"], "count": [2.0]}
    _, scores = wine()
    missing = make_plot("roc", np.zeros(len(scores), int), scores, classes=[0, 1, 2])
    assert missing.note.count("Nothing can be said of") == 3


def test_any_number_of_classes() -> None:
    chance = np.random.default_rng(7)
    truth = chance.integers(0, 200, 20_000)
    scores = chance.random((20_000, 200))
    plot = make_plot("confusion", truth, scores)
    assert sum(float(str(count)) for count in plot.columns["count"]) == 20_000
    assert len({*plot.columns["truth"]}) == 200
    curves = make_plot("roc", truth[:3_000], scores[:3_000])
    assert len({*curves.columns["class"]}) == 50
    assert curves.note.startswith("The first 50 of 200 classes.")
    # A class that was never predicted has its column all the same.
    lopsided = make_plot("confusion", ["a", "b", "c"], ["a", "a", "a"])
    assert {*lopsided.columns["prediction"]} == {"a", "b", "c"}


def test_large_curves_are_thinned_within_their_bound() -> None:
    chance = np.random.default_rng(11)
    truth = chance.integers(0, 2, 400_000)
    score = np.clip(truth * 0.3 + chance.normal(0.4, 0.3, len(truth)), -1, 2)
    false, true, _ = metrics.roc_curve(truth, score, drop_intermediate=False)
    plot = make_plot("roc", truth, score)
    assert plot.rows < 8_100
    x, y = column(plot, "false_positive_rate"), column(plot, "true_positive_rate")
    assert float(np.abs(np.interp(false, x, y) - true).max()) <= 1.01e-3 + float(np.diff(true).max())
    assert plot.numbers["area"] == pytest.approx(metrics.roc_auc_score(truth, score), abs=1e-12)
    assert "Thinned" in plot.note
    curve = make_plot("precision_recall", truth, score)
    assert curve.rows <= 4_000
    precision, _, _ = metrics.precision_recall_curve(truth, score)
    assert (max(column(curve, "precision")), min(column(curve, "precision"))) == (
        pytest.approx(precision.max()),
        pytest.approx(precision.min()),
    )


def test_a_large_cloud_is_gathered_within_its_bound() -> None:
    chance = np.random.default_rng(13)
    truth = chance.normal(0, 3, 100_000)
    found = truth + chance.normal(0, 1, len(truth))
    plot = make_plot("predicted", truth, found)
    assert plot.rows <= 40_000
    assert sum(float(str(rows)) for rows in plot.columns["rows"]) == 100_000
    half = (truth.max() - truth.min()) / 400
    nearest = np.abs(np.unique(column(plot, "truth"))[:, None] - truth[None, :500]).min(axis=0)
    assert float(nearest.max()) <= half * 1.0001
    assert "none is moved by more than 1/400" in plot.note
    flat = make_plot("residuals", np.ones(6_000), np.ones(6_000))
    assert (flat.rows, flat.columns["rows"]) == (1, [6_000.0])


@pytest.mark.parametrize("kind", PLOT_KINDS)
@given(rows=st.lists(st.tuples(st.integers(0, 1), st.floats(0, 1)), min_size=1, max_size=40))
def test_every_kind_stays_within_its_ranges_and_survives_json(kind: str, rows: list[tuple[int, float]]) -> None:
    truth, score = [row[0] for row in rows], [row[1] for row in rows]
    with warnings.catch_warnings():
        warnings.simplefilter("error")
        plot = make_plot(kind, truth, score, **({} if kind in {"predicted", "residuals"} else {"threshold": 0.5}))
    data = json.loads(json.dumps(write_plot(plot), allow_nan=False))
    back = read_plot(data)
    assert (back.kind, back.view, back.note) == (plot.kind, plot.view, plot.note)
    assert back.columns.keys() == plot.columns.keys()
    for name in {"false_positive_rate", "true_positive_rate", "precision", "recall", "share_true"} & set(plot.columns):
        assert all(-1e-12 <= float(str(value)) <= 1 + 1e-12 for value in plot.columns[name])


def test_a_table_is_drawn_as_chosen() -> None:
    nights = {"station": ["top", "wall", "pond"], "low_c": [-2.5, np.float64(1.0), None], "day": np.arange(3)}
    plot = table_plot(nights)
    assert (plot.view.mark, plot.view.x, plot.view.y) == ("bars", "station", ("low_c", "day"))
    assert plot.columns["low_c"] == [-2.5, 1.0, None]
    drawn = table_plot(nights, x="day", y="low_c", group="station", title="Lows", y_name="°C", y_scale="log")
    assert (drawn.view.mark, drawn.view.group, drawn.view.y_scale) == ("line", "station", "log")
    again = redeclare(drawn, {"x": "low_c", "y": "day", "mark": "points", "x_name": "low (°C)"})
    assert (again.view.x, again.view.y, again.view.title, again.view.mark) == ("low_c", ("day",), "Lows", "points")
    assert again.columns == drawn.columns


@pytest.mark.parametrize(
    ("changes", "told"),
    [
        ({"x": "nobody"}, "x names the column 'nobody'; there are station, low_c"),
        ({"y": []}, "at least one"),
        ({"mark": "pie"}, "one of line, steps"),
        ({"colour": "red"}, "has no 'colour'"),
        ({"y": 5}, "y names a column"),
        ({"x_scale": "ln"}, "linear, log"),
        ({"title": "x" * 300}, "up to 200"),
        ({"title": "a\nb"}, "printable"),
        ({"group": "nobody"}, "group names"),
        ({"share": "all"}, "count, row, column"),
    ],
)
def test_a_view_that_does_not_fit_is_refused(changes: dict[str, Any], told: str) -> None:
    plot = table_plot({"station": ["top", "wall"], "low_c": [-2.5, 1.0]})
    with pytest.raises(InvalidInput, match=told):
        redeclare(plot, changes)


@pytest.mark.parametrize(
    "data",
    [
        None,
        [],
        {},
        {"columns": []},
        {"columns": {"a": 5}},
        {"columns": {"a": [1], "b": []}},
        {"columns": {"": [1]}},
        {"columns": {"a": [[1]]}, "view": {"x": "a", "y": ["a"]}},
        {"columns": {"a": ["x" * 201]}},
        {"columns": {"a": [1]}, "view": 5},
        {"columns": {"a": [1]}, "view": {"x": "a", "y": ["a"]}, "numbers": {"n": "x"}},
        {"columns": {"a": [1]}, "view": {"x": "a", "y": ["a"]}, "kind": 5},
        {"columns": {"a": [{"b": 1}]}},
    ],
)
def test_what_is_no_plot_is_refused(data: Any) -> None:
    with pytest.raises(InvalidInput):
        read_plot(data)


def test_too_much_is_refused_with_its_bound() -> None:
    with pytest.raises(TooLarge, match="up to 100000 rows"):
        table_plot({"a": np.arange(100_001)})
    with pytest.raises(TooLarge, match="up to 40 columns"):
        table_plot({f"c{at}": [1] for at in range(41)})


@pytest.mark.parametrize(
    ("kind", "truth", "score", "options", "told"),
    [
        ("pie", [1], [1], {}, "Unknown kind of plot 'pie'"),
        ("roc", [0, 1], ["a", "b"], {}, "of one kind"),
        ("roc", [0, 1, 2], [0, 2, 1], {}, "takes scores"),
        ("roc", ["a", "b"], ["a", "b"], {}, "takes scores"),
        ("calibration", [0, 1], [0.2, 1.7], {}, "probabilities"),
        ("calibration", [0, 1], [0.2, 0.7], {"bins": 0}, "whole number from 1"),
        ("calibration", [0, 1], [0.2, 0.7], {"by": "luck"}, "equal width or equal count"),
        ("residuals", ["a"], [1.0], {}, "one number a row"),
        ("roc", [0, 1], [0.5], {}, "2 truths and 1"),
        ("roc", [], [], {}, "empty"),
        ("roc", [0, 1], [0.1, math.nan], {}, "row 1"),
    ],
)
def test_what_cannot_be_plotted_is_refused(kind: str, truth: Any, score: Any, options: Any, told: str) -> None:
    with pytest.raises(InvalidInput, match=told):
        make_plot(kind, truth, score, **options)
