"""Results of predictions, against scikit-learn on its own data sets and at the edges."""

from __future__ import annotations

import math
import warnings
from typing import Any

import numpy as np
import pytest
from sklearn import datasets, metrics
from sklearn.linear_model import LinearRegression, LogisticRegression
from sklearn.naive_bayes import GaussianNB
from sklearn.tree import DecisionTreeClassifier

from kinetrum.core.base.errors import InvalidInput
from kinetrum.core.evaluation import evaluate


def near(found: float, wanted: float) -> bool:
    return abs(found - wanted) <= 1e-12 * max(1.0, abs(wanted)) or (math.isnan(found) and math.isnan(wanted))


def compare(results: dict[str, Any], wanted: dict[str, float]) -> None:
    wrong = {
        key: (results.get(key), value) for key, value in wanted.items() if not near(results.get(key, 1e300), value)
    }
    assert not wrong


def quietly(function: Any, *given: Any, **options: Any) -> float:
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        return float(function(*given, **options))


WEIGHTS = [False, True]


def weights_for(rows: int, wanted: bool) -> Any:
    return np.random.default_rng(5).integers(0, 4, rows).astype(float) + 0.25 if wanted else None


@pytest.mark.parametrize("weighted", WEIGHTS)
def test_two_classes_with_probabilities(weighted: bool) -> None:
    x, y = datasets.load_breast_cancer(return_X_y=True)
    scores = GaussianNB().fit(x[:300], y[:300]).predict_proba(x)
    w = weights_for(len(y), weighted)
    labels = (scores[:, 1] > 0.5).astype(int)
    options = {"sample_weight": w}
    wanted = {
        "accuracy": metrics.accuracy_score(y, labels, **options),
        "balanced_accuracy": metrics.balanced_accuracy_score(y, labels, **options),
        "precision": metrics.precision_score(y, labels, **options),
        "recall": metrics.recall_score(y, labels, **options),
        "specificity": metrics.recall_score(y, labels, pos_label=0, **options),
        "f1": metrics.f1_score(y, labels, **options),
        "mcc": metrics.matthews_corrcoef(y, labels, **options),
        "roc_auc": metrics.roc_auc_score(y, scores[:, 1], **options),
        "average_precision": metrics.average_precision_score(y, scores[:, 1], **options),
        "log_loss": metrics.log_loss(y, scores, **options),
        "brier": metrics.brier_score_loss(y, scores[:, 1], **options),
    }
    for given in (scores, scores[:, 1]):
        found = evaluate(y, given, weights=w)
        assert found.task == "classification"
        compare(found.results, wanted | {"log_loss": metrics.log_loss(y, given, sample_weight=w)})
    assert found.columns["prediction"] == labels.tolist()


def test_scores_that_are_no_probabilities_and_have_ties() -> None:
    x, y = datasets.load_breast_cancer(return_X_y=True)
    x = x / x.max(axis=0)
    scores = np.round(LogisticRegression().fit(x[:300], y[:300]).decision_function(x), 0)
    found = evaluate(y, scores).results
    compare(
        found,
        {
            "roc_auc": metrics.roc_auc_score(y, scores),
            "average_precision": metrics.average_precision_score(y, scores),
            "recall": metrics.recall_score(y, scores > 0),
        },
    )
    assert "log_loss" not in found
    assert found["threshold"] == 0.0


