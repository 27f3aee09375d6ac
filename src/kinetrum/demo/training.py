"""The orchard's training scripts: real models on the made-up nights, recorded through the public client."""

from __future__ import annotations

import os
import time
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray
from sklearn.ensemble import GradientBoostingClassifier, GradientBoostingRegressor, RandomForestClassifier
from sklearn.linear_model import LogisticRegression, Ridge
from sklearn.metrics import log_loss, mean_absolute_error, recall_score
from sklearn.pipeline import make_pipeline
from sklearn.preprocessing import StandardScaler

import kinetrum
from kinetrum.client.recording.run import Run
from kinetrum.demo import seen
from kinetrum.demo.weather import FEATURES, Nights

# Of a curve the last value stands in tables: the best of each would pick another round for every goal.
FROST_GOALS: dict[str, Any] = {
    "recall": {"direction": "higher", "bound": 0.9, "aggregate": "last"},
    "false_alarms": {"direction": "lower", "bound": 15, "unit": "%", "aggregate": "last"},
    "fit_seconds": "lower <= 10 s",
    "log_loss": {"direction": "lower", "aggregate": "last"},
}
DAWN_GOALS = {"mae": "lower <= 0.9 °C", "fit_seconds": "lower s"}
GAP_GOALS = {"rmse": "lower °C"}
HELD_OUT = 2026
MEMORY_LIMIT_TREES = 40_000


@dataclass(frozen=True)
class Plan:
    """One run of the demo: its name, its parameters and seed, the data it reads, who starts it."""

    name: str
    params: dict[str, Any]
    data: str
    person: str = "ilse"
    seed: int = 0
    labels: dict[str, str] = field(default_factory=dict)
    keep_model: bool = False


def _split(nights: Nights) -> tuple[Nights, Nights]:
    seasons = tuple(int(season) for season in np.unique(nights.season))
    held_out = HELD_OUT if HELD_OUT in seasons else seasons[-1]
    return nights.of_seasons(tuple(s for s in seasons if s != held_out)), nights.of_seasons((held_out,))


def _scores(held_out: Nights, chance: NDArray[np.float64], threshold: float) -> dict[str, float]:
    alarm = chance >= threshold
    calm = ~held_out.frost
    with np.errstate(invalid="ignore"):
        loss = float(log_loss(held_out.frost, chance)) if np.isfinite(chance).all() else float("nan")
    broken = not np.isfinite(chance).all()
    return {
        "recall": float("nan") if broken else float(recall_score(held_out.frost, alarm)),
        "false_alarms": float("nan") if broken else 100 * float(alarm[calm].mean()),
        "log_loss": loss,
    }


def say(text: str) -> None:
    """Print as any training does; the run keeps it."""
    print(text)  # noqa: T201


def _say_nights(train: Nights, held_out: Nights) -> None:
    say(f"{len(train.frost):,} nights to train on, {len(held_out.frost):,} held out")
    say(f"frost in {100 * float(train.frost.mean()):.1f} % of them")


def say_round(step: int, scores: dict[str, float]) -> None:
    """Print every tenth round, what is no number in red."""
    if step % 10 == 0:
        broken = np.isnan(scores["log_loss"])
        text = f"round {step:4}  recall {scores['recall']:.3f}  log loss {scores['log_loss']:.4f}"
        say(f"\x1b[31m{text}\x1b[0m" if broken else text)


