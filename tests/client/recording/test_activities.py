"""Activities: pieces of work within a run, each with its own metrics, results, inputs, outputs and end."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest

import kinetrum
from kinetrum.core.base.errors import Conflict, InvalidInput
from tests.client.recording.test_run import alone, measured, records
from tests.support.world import Project

__all__ = ["alone"]


def activities(root: Path) -> list[dict[str, Any]]:
    return [record for record in records(root) if record["op"] == "activity"]


def test_what_is_recorded_in_one_carries_its_name(alone: Path) -> None:
    run = kinetrum.begin("frost-alarm")
    with run.activity("training") as training:
        training.measure(loss=0.5)
        training.measure({"loss": 0.25}, step=7)
        training.result(recall=0.9, verdict="fine")
        with training.timed("fit_seconds"):
            pass
    run.measure(loss=1.0)
    assert [(step, set(values)) for step, values in measured(alone)] == [
        (0, {"training/loss"}),
        (7, {"training/loss"}),
        (0, {"loss"}),
    ]
    results = {
        one["key"]: one["value"] for record in records(alone) if record["op"] == "results" for one in record["results"]
    }
    assert (results["training/recall"], results["training/verdict"]) == (0.9, "fine")
    assert 0 <= results["training/fit_seconds"] < 5


def test_the_block_ends_it_and_says_whether_it_failed(alone: Path) -> None:
    run = kinetrum.begin("frost-alarm")
    with run.activity("preparing"):
        pass
    with pytest.raises(ZeroDivisionError), run.activity("training"):
        raise ZeroDivisionError
    told = [(one["name"], one["ended_at"] is not None, one["failed"]) for one in activities(alone)]
    assert told == [
        ("preparing", False, False),
        ("preparing", True, False),
        ("training", False, False),
        ("training", True, True),
    ]
    # Both words of one are of the same, and its beginning does not move.
    first, second = activities(alone)[:2]
    assert (first["id"], first["started_at"]) == (second["id"], second["started_at"])
    assert second["ended_at"] >= second["started_at"]


def test_what_has_ended_takes_nothing_more(alone: Path) -> None:
    run = kinetrum.begin("frost-alarm")
    training = run.activity("training")
    training.end()
    training.end(failed=True)
    assert [one["failed"] for one in activities(alone)] == [False, False]
    for act in (lambda: training.measure(loss=1), lambda: training.result(recall=1)):
        with pytest.raises(Conflict, match="The activity training has ended; begin another"):
            act()


@pytest.mark.parametrize("name", ["", "Training", "two words", "a/b"])
def test_names_are_those_of_things(alone: Path, name: str) -> None:
    run = kinetrum.begin("frost-alarm")
    with pytest.raises(InvalidInput, match="activity"):
        run.activity(name)
    assert activities(alone) == []


def test_inputs_and_outputs_are_told_with_the_activity_that_had_them(recording: Project, tmp_path: Path) -> None:
    (tmp_path / "nights.csv").write_text("a\n1\n")
    (tmp_path / "net.bin").write_bytes(b"net")
    with kinetrum.begin("frost-alarm") as run:
        with run.activity("preparing") as preparing:
            preparing.used(tmp_path / "nights.csv", name="nights", role="train")
        with run.activity("training") as training:
            training.generated(tmp_path / "net.bin", name="frost-net", kind="model")
        run.used(tmp_path / "nights.csv", name="nights", role="check")
    run.flush()
    found = kinetrum.open("frost-alarm/1")
    assert isinstance(found, kinetrum.RecordedRun)
    whole = found._whole()
    assert {(link["role"], link["activity"]) for link in whole["used"]} == {("train", "preparing"), ("check", None)}
    assert [(link["name"], link["activity"]) for link in whole["generated"]] == [("frost-net", "training")]
    assert [one["name"] for one in found.activities] == ["preparing", "training"]
    assert all(one["ended_at"] for one in found.activities)


def test_two_at_once_in_one_run_keep_apart(recording: Project) -> None:
    with kinetrum.begin("frost-alarm") as run:
        one, two = run.activity("fold-1"), run.activity("fold-2")
        for step in range(3):
            one.measure(loss=step, step=step)
            two.measure(loss=-step, step=step)
        two.end(failed=True)
        one.end()
    run.flush()
    found = kinetrum.open("frost-alarm/1")
    assert isinstance(found, kinetrum.RecordedRun)
    assert found.metrics["fold-1/loss"].points().value.tolist() == [0.0, 1.0, 2.0]
    assert found.metrics["fold-2/loss"].points().value.tolist() == [0.0, -1.0, -2.0]
    assert {one["name"]: one["failed"] for one in found.activities} == {"fold-1": False, "fold-2": True}
