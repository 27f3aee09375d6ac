"""What a run accepts and refuses, in the caller's line and without any service."""

from __future__ import annotations

import math
import os
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
import pytest

import kinetrum
from kinetrum.client.sender.delivery import Waiting, groups_of
from kinetrum.client.spool import spool
from kinetrum.client.spool.layout import JSON, POINTS
from kinetrum.client.spool.segments import read_records
from kinetrum.core.base.errors import Conflict, InvalidInput, NotFound


@pytest.fixture
def alone(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Path]:
    """A spool that nobody delivers."""
    for key, value in {
        "KINETRUM_SPOOL": str(tmp_path / "spool"),
        "KINETRUM_SENDER": "off",
        "KINETRUM_URL": "http://127.0.0.1:1",
    }.items():
        monkeypatch.setenv(key, value)
    monkeypatch.setattr(spool, "_writer", None)
    yield tmp_path / "spool"


def records(root: Path) -> list[dict[str, Any]]:
    """Everything in the spool, points spelled out by their shape."""
    found: list[dict[str, Any]] = []
    for path in sorted(root.glob("writers/*/*.seg")):
        shapes: dict[int, list[str]] = {}
        for record in read_records(path, 0):
            if record.kind == JSON:
                if record.data["op"] == "shape":
                    shapes[record.data["shape"]] = record.data["keys"]
                else:
                    found.append(record.data)
            elif record.kind == POINTS:
                (group,) = groups_of(Waiting([(tuple(shapes[record.shape]), record)]))
                for at, step in enumerate(group.steps):
                    values = dict(zip(group.keys, group.values[:, at].tolist(), strict=True))
                    found.append({"op": "point", "step": int(step), "time": int(group.times[at]), **values})
    return found


def measured(root: Path) -> list[tuple[int, dict[str, float]]]:
    return [
        (record["step"], {key: value for key, value in record.items() if key not in {"op", "step", "time"}})
        for record in records(root)
        if record["op"] == "point"
    ]


def test_begin_writes_everything_at_once(alone: Path) -> None:
    run = kinetrum.begin(
        "frost-alarm",
        project="orchard",
        name="first",
        params={"a": {"b": 1}, "x": math.nan},
        seed=7,
        labels={"purpose": "test"},
        goals={"recall": "higher >= 0.9"},
    )
    (begun,) = records(alone)
    assert begun["op"] == "begin"
    assert (begun["project"], begun["experiment"], begun["name"]) == ("orchard", "frost-alarm", "first")
    assert begun["params"] == {"a.b": 1, "x": {"float": "NaN"}, "seed": 7}
    assert begun["goals"]["recall"] == {"direction": "higher", "unit": None, "bound": 0.9, "aggregate": "best"}
    assert set(begun["about"]) == {"command", "user", "process"}
    assert len(run.id) == 36
    run.end()


def test_steps_go_on_after_the_last_one_of_each_metric(alone: Path) -> None:
    run = kinetrum.begin("e")
    run.measure(loss=3.0)
    run.measure(loss=2.0, recall=0.1)
    run.measure(loss=1.0, step=10)
    run.measure(loss=0.5)
    run.measure(recall=0.2)
    run.end()
    assert measured(alone) == [
        (0, {"loss": 3.0}),
        (1, {"loss": 2.0}),
        (0, {"recall": 0.1}),
        (10, {"loss": 1.0}),
        (11, {"loss": 0.5}),
        (1, {"recall": 0.2}),
    ]


def test_a_dictionary_and_keywords(alone: Path) -> None:
    run = kinetrum.begin("e")
    run.measure({"val/loss": 0.4}, step=3, loss=1)
    run.end()
    assert measured(alone) == [(3, {"val/loss": 0.4, "loss": 1.0})]


