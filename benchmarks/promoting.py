"""A click on Promote after the page was read, against the first judging of the evidence it goes by."""

from __future__ import annotations

import tempfile
import time
from pathlib import Path

import numpy as np

import kinetrum
from benchmarks.measuring import Ratio, ratio
from kinetrum.client.registry.models import ModelVersion
from kinetrum.client.transport.http import Service

ROWS, VERSIONS = 50_000, 8
GATES = (
    '[[production.better]]\nvalue = "accuracy"\non = "holdout"\n\n[[production.better]]\nvalue = "f1"\non = "holdout"\n'
)


def promoting(url: str, token: str) -> list[Ratio]:
    """Register versions that are each better on 50,000 rows; read the review of each, then promote it."""
    service = Service(url, token, timeout_s=60)
    service.call("POST", "/projects", json={"name": "promotes"})
    folder = Path(tempfile.mkdtemp(prefix="kt-"))
    versions = [_registered(folder, 0.3 - 0.02 * at) for at in range(VERSIONS)]
    kinetrum.model("frost-alarm", project="promotes").set_gates(GATES)
    for version in versions:
        version.approve()
    versions[0].promote("production")
    first, click = [], []
    for version in versions[1:]:
        started = time.perf_counter()
        version.beside("production")
        read = time.perf_counter()
        version.promote("production")
        first.append(read - started)
        click.append(time.perf_counter() - read)
    return [
        ratio(
            f"promoting after the review / the review, {ROWS:,} rows",
            "under a second",
            click,
            first,
            "click",
            "review",
            1e3,
            "ms",
        )
    ]


def _registered(folder: Path, wrong: float) -> ModelVersion:
    """Register a version that is wrong in a share of the rows, with its predictions row by row."""
    (folder / "holdout.csv").write_text("row\n")
    (folder / "net.bin").write_bytes(f"net {wrong}".encode())
    chance = np.random.default_rng(7)
    truth = chance.random(ROWS) < 0.3
    scores = np.where(chance.random(ROWS) < wrong, ~truth, truth).astype(float)
    with kinetrum.begin("frost-alarm", project="promotes") as run:
        run.used(folder / "holdout.csv", name="holdout", role="holdout")
        run.evaluate(truth.astype(int), scores, on="holdout", rows=True)
        run.generated(folder / "net.bin", name="frost-net", kind="model")
    return run.register("frost-net", as_model="frost-alarm")