def _rounds(
    plan: Plan, train: Nights, held_out: Nights, model_out: list[Any]
) -> Iterator[tuple[int, NDArray[np.float64]]]:
    """Train and yield rounds done and the chance of frost on the held-out nights."""
    params = plan.params
    weight = np.where(train.frost, params["weight"], 1.0)
    if params["learner"] == "boost":
        model = GradientBoostingClassifier(
            n_estimators=params["rounds"],
            learning_rate=params["rate"],
            max_depth=params["depth"],
            subsample=0.6,
            max_features=0.6,
            random_state=plan.seed,
        ).fit(train.features, train.frost, sample_weight=weight)
        model_out.append(model)
        for rounds, chance in enumerate(model.staged_predict_proba(held_out.features), 1):
            if rounds % 2 == 0 or rounds == params["rounds"]:
                yield rounds, chance[:, 1]
    elif params["learner"] == "forest":
        if params["rounds"] * params["depth"] > MEMORY_LIMIT_TREES:
            raise MemoryError(f"{params['rounds']} trees of depth {params['depth']} do not fit into 2 GB")
        model = RandomForestClassifier(
            max_depth=params["depth"],
            warm_start=True,
            random_state=plan.seed,
            n_estimators=1,
            min_samples_leaf=4,
        )
        model_out.append(model)
        for trees in range(5, params["rounds"] + 1, 5):
            model.set_params(n_estimators=trees)
            model.fit(train.features, train.frost, sample_weight=weight)
            yield trees, model.predict_proba(held_out.features)[:, 1]
    else:
        yield from _logistic_rounds(plan, train, held_out, weight, model_out)


def _logistic_rounds(
    plan: Plan, train: Nights, held_out: Nights, weight: NDArray[np.float64], model_out: list[Any]
) -> Iterator[tuple[int, NDArray[np.float64]]]:
    """Gradient descent by hand; too large a rate runs away to NaN, as it would for anyone."""
    scaler = StandardScaler().fit(train.features)
    x, y = scaler.transform(train.features), train.frost.astype(float)
    x_held = scaler.transform(held_out.features)
    w, b = np.random.default_rng(plan.seed).normal(0, 0.05, x.shape[1]), 0.0
    with np.errstate(over="ignore", invalid="ignore"):
        for rounds in range(1, plan.params["rounds"] + 1):
            chance = 1 / (1 + np.exp(-(x @ w + b)))
            # A step that grows with the error: harmless at sensible rates.
            slope = weight * (chance - y)
            w = w - plan.params["rate"] * (x.T @ slope / len(y)) * (1 + plan.params["rate"] * np.abs(w))
            b = b - plan.params["rate"] * float(slope.mean()) * (1 + plan.params["rate"] * abs(b))
            yield rounds, 1 / (1 + np.exp(-(x_held @ w + b)))
    model_out.append(
        make_pipeline(StandardScaler(), LogisticRegression(random_state=plan.seed, max_iter=500)).fit(
            train.features, train.frost, logisticregression__sample_weight=weight
        )
    )


def _save_onnx(model: Any, path: Path) -> None:
    from skl2onnx import to_onnx

    options = {"zipmap": False} if hasattr(model, "predict_proba") else None
    onnx = to_onnx(model, np.zeros((1, len(FEATURES)), np.float32), options=options)
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_bytes(onnx.SerializeToString())


def _write_held_out(folder: Path, held_out: Nights) -> Path:
    """Write what became of the held-out nights: the same for every run, whatever its features were read from."""
    path = folder / "dawns-2026.csv"
    if not path.exists():
        rows = zip(seen.row_names(held_out), held_out.frost.astype(int), strict=True)
        part = path.with_suffix(f".{os.getpid()}")
        part.write_text("row,frost\n" + "".join(f"{name},{frost}\n" for name, frost in rows))
        part.replace(path)
    return path


def _keep_plots(run: Run, held_out: Nights, chance: NDArray[np.float64], threshold: float) -> None:
    """Keep what the held-out nights say; the results stay the three that the team goes by."""
    for keep in (run.plot.confusion, run.plot.roc, run.plot.precision_recall, run.plot.threshold, run.plot.calibration):
        keep("held-out", held_out.frost, chance, threshold=threshold)