@pytest.mark.parametrize("weighted", WEIGHTS)
@pytest.mark.parametrize("load", [datasets.load_iris, datasets.load_digits, datasets.load_wine])
def test_several_classes(load: Any, weighted: bool) -> None:
    x, y = load(return_X_y=True)
    order = np.random.default_rng(2).permutation(len(y))
    x, y = x[order], y[order]
    scores = GaussianNB().fit(x[:100], y[:100]).predict_proba(x)
    labels = scores.argmax(axis=1)
    w = weights_for(len(y), weighted)
    wanted = {
        "accuracy": metrics.accuracy_score(y, labels, sample_weight=w),
        "balanced_accuracy": metrics.balanced_accuracy_score(y, labels, sample_weight=w),
        "mcc": metrics.matthews_corrcoef(y, labels, sample_weight=w),
        "precision_macro": quietly(metrics.precision_score, y, labels, average="macro", sample_weight=w),
        "recall_macro": quietly(metrics.recall_score, y, labels, average="macro", sample_weight=w),
        "f1_macro": metrics.f1_score(y, labels, average="macro", sample_weight=w),
        "f1_weighted": metrics.f1_score(y, labels, average="weighted", sample_weight=w),
        "log_loss": metrics.log_loss(y, scores, sample_weight=w),
    }
    areas = [metrics.roc_auc_score(y == at, scores[:, at], sample_weight=w) for at in range(scores.shape[1])]
    wanted["roc_auc_macro"] = float(np.mean(areas))
    found = evaluate(y, scores, weights=w)
    compare(found.results, wanted)
    names = np.array(["class-" + "abcdefghij"[at] for at in range(scores.shape[1])])
    compare(
        evaluate(names[y], names[labels], weights=w).results,
        {key: wanted[key] for key in ("accuracy", "mcc", "f1_macro")},
    )
    assert f"score:{scores.shape[1] - 1}" in found.columns


def test_labels_alone() -> None:
    x, y = datasets.load_breast_cancer(return_X_y=True)
    labels = DecisionTreeClassifier(max_depth=2, random_state=0).fit(x[:200], y[:200]).predict(x)
    found = evaluate(y, labels).results
    compare(found, {"f1": metrics.f1_score(y, labels)})
    assert "roc_auc" not in found
    flipped = evaluate(
        np.where(y == 1, "calm", "frost"), np.where(labels == 1, "calm", "frost"), positive="calm"
    ).results
    compare(flipped, {"f1": metrics.f1_score(y, labels)})
    compare(evaluate(y == 1, labels == 1).results, {"f1": metrics.f1_score(y, labels)})


@pytest.mark.parametrize("weighted", WEIGHTS)
def test_regression(weighted: bool) -> None:
    x, y = datasets.load_diabetes(return_X_y=True)
    predicted = LinearRegression().fit(x[:200], y[:200]).predict(x)
    w = weights_for(len(y), weighted)
    found = evaluate(y, predicted, weights=w)
    assert found.task == "regression"
    wanted = {
        "mae": metrics.mean_absolute_error(y, predicted, sample_weight=w),
        "mse": metrics.mean_squared_error(y, predicted, sample_weight=w),
        "rmse": metrics.root_mean_squared_error(y, predicted, sample_weight=w),
        "r2": metrics.r2_score(y, predicted, sample_weight=w),
        "max_error": metrics.max_error(y, predicted),
        "explained_variance": metrics.explained_variance_score(y, predicted, sample_weight=w),
        "mape": metrics.mean_absolute_percentage_error(y, predicted, sample_weight=w),
    }
    if not weighted:
        wanted["median_absolute_error"] = metrics.median_absolute_error(y, predicted)
    compare(found.results, wanted)


def test_ranking_by_tables_and_by_groups() -> None:
    random = np.random.default_rng(3)
    relevance = random.integers(0, 3, (40, 12))
    scores = np.round(random.normal(size=(40, 12)) + relevance, 0)
    relevance[:, 0] = 1
    found = evaluate(relevance, scores).results
    wanted = {
        "ndcg": metrics.ndcg_score(relevance, scores),
        "ndcg_at_5": metrics.ndcg_score(relevance, scores, k=5),
        "ndcg_at_10": metrics.ndcg_score(relevance, scores, k=10),
        "mean_average_precision": metrics.label_ranking_average_precision_score((relevance > 0).astype(int), scores),
    }
    compare(found, wanted)
    groups = np.repeat(np.arange(40), 12)
    order = random.permutation(480)
    compare(evaluate(relevance.ravel()[order], scores.ravel()[order], groups=groups[order]).results, wanted)
    single = evaluate([0, 0, 1, 0], [0.9, 0.8, 0.7, 0.1], task="ranking").results
    assert single["mean_reciprocal_rank"] == pytest.approx(1 / 3)
    assert single["queries"] == 1


