"""One slow training that goes on in the background, so that something is always live."""

from __future__ import annotations

import sys
import time
from pathlib import Path

from sklearn.ensemble import GradientBoostingClassifier

import kinetrum
from kinetrum.demo.scenario import SLOW
from kinetrum.demo.training import FROST_GOALS, _save_onnx, _scores, _split, say_round
from kinetrum.demo.weather import read_nights

PAUSE_S = 5.0
CHECKPOINT_EVERY = 10


def _keep_checkpoint(run: kinetrum.Run, model: GradientBoostingClassifier, folder: Path, rounds: int) -> None:
    """Keep the model as it stands; of all that this run keeps, the one with the best recall stays."""
    path = folder / "out" / "slow" / "frost.onnx"
    _save_onnx(model, path)
    run.generated(path, name="frost-checkpoint", kind="model", step=rounds, keep="best:recall")


def main() -> None:
    """Train round by round, and begin anew when done: `python -m kinetrum.demo.slow FOLDER`."""
    folder = Path(sys.argv[1])
    train, held_out = _split(read_nights(folder / SLOW.data))
    params = SLOW.params
    weight = [params["weight"] if frost else 1.0 for frost in train.frost]
    while True:
        with kinetrum.begin("frost-alarm", name=SLOW.name, params=params, seed=SLOW.seed, goals=FROST_GOALS) as run:
            run.used(folder / SLOW.data, name="nights", role="train")
            model = GradientBoostingClassifier(
                n_estimators=1,
                learning_rate=params["rate"],
                max_depth=params["depth"],
                subsample=0.6,
                max_features=0.6,
                warm_start=True,
                random_state=SLOW.seed,
            )
            print(f"{len(train.frost):,} nights to train on, {len(held_out.frost):,} held out")  # noqa: T201
            for rounds in run.progress(range(1, params["rounds"] + 1), desc="rounds", disable=False, ncols=70):
                model.set_params(n_estimators=rounds)
                model.fit(train.features, train.frost, sample_weight=weight)
                chance = model.predict_proba(held_out.features)[:, 1]
                scores = _scores(held_out, chance, params["threshold"])
                run.measure(scores, step=rounds)
                say_round(rounds, scores)
                if rounds % CHECKPOINT_EVERY == 0:
                    _keep_checkpoint(run, model, folder, rounds)
                # Quick at first, so that there is a curve to look at; then at the pace of a long training.
                time.sleep(0.05 if rounds < 40 else PAUSE_S)


if __name__ == "__main__":
    main()