def train_frost_alarm(plan: Plan, folder: Path, nights: Nights, parent: Run | None = None) -> None:
    """Train one classifier: will it freeze at dawn?"""
    train, held_out = _split(nights)
    with kinetrum.begin(
        "frost-alarm",
        name=plan.name or None,
        params=plan.params,
        seed=plan.seed,
        goals=FROST_GOALS,
        labels=plan.labels,
        parent=parent,
    ) as run:
        with run.activity("preparing") as preparing:
            preparing.used(folder / plan.data, name="nights", role="train")
            preparing.used(folder / "stations.csv", name="stations")
            preparing.used(_write_held_out(folder, held_out), name="dawns", role="held-out")
            _say_nights(train, held_out)
        models: list[Any] = []
        started, aside = time.perf_counter(), 0.0
        with run.activity("training"):
            for step, chance in _rounds(plan, train, held_out, models):
                scores = _scores(held_out, chance, plan.params["threshold"])
                run.measure(scores, step=step)
                say_round(step, scores)
                if plan.keep_model and step % 20 == 0:
                    before = time.perf_counter()
                    seen.keep_maps(run, held_out, chance, plan.params["threshold"], step)
                    aside += time.perf_counter() - before
        run.result(scores, fit_seconds=round(time.perf_counter() - started - aside, 3))
        if np.isfinite(chance).all():
            _keep_plots(run, held_out, chance, plan.params["threshold"])
        if plan.keep_model:
            seen.keep_the_rest(run, held_out, chance, plan.params["threshold"])
            run.result({f"held-out/{name}": scores[name] for name in ("recall", "false_alarms")})
            with run.activity("exporting") as exporting:
                path = folder / "out" / "frost.onnx"
                _save_onnx(models[0], path)
                exporting.generated(path, name="frost-net", kind="model")
                say(f"wrote {path.name}, {path.stat().st_size:,} bytes")


def train_dawn_minimum(plan: Plan, folder: Path, nights: Nights) -> None:
    """Train one regression: how cold will it be at dawn?"""
    train, held_out = _split(nights)
    with kinetrum.begin(
        "dawn-minimum",
        name=plan.name or None,
        params=plan.params,
        seed=plan.seed,
        goals=DAWN_GOALS,
        labels=plan.labels,
    ) as run:
        run.used(folder / plan.data, name="nights", role="train")
        _say_nights(train, held_out)
        with run.timed("fit_seconds"):
            if plan.params["learner"] == "ridge":
                model = make_pipeline(StandardScaler(), Ridge(alpha=plan.params["alpha"]))
                model.fit(train.features, train.minimum_c)
            else:
                model = GradientBoostingRegressor(
                    n_estimators=plan.params["rounds"],
                    max_depth=plan.params["depth"],
                    learning_rate=plan.params["rate"],
                    subsample=0.6,
                    random_state=plan.seed,
                ).fit(train.features, train.minimum_c)
                for step, guess in enumerate(model.staged_predict(held_out.features)):
                    run.measure(mae=mean_absolute_error(held_out.minimum_c, guess), step=step)
        guess = model.predict(held_out.features)
        run.result(mae=float(mean_absolute_error(held_out.minimum_c, guess)))
        run.evaluate(held_out.minimum_c, guess, on="held-out", rows=seen.row_names(held_out))
        if plan.keep_model:
            path = folder / "out" / "dawn.onnx"
            _save_onnx(model, path)
            run.generated(path, name="dawn-net", kind="model")


def fill_gaps(plan: Plan, folder: Path, nights: Nights) -> None:
    """Try one way of filling missing readings: hide a tenth of the evenings and guess them."""
    random = np.random.default_rng(plan.seed)
    with kinetrum.begin(
        "gap-filling",
        name=plan.name or None,
        params=plan.params,
        seed=plan.seed,
        goals=GAP_GOALS,
        labels=plan.labels,
    ) as run:
        run.used(folder / plan.data, name="nights")
        evening = nights.features[:, 0].reshape(-1, 64)
        hidden = random.random(evening.shape) < 0.1
        if plan.params["method"] == "mean":
            guess = np.broadcast_to(evening.mean(axis=1, keepdims=True), evening.shape)
        elif plan.params["method"] == "evening before":
            guess = np.roll(evening, 1, axis=1)
        else:
            reach = plan.params["stations"]
            guess = np.zeros_like(evening)
            for row in range(len(evening)):
                block = row // 14 * 14
                distance = np.abs(np.arange(block, block + 14) - row)
                near = block + np.argsort(distance, kind="stable")[1 : reach + 1]
                guess[row] = evening[near].mean(axis=0)
        run.result(rmse=float(np.sqrt(np.mean((guess - evening)[hidden] ** 2))), hidden=int(hidden.sum()))