@pytest.mark.parametrize("weighted", WEIGHTS)
def test_several_labels_a_row(weighted: bool) -> None:
    random = np.random.default_rng(11)
    truth = (random.random((300, 5)) < [0.1, 0.3, 0.5, 0.7, 0.0]).astype(int)
    score = np.clip(truth * 0.3 + random.random((300, 5)) * 0.7, 0, 1)
    weights = weights_for(300, weighted)
    found = evaluate(truth, score, weights=weights, classes=["frost", "hail", "rain", "wind", "snow"])
    assert found.task == "multilabel"
    said = (score > 0.5).astype(int)
    given = {"sample_weight": weights}
    wanted = {
        "exact_match": metrics.accuracy_score(truth, said, **given),
        "hamming_loss": metrics.hamming_loss(truth, said, **given),
        "labels": 5,
        "rows": 300,
        "threshold": 0.5,
    }
    for average in ("micro", "macro"):
        for name in ("precision", "recall", "f1"):
            measure = getattr(metrics, f"{name}_score")
            wanted[f"{name}_{average}"] = measure(truth, said, average=average, zero_division=0, **given)
    # Of a label that no row has there is no area.
    some = slice(0, 4)
    wanted["roc_auc_macro"] = metrics.roc_auc_score(truth[:, some], score[:, some], average="macro", **given)
    wanted["average_precision_macro"] = metrics.average_precision_score(
        truth[:, some], score[:, some], average="macro", **given
    )
    compare(found.results, wanted)
    at = int(np.argmax((truth[:, 1] == 1) & (truth[:, 3] == 1) & (truth.sum(axis=1) == 2)))
    assert found.columns["truth"][at] == "hail + wind"
    assert found.columns["truth"][int(np.argmax(truth.sum(axis=1) == 0))] == "(none)"
    assert found.columns["score:wind"] == score[:, 3].tolist()
    labels = evaluate(truth, said, weights=weights).results
    assert labels["exact_match"] == found.results["exact_match"]
    assert "roc_auc_macro" not in labels


def test_a_guess_is_told_and_a_task_settles_it() -> None:
    table = [[1, 0], [0, 1], [1, 1]]
    found = evaluate(table, [[0.9, 0.2], [0.4, 0.6], [0.7, 0.8]])
    assert (found.task, found.results["exact_match"]) == ("multilabel", 1.0)
    assert found.guess is not None
    assert "task='ranking'" in found.guess
    for task in ("multilabel", "ranking"):
        assert evaluate(table, [[0.9, 0.2], [0.4, 0.6], [0.7, 0.8]], task=task).guess is None
    counts, guesses = [1.0, 2.0, 5.0], [1.0, 3.0, 5.0]
    found = evaluate(counts, guesses)
    assert found.task == "classification"
    assert "task='regression'" in str(found.guess)
    assert evaluate(counts, guesses, task="classification").guess is None
    assert evaluate(counts, guesses, task="regression").results["mae"] == pytest.approx(1 / 3)
    # Nothing is guessed of whole numbers given as such, nor of fractions.
    assert evaluate([1, 2, 5], [1, 3, 5]).guess is None
    assert evaluate([1.0, 2.5], [1.0, 3.0]).guess is None


class Tensor:
    """What a tensor with a gradient is like: no array before it is detached and in the machine's memory."""

    def __init__(self, values: Any, detached: bool = False, here: bool = False) -> None:
        self.values, self.detached, self.here = np.asarray(values), detached, here

    def detach(self) -> Tensor:
        return Tensor(self.values, True, self.here)

    def cpu(self) -> Tensor:
        return Tensor(self.values, self.detached, True)

    def __array__(self, dtype: Any = None, copy: Any = None) -> Any:
        if not self.detached or not self.here:
            raise RuntimeError("Can't call numpy() on a tensor that requires a gradient or lies elsewhere.")
        return self.values


