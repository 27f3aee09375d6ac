"""Runs that are large in one way or another: thousands of metrics, hundreds of thousands of points, huge steps."""

from __future__ import annotations

import math

import numpy as np

import kinetrum
from kinetrum.client.spool.draining import drain
from kinetrum.places import spool_folder
from tests.support.programs import wait_for
from tests.support.world import Project


def recorded(reference: str) -> kinetrum.RecordedRun:
    found = kinetrum.open(reference)
    assert isinstance(found, kinetrum.RecordedRun)
    return found


def test_two_thousand_metrics(recording: Project) -> None:
    names = [f"layer-{number}/weight" for number in range(2_000)]
    with kinetrum.begin("wide", goals={"layer-1999/weight": "lower"}) as run:
        for step in range(3):
            run.measure({name: at + step for at, name in enumerate(names)}, step=step)
    drain(spool_folder(), 60)
    wait_for(lambda: len(recorded("wide/1").values) == 2_000, 60)
    found = recorded("wide/1")
    assert found.values["layer-1999/weight"] == 1999
    assert found.metrics["layer-77/weight"].points().value.tolist() == [77.0, 78.0, 79.0]
    table = kinetrum.runs("layer-123/weight = 125", experiment="wide")
    assert len(table) == 1
    assert len(table[0].values) == 2_000
    (row,) = recording.service("viewer").get(recording.path("experiments", "wide", "runs"), key="layer-1500/weight")[
        "rows"
    ]
    assert row["complete"] is False
    assert len(row["values"]) == 200
    assert {"layer-1999/weight", "layer-1500/weight"} <= set(row["metrics"])


def test_long_sparse_and_huge(recording: Project) -> None:
    count = 300_000
    with kinetrum.begin("long") as run:
        for step in range(count):
            run.measure(loss=step)
        for step in (10**12, -5, 2**62, 10**12, 0):
            run.measure(sparse=step / 3, step=step)
        for value in (math.nan, math.inf, -math.inf, 5e-324, 1.7976931348623157e308):
            run.measure(wild=value)
    drain(spool_folder(), 60)
    # Points may have arrived before they were first added up: then there is no count yet.
    wait_for(lambda: getattr(recorded("long/1").metrics["loss"], "count", None) == count, 60)
    found = recorded("long/1")
    loss = found.metrics["loss"].points()
    assert np.array_equal(loss.step, np.arange(count))
    assert np.array_equal(loss.value, np.arange(count, dtype=float))
    assert (np.diff(loss.time.astype(np.int64)) > 0).all()
    assert found.metrics["sparse"].points().step.tolist() == [-5, 0, 10**12, 10**12, 2**62]
    wild = found.metrics["wild"].points().value
    assert math.isnan(wild[0])
    assert wild[1:].tolist() == [math.inf, -math.inf, 5e-324, 1.7976931348623157e308]
    curve = recording.service("viewer").get(recording.path("curves"), metric="loss", run="long/1", width=100)["curves"][
        0
    ]
    assert len(curve["values"]) <= 400
    assert (curve["steps"][0], curve["steps"][-1]) == (0, count - 1)