def test_a_live_run_knows_what_was_recorded_here(alone: Path) -> None:
    run = kinetrum.begin("e", name="deep")
    assert (run.name, run.status, run.results, run.metrics) == ("deep", "running", {}, {})
    run.measure(loss=3, recall=0.5)
    run.measure({"loss": np.float32(0.25)})
    run.measure(recall=math.nan, f1=1)
    with pytest.raises(InvalidInput):
        run.measure(loss="bad")
    run.result(best="forest", score=math.inf)
    run.result(score=0.5)
    assert math.isnan(run.metrics.pop("recall"))
    assert {key: value for key, value in run.metrics.items() if key != "recall"} == {"loss": 0.25, "f1": 1.0}
    assert run.results == {"best": "forest", "score": 0.5}
    run.fail("no more data")
    assert run.status == "failed"
    assert kinetrum.begin("e").name is None


def test_what_was_measured_last_is_known_in_later_segments_too(alone: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(spool, "_segment_size", 4096)
    run = kinetrum.begin("e")
    run.measure(early=7)
    for step in range(300):
        run.measure(loss=step)
    assert run.metrics == {"early": 7.0, "loss": 299.0}
    run.end()


@pytest.mark.parametrize(
    ("given", "right"),
    [
        (("loss", 0.5), "measure(loss=0.5)"),
        (("loss", 5), "measure(loss=5)"),
        (("val/loss", 0.5), "measure({'val/loss': 0.5})"),
        ((0.5,), "measure(loss=0.5)"),
        (("loss",), "measure(loss=0.3)"),
        (([0.5],), "measure(loss=0.3)"),
    ],
)
def test_a_measure_without_a_name_is_answered_with_the_right_call(
    alone: Path, given: tuple[Any, ...], right: str
) -> None:
    run = kinetrum.begin("e")
    with pytest.raises(InvalidInput) as refused:
        run.measure(*given)
    assert str(refused.value) == f"measure() takes metrics by name: {right}."
    run.measure({"loss": 0.5}, 7)
    for _ in run.progress([1]):
        with pytest.raises(InvalidInput, match=r"measure\(\) takes metrics by name"):
            run.measure(*given)
    run.end()


@pytest.mark.parametrize(
    "value", [1, 0.5, np.float32(0.5), np.int8(3), np.array(2.5), math.nan, math.inf, 10**12, np.array([1.5])[0]]
)
def test_numbers_of_every_kind(alone: Path, value: Any) -> None:
    run = kinetrum.begin("e")
    run.measure(loss=value, other=1.0)
    run.end()
    ((_, found),) = measured(alone)
    assert found["loss"] == float(value) or math.isnan(value)


@pytest.mark.parametrize("value", ["0.5", None, [1.0], np.zeros(2), {}, object(), b"1", 1j, 10**400])
def test_what_is_no_number_is_refused_and_leaves_nothing(alone: Path, value: Any) -> None:
    run = kinetrum.begin("e")
    run.measure(loss=1.0, recall=2.0)
    with pytest.raises(InvalidInput, match="'recall'"):
        run.measure(loss=1.0, recall=value)
    run.measure(loss=5.0, recall=6.0)
    run.end()
    assert measured(alone) == [(0, {"loss": 1.0, "recall": 2.0}), (1, {"loss": 5.0, "recall": 6.0})]


@pytest.mark.parametrize("step", [1.5, "1", True, 2**63, math.nan, [1]])
def test_wrong_steps(alone: Path, step: Any) -> None:
    run = kinetrum.begin("e")
    with pytest.raises(InvalidInput, match="step"):
        run.measure(loss=1.0, step=step)
    run.measure(loss=1.0, step=5.0)  # type: ignore[arg-type]
    run.measure(loss=1.0, step=np.int64(6))  # type: ignore[arg-type]
    run.end()
    assert [step for step, _ in measured(alone)] == [5, 6]


@pytest.mark.parametrize("key", ["", " a", "a'b", "x" * 251])
def test_wrong_metric_names(alone: Path, key: str) -> None:
    run = kinetrum.begin("e")
    with pytest.raises(InvalidInput):
        run.measure({key: 1.0})
    with pytest.raises(InvalidInput, match="without a metric"):
        run.measure()
    run.end()
    assert measured(alone) == []


def test_progress_gives_steps_inside_its_loop_only(alone: Path) -> None:
    run = kinetrum.begin("e")
    for epoch in run.progress(range(10), disable=True):
        run.measure(loss=epoch)
        run.measure(recall=epoch, step=77)
        if epoch == 2:
            break
    run.measure(loss=9)
    run.end()
    assert measured(alone) == [
        (0, {"loss": 0}),
        (77, {"recall": 0}),
        (1, {"loss": 1}),
        (77, {"recall": 1}),
        (2, {"loss": 2}),
        (77, {"recall": 2}),
        (3, {"loss": 9}),
    ]


def test_times_never_go_back(alone: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    run = kinetrum.begin("e")
    run.measure(loss=1)
    monkeypatch.setattr(spool.time, "time_ns", lambda: 5_000_000)
    run.measure(loss=2)
    run.end()
    times = [record["time"] for record in records(alone) if record["op"] == "point"]
    assert times[0] <= times[1]


def test_parameters_are_set_once(alone: Path) -> None:
    run = kinetrum.begin("e", params={"depth": 5, "x": math.nan})
    run.set(depth=5.0, x=math.nan, new="a")
    run.set_params({"nested": {"deep": True}}, alpha=3)
    for wrong in ({"depth": 6}, {"depth": True}, {"new": "b"}):
        with pytest.raises(Conflict, match="already"):
            run.set(**wrong)
    with pytest.raises(InvalidInput):
        run.set(fn="x" * 20_000)
    run.end()
    later = [record["params"] for record in records(alone) if record["op"] == "params"]
    assert later == [{"new": "a"}, {"nested.deep": True, "alpha": 3}]
    assert run.params["depth"] == 5


@pytest.mark.parametrize(
    "arguments",
    [
        {"experiment": "Frost"},
        {"experiment": ""},
        {"experiment": "e", "params": [1]},
        {"experiment": "e", "params": {"a": ["x" * 20_000]}},
        {"experiment": "e", "name": " "},
        {"experiment": "e", "goals": {"r": "up"}},
        {"experiment": "e", "labels": {"a": 1}},
        {"experiment": "e", "parent": "x"},
        {"experiment": "e", "params": {"seed": 1}, "seed": 2},
        {"experiment": "e", "url": "ftp://x"},
    ],
)
def test_wrong_beginnings(alone: Path, arguments: dict[str, Any]) -> None:
    if arguments == {"experiment": ""}:
        arguments = {"experiment": " "}
    with pytest.raises(InvalidInput):
        kinetrum.begin(**arguments)
    assert [record["op"] for record in records(alone)] == []


def test_the_context_manager_ends_runs(alone: Path) -> None:
    with kinetrum.begin("e"):
        pass
    with pytest.raises(ZeroDivisionError), kinetrum.begin("e"):
        _ = 1 / 0
    with pytest.raises(KeyboardInterrupt), kinetrum.begin("e"):
        raise KeyboardInterrupt
    with pytest.raises(SystemExit), kinetrum.begin("e"):
        raise SystemExit(0)
    run = kinetrum.begin("e")
    run.fail("no convergence")
    run.end()
    endings = [(record["status"], record["reason"]) for record in records(alone) if record["op"] == "end"]
    assert [status for status, _ in endings] == ["finished", "failed", "stopped", "finished", "failed"]
    assert "ZeroDivisionError" in endings[1][1]
    assert endings[4][1] == "no convergence"


def test_nothing_is_recorded_after_the_end(alone: Path) -> None:
    run = kinetrum.begin("e")
    run.end()
    for act in (lambda: run.measure(a=1), lambda: run.result(a=1), lambda: run.set(a=1), lambda: run.used(__file__)):
        with pytest.raises(Conflict, match="finished"):
            act()


def test_a_run_that_nothing_refers_to_ends_itself(alone: Path) -> None:
    run = kinetrum.begin("e")
    run.measure(loss=1)
    del run
    (ending,) = [record for record in records(alone) if record["op"] == "end"]
    assert (ending["status"], ending["reason"]) == ("stopped", "nothing refers to it any more")


def test_results(alone: Path) -> None:
    run = kinetrum.begin("e")
    run.result({"val/recall": 0.9}, verdict="overfits", flag=True)
    with run.timed("fit_seconds"):
        pass
    with pytest.raises(InvalidInput):
        run.result()
    with pytest.raises(InvalidInput):
        run.result(x=object())
    run.end()
    found = [
        {item["key"]: item["value"] for item in record["results"]}
        for record in records(alone)
        if record["op"] == "results"
    ]
    assert found[0] == {"val/recall": 0.9, "verdict": "overfits", "flag": True}
    assert found[1]["fit_seconds"] >= 0


def test_outputs_are_copied_at_the_call(alone: Path, tmp_path: Path) -> None:
    run = kinetrum.begin("e")
    path = tmp_path / "net.onnx"
    path.write_bytes(b"before")
    run.generated(path, name="frost-net", kind="model", step=3)
    path.write_bytes(b"after")
    (record,) = [record for record in records(alone) if record["op"] == "generated"]
    (copy,) = alone.glob(f"writers/*/{record['folder']}/*")
    assert copy.read_bytes() == b"before"
    assert (record["name"], record["step"], record["files"][0][1]) == ("frost-net", 3, "net.onnx")
    run.end()


def test_wrong_inputs_and_outputs(alone: Path, tmp_path: Path) -> None:
    run = kinetrum.begin("e")
    (tmp_path / "empty").mkdir()
    (tmp_path / "Modell 1.bin").write_bytes(b"x")
    os.mkfifo(tmp_path / "pipe")
    with pytest.raises(NotFound, match="is not there"):
        run.generated(tmp_path / "nothing")
    with pytest.raises(InvalidInput, match="holds no file"):
        run.used(tmp_path / "empty")
    with pytest.raises(InvalidInput, match="neither"):
        run.used(tmp_path / "pipe")
    with pytest.raises(InvalidInput):
        run.used(tmp_path / "Modell 1.bin", name="Modell")
    with pytest.raises(InvalidInput):
        run.used("nights@3:x")
    run.used(tmp_path / "Modell 1.bin")
    run.end()
    assert [record["name"] for record in records(alone) if record["op"] == "used"] == ["modell-1"]


def test_an_attached_run_gives_a_step(alone: Path) -> None:
    run = kinetrum.begin("e")
    other = kinetrum.attach(run.id, experiment="e")
    with pytest.raises(InvalidInput, match="gives the step"):
        other.measure(loss=1)
    other.measure(loss=1, step=4)
    run.end()
    assert measured(alone) == [(4, {"loss": 1.0})]


def test_segments_follow_each_other(alone: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(spool, "_segment_size", 8192)
    run = kinetrum.begin("e", params={"long": "x" * 10_000})
    for number in range(2_000):
        run.measure(loss=number, recall=number / 2)
        if number % 500 == 0:
            run.result(at=number)
    run.end()
    assert len(list(alone.glob("writers/*/*.seg"))) > 8
    assert [step for step, _ in measured(alone)] == list(range(2_000))
    assert [record["op"] for record in records(alone) if record["op"] != "point"] == ["begin", *["results"] * 4, "end"]


def test_the_public_list_is_complete_and_documented() -> None:
    import inspect

    assert sorted(kinetrum.__all__) == list(kinetrum.__all__)
    for name in kinetrum.__all__:
        found = getattr(kinetrum, name)
        assert found.__doc__, name
        if inspect.isclass(found):
            for method, member in inspect.getmembers(found, inspect.isfunction):
                if not method.startswith("_") and member.__module__.startswith("kinetrum"):
                    assert member.__doc__, f"{name}.{method}"
    with pytest.raises(AttributeError):
        _ = kinetrum.nothing


def test_the_import_loads_nothing_heavy() -> None:
    from tests.support.programs import run_script

    code = "import kinetrum, sys; print([m for m in ('pydantic', 'httpx', 'numpy', 'tqdm', 'zstandard') if m in sys.modules])"
    assert run_script(code).stdout.strip() == "[]"


def test_beginning_a_run_loads_nothing_heavy(alone: Path) -> None:
    from tests.support.programs import run_script

    code = (
        "import kinetrum, sys\nrun = kinetrum.begin('frost', goals={'recall': 'higher >= 0.9'}, params={'depth': 6})\n"
        "run.measure(loss=0.5)\nrun.result(recall=0.9)\nrun.end()\n"
        "print([m for m in ('httpx', 'numpy', 'tqdm', 'zstandard') if m in sys.modules])"
    )
    assert run_script(code).stdout.strip() == "[]"