def test_tensors_are_taken() -> None:
    plain = evaluate([0, 1, 1, 0], [0.2, 0.8, 0.4, 0.1], weights=[1, 2, 3, 4]).results
    assert evaluate(Tensor([0, 1, 1, 0]), Tensor([0.2, 0.8, 0.4, 0.1]), weights=Tensor([1, 2, 3, 4])).results == plain
    listed = [Tensor(value) for value in (0.2, 0.8, 0.4, 0.1)]
    assert evaluate([0, 1, 1, 0], listed, weights=[1, 2, 3, 4]).results == plain


def test_one_class_only() -> None:
    found = evaluate([1, 1, 1], [0.2, 0.9, 0.8]).results
    assert math.isnan(found["roc_auc"])
    compare(found, {"recall": 2 / 3, "precision": 1.0, "accuracy": 2 / 3, "average_precision": 1.0, "mcc": 0.0})
    assert evaluate(["a", "a"], ["a", "a"]).results["accuracy"] == 1.0
    constant = evaluate([2.5, 2.5], [2.5, 2.5]).results
    assert constant["r2"] == metrics.r2_score([2.5, 2.5], [2.5, 2.5])


def test_large_whole_targets_are_told_by_their_predictions() -> None:
    assert evaluate([10, 20, 35], [11.5, 19.0, 36.25]).task == "regression"
    assert evaluate([0, 1, 2], [0, 2, 2]).task == "classification"
    assert evaluate([0, 1, 2], [0, 3, 2]).results["accuracy"] == pytest.approx(2 / 3)
    assert evaluate([10, 20, 35], [11, 19, 36], task="regression").results["mae"] == 1.0


def test_a_threshold_of_ones_own() -> None:
    found = evaluate([0, 1, 1, 0], [0.2, 0.3, 0.9, 0.1], threshold=0.3)
    assert found.results["recall"] == 1.0
    assert found.results["threshold"] == 0.3
    assert evaluate([0, 1, 1, 0], [0.2, 0.3, 0.9, 0.1]).results["recall"] == 0.5


@pytest.mark.parametrize(
    ("given", "said"),
    [
        (([], []), "empty"),
        (([1, 0], [1]), "2 truths and 1 predictions"),
        (([0.5, math.nan], [1, 1]), "row 1"),
        (([0, 1, 2], [0.1, 0.2, 0.3], {"task": "classification"}), "here are 3"),
        (([0, 1, 2], [[0.1, 0.9]] * 3), "2 columns and there are 3"),
        (
            ([0, 1], [0, 1], {"task": "guess"}),
            "Unknown task .guess.. Choose one of: classification, multilabel, regression, ranking",
        ),
        (([0, 1], [0, 1], {"weights": [1]}), "1 weights"),
        (([0, 1], [0, 1], {"weights": [-1, 1]}), "zero or more"),
        (([0, 1], [0.5, 0.6], {"positive": 7}), "not one of two"),
        (([0, 1], [0, 1], {"classes": [0]}), "lack"),
        (([-1.0, 1.0], [0.1, 0.2], {"task": "ranking"}), "zero or more"),
        (([1, 0], [1, 2], {"groups": [1]}), "1 groups"),
        (([["a", "b"], ["c"]], [1, 2]), "list of numbers"),
        ((["a", "b"], [[1.0]] * 2, {"task": "regression"}), "texts"),
        (([[0, 1], [1, 0]], [1, 0]), "2 labels a row"),
        (([[0, 1], [1, 0]], [[1, 0]] * 2, {"classes": ["a"]}), "There are 2 labels"),
        (([0, 1], [0, 1], {"task": "multilabel"}), "table of zeros and ones"),
        (([[0, 1]] * 2, [0, 1], {"task": "regression"}), "one value a row"),
    ],
)
def test_what_does_not_fit(given: Any, said: str) -> None:
    *columns, options = given if isinstance(given[-1], dict) else (*given, {})
    with pytest.raises(InvalidInput, match=said):
        evaluate(*columns, **options)
