"""Plots of a classification: which classes are taken for which, and curves over all thresholds.

ROC: Fawcett, An introduction to ROC analysis, Pattern Recognition Letters 27 (2006). Precision and recall: Manning,
Raghavan, Schütze, Introduction to Information Retrieval (2008), chapter 8.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Any

import numpy as np

from kinetrum.core.base.errors import InvalidInput
from kinetrum.core.evaluation.classification import Classified, confusion
from kinetrum.core.evaluation.curves import average_precision, ranked_counts, roc_auc
from kinetrum.core.evaluation.inputs import Numbers, share
from kinetrum.core.plots.plot import ROWS_LIMIT, Plot, PlotView
from kinetrum.core.plots.thinning import PARTS, thin_extremes, thin_rising

CURVES_LIMIT = 50
Curve = dict[str, Numbers]


def confusion_plot(classified: Classified) -> Plot:
    """Return the confusion matrix: a row per pair of true and predicted class that occurs, with its weight."""
    table = confusion(classified)
    truth, predicted = np.nonzero(table)
    counts = table[truth, predicted]
    note = ""
    if len(counts) > ROWS_LIMIT:
        order = np.sort(np.argsort(-counts, kind="stable")[:ROWS_LIMIT])
        note = (
            f"The {ROWS_LIMIT:,} largest of {len(counts):,} cells; {float(counts.sum() - counts[order].sum()):g} "
            "rows lie in the others."
        )
        truth, predicted, counts = truth[order], predicted[order], counts[order]
    names = [str(label) for label in classified.classes]
    total = float(table.sum())
    numbers = {"rows": total, "classes": float(len(names)), "accuracy": float(np.trace(table)) / total}
    if len(names) <= CURVES_LIMIT:
        for at, name in enumerate(names):
            numbers[f"recall of {name}"] = share(float(table[at, at]), float(table[at].sum()))
            numbers[f"precision of {name}"] = share(float(table[at, at]), float(table[:, at].sum()))
    # Every class stands in the table, also one that nothing was taken for: its row or column is empty, not missing.
    for at in sorted(set(range(len(names))) - (set(truth.tolist()) & set(predicted.tolist()))):
        truth, predicted, counts = np.append(truth, at), np.append(predicted, at), np.append(counts, table[at, at])
    order = np.lexsort((predicted, truth))
    columns = {
        "truth": [names[at] for at in truth[order]],
        "prediction": [names[at] for at in predicted[order]],
        "count": counts[order].tolist(),
    }
    view = PlotView("matrix", "prediction", ("count",), "truth", "", "prediction", "truth")
    return Plot("confusion", columns, view, numbers, note)


def roc_plot(classified: Classified) -> Plot:
    """Return the ROC curve, from the strictest threshold (infinity) on; a curve per class where there are more."""

    def curve(positive: Numbers, scores: Numbers, weights: Numbers) -> tuple[Curve, dict[str, float]] | None:
        false, true, thresholds = ranked_counts(positive, scores, weights)
        if not true[-1] or not false[-1]:
            return None
        lines = {
            "false_positive_rate": np.append(0.0, false / false[-1]),
            "true_positive_rate": np.append(0.0, true / true[-1]),
            "threshold": np.append(math.inf, thresholds),
        }
        points = thin_rising(lines["false_positive_rate"], lines["true_positive_rate"])
        rates = lines["false_positive_rate"], lines["true_positive_rate"]
        numbers = {
            "area": roc_auc(positive, scores, weights),
            "true positive rate at false positive rate 0.05": float(rates[1][rates[0] <= 0.05].max()),
            "false positive rate at true positive rate 0.9": float(rates[0][rates[1] >= 0.9].min()),
        }
        return {name: line[points] for name, line in lines.items()}, numbers

    view = PlotView(
        "line",
        "false_positive_rate",
        ("true_positive_rate",),
        None,
        "",
        "false positive rate",
        "true positive rate",
        diagonal=True,
    )
    bound = f"Thinned: no point left out is further than 1/{PARTS:,} of an axis from the curve."
    return _curves("roc", classified, curve, view, "both that class and others", bound)


def precision_recall_plot(classified: Classified) -> Plot:
    """Return precision over recall, from the strictest threshold on (precision 1 at recall 0 by convention)."""

    def curve(positive: Numbers, scores: Numbers, weights: Numbers) -> tuple[Curve, dict[str, float]] | None:
        false, true, thresholds = ranked_counts(positive, scores, weights)
        if not true[-1]:
            return None
        flagged = true + false
        lines = {
            "recall": np.append(0.0, true / true[-1]),
            "precision": np.append(1.0, np.divide(true, flagged, out=np.zeros_like(true), where=flagged > 0)),
            "threshold": np.append(math.inf, thresholds),
        }
        points = thin_extremes([lines["precision"]])
        numbers = {
            "average_precision": average_precision(positive, scores, weights),
            "precision at recall 0.9": float(lines["precision"][lines["recall"] >= 0.9].max()),
        }
        return {name: line[points] for name, line in lines.items()}, numbers

    view = PlotView("steps", "recall", ("precision",), None, "", "recall", "precision")
    return _curves("precision_recall", classified, curve, view, "rows of that class", _EXTREMES)


def threshold_plot(classified: Classified) -> Plot:
    """Return what comes of every threshold: a row is taken as positive from that score on."""

    def curve(positive: Numbers, scores: Numbers, weights: Numbers) -> tuple[Curve, dict[str, float]] | None:
        false, true, thresholds = ranked_counts(positive, scores, weights)
        flagged, all_true, all_rows = true + false, float(true[-1]), float(true[-1] + false[-1])
        if not all_true:
            return None
        precision = np.divide(true, flagged, out=np.zeros_like(true), where=flagged > 0)
        lines = {
            "threshold": thresholds,
            "precision": precision,
            "recall": true / all_true,
            "f1": 2 * true / (flagged + all_true),
            "share_flagged": flagged / all_rows,
            "accuracy": (true + (float(false[-1]) - false)) / all_rows,
        }
        best = int(np.argmax(lines["f1"]))
        points = thin_extremes([lines["precision"], lines["recall"], lines["f1"]])
        numbers = {"best_f1": float(lines["f1"][best]), "threshold_of_best_f1": float(thresholds[best])}
        return {name: line[points] for name, line in lines.items()}, numbers

    view = PlotView("steps", "threshold", ("precision", "recall", "f1"), None, "", "threshold", "")
    return _curves("threshold", classified, curve, view, "rows of that class", _EXTREMES)


_EXTREMES = f"Thinned to the first, last, highest and lowest of each of {PARTS:,} stretches."


def _curves(
    kind: str,
    classified: Classified,
    curve: Callable[[Numbers, Numbers, Numbers], tuple[Curve, dict[str, float]] | None],
    view: PlotView,
    lack: str,
    bound: str,
) -> Plot:
    """Put one curve per class together: of two classes the positive one's alone, of more one against the rest each."""
    if classified.scores is None:
        raise InvalidInput(f"A plot of kind {kind} takes scores; these are labels.", field="y_score")
    weighed = classified.weights > 0
    binary = len(classified.classes) == 2
    wanted = [1] if binary else list(range(len(classified.classes)))[:CURVES_LIMIT]
    columns: dict[str, list[Any]] = {}
    numbers: dict[str, float] = {}
    notes = []
    if len(classified.classes) > CURVES_LIMIT:
        notes.append(f"The first {CURVES_LIMIT} of {len(classified.classes)} classes.")
    for at in wanted:
        name = str(classified.classes[at])
        made = curve(
            (classified.truth[weighed] == at).astype(float), classified.scores[weighed, at], classified.weights[weighed]
        )
        if made is None:
            notes.append(f"Nothing can be said of {name}: it takes {lack}.")
            continue
        lines, labels = made
        if len(next(iter(lines.values()))) < len(np.unique(classified.scores[weighed, at])) and bound not in notes:
            notes.append(bound)
        numbers |= {key if binary else f"{key} of {name}": value for key, value in labels.items()}
        if not binary:
            columns.setdefault("class", []).extend([name] * len(next(iter(lines.values()))))
        for key, line in lines.items():
            columns.setdefault(key, []).extend(line.tolist())
    if not columns:
        columns = {view.x: [], **{name: [] for name in view.y}}
    grouped = PlotView(**{**vars(view), "group": "class"}) if "class" in columns else view
    return Plot(kind, columns, grouped, numbers, " ".join(notes))
