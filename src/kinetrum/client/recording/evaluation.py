"""Evaluation from a training script: results of a run, its plots, and its predictions row by row as a table."""

from __future__ import annotations

import csv
import gzip
import io
import tempfile
import warnings
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from kinetrum.core.base.arrays import detached
from kinetrum.core.base.errors import InvalidInput
from kinetrum.core.base.values import JsonObject, check_key
from kinetrum.core.registry.evidence import predictions_name

if TYPE_CHECKING:
    from kinetrum.client.recording.run import Run


def evaluate_run(run: Run, y_true: object, y_score: object, on: str | None, rows: Any, **options: Any) -> JsonObject:
    """Compute results and plots, record them under `on`, keep predictions where rows are named; returns the results."""
    from kinetrum.core.evaluation import evaluate

    if on is not None:
        check_key(on, "on")
    evaluation = evaluate(y_true, y_score, **options)
    if evaluation.guess is not None:
        warnings.warn(evaluation.guess, stacklevel=3)
    prefix = f"{on}/" if on else ""
    results = {f"{prefix}{key}": value for key, value in evaluation.results.items()}
    if rows is not None and rows is not False:
        if not evaluation.columns:
            raise InvalidInput(
                "A table of queries has no rows to keep; give one row per item and groups.", field="rows"
            )
        count = len(evaluation.columns["truth"])
        keys = list(range(count)) if rows is True else [_plain(key) for key in rows]
        if len(keys) != count:
            raise InvalidInput(f"There are {count} rows and {len(keys)} row keys; one each is needed.", field="rows")
        if len(set(keys)) != count:
            raise InvalidInput("A row key stands twice; each row needs one of its own.", field="rows")
        _keep_rows(run, on, {"row": keys, **evaluation.columns})
    run.result(results)
    _keep_plots(run, y_true, y_score, on, evaluation.task, set(evaluation.results), options)
    return results


def _keep_plots(
    run: Run, y_true: object, y_score: object, on: str | None, task: str, results: set[str], options: dict[str, object]
) -> None:
    """Keep the plots that the task has: which of them can be told from the results that it gave."""
    if task in {"ranking", "multilabel"}:
        return
    wanted = ["predicted", "residuals"] if task == "regression" else ["confusion"]
    if results & {"roc_auc", "roc_auc_macro"}:
        wanted += ["roc", "precision_recall"]
    if "brier" in results:
        wanted += ["threshold", "calibration"]
    taken = ("weights",) if task == "regression" else ("classes", "positive", "threshold", "weights")
    options_taken = {name: options[name] for name in taken if options.get(name) is not None}
    for plot in wanted:
        getattr(run.plot, plot)(on, y_true, y_score, **options_taken)


def _plain(key: object) -> object:
    return detached(key).item() if hasattr(key, "item") else key


def is_predictions(name: str, experiment: str) -> bool:
    """Tell whether an artifact holds an experiment's predictions on some data."""
    return name.startswith(f"{experiment}-") and name.removesuffix("-artifact").endswith("-predictions")


def _keep_rows(run: Run, on: str | None, columns: dict[str, Sequence[object]]) -> None:
    """Record a table as gzipped CSV; equal tables give equal bytes, so that nothing is stored twice."""
    stem = predictions_name(run.experiment, on)
    text = io.StringIO()
    table = csv.writer(text)
    table.writerow(columns)
    table.writerows(zip(*columns.values(), strict=True))
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "predictions.csv.gz"
        path.write_bytes(gzip.compress(text.getvalue().encode(), mtime=0))
        run.generated(path, name=stem, kind="table", about={"key": "row"})
