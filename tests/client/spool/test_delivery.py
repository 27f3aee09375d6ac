"""From the script through spool and sender to the service and back, with faults in between."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

import numpy as np
import pytest

import kinetrum
from kinetrum.client.spool.draining import drain
from kinetrum.client.spool.rejected import set_aside
from kinetrum.client.spool.status import undelivered
from kinetrum.core.base import errors
from kinetrum.instance import control
from kinetrum.instance.settings import Home
from tests.support.programs import run_script, stop_sender, wait_for
from tests.support.world import Project


def test_everything_comes_back(recording: Project, tmp_path: Path) -> None:
    (tmp_path / "data").mkdir()
    (tmp_path / "data" / "a.csv").write_text("1,2\n")
    (tmp_path / "net.onnx").write_bytes(b"net" * 1000)
    with kinetrum.begin("frost-alarm", params={"depth": 6, "l": [1, "a"]}, seed=7, goals={"loss": "lower"}) as run:
        run.used(tmp_path / "data", name="nights", role="train")
        for step in range(300):
            run.measure(loss=1 / (step + 1), recall=np.float64(step))
        run.measure(loss=float("nan"))
        run.result(recall=0.913, verdict="ready")
        run.generated(tmp_path / "net.onnx", name="frost-net", kind="model")
        run.used("frost-net@latest") if False else None
    run.flush()
    found = kinetrum.open(run.id)
    assert isinstance(found, kinetrum.RecordedRun)
    assert found.reference == "frost-alarm/1"
    assert (found.status, found.author) == ("finished", "A Contributor")
    assert found.params == {"depth": 6, "l": [1, "a"], "seed": 7}
    assert found.results == {"recall": 0.913, "verdict": "ready"}
    assert (found.used, found.generated, found.problems) == (["nights@1"], ["frost-net@1"], [])
    points = found.metrics["loss"].points()
    assert points.step.tolist() == list(range(301))
    assert points.value[:300].tolist() == [1 / (step + 1) for step in range(300)]
    assert np.isnan(points.value[300])
    assert (np.diff(points.time.astype("int64")) >= 0).all()
    wait_for(lambda: found.refresh().values.get("loss"))
    assert found.values["loss"] == 1 / 300
    assert found.metrics["loss"].nan_count == 1
    (path,) = found.download(tmp_path / "out")
    assert path.read_bytes() == b"net" * 1000
    nights = kinetrum.open("nights@1")
    assert isinstance(nights, kinetrum.StoredVersion)
    assert nights.files == ["a.csv"]
    assert not undelivered(tmp_path / "spool")


def test_killed_in_the_middle_every_completed_call_arrives(recording: Project, tmp_path: Path) -> None:
    script = """
import kinetrum, os, signal, sys
run = kinetrum.begin("killed", goals={"loss": "lower"}, lease_s=10)
for step in range(5000):
    run.measure(loss=step, recall=step / 2)
run.result(done=step)
print(run.id, flush=True)
os.kill(os.getpid(), signal.SIGKILL)
"""
    done = run_script(script)
    assert done.returncode == -signal.SIGKILL
    drain(tmp_path / "spool", 30)
    run = kinetrum.open(done.stdout.strip())
    assert isinstance(run, kinetrum.RecordedRun)
    assert run.metrics["recall"].points().value.tolist() == [step / 2 for step in range(5000)]
    assert run.results == {"done": 4999}
    # Nobody beats its heart any more: it is lost once the lease has passed.
    wait_for(lambda: run.refresh().status == "lost", 30)
    assert "no sign of life" in (run.reason or "")


ENDINGS = {
    "pass": ("finished", ""),
    "raise ValueError('boom')": ("failed", "ValueError: boom"),
    "import os, signal; os.kill(os.getpid(), signal.SIGTERM)": ("stopped", "SIGTERM"),
    "raise KeyboardInterrupt": ("stopped", "keyboard"),
    "del run": ("stopped", "nothing refers"),
}


@pytest.mark.parametrize("code", ENDINGS)
def test_runs_that_nobody_ended(recording: Project, tmp_path: Path, code: str) -> None:
    done = run_script(f"import kinetrum\nrun = kinetrum.begin('ends')\nprint(run.id, flush=True)\n{code}")
    drain(tmp_path / "spool", 30)
    run = kinetrum.open(done.stdout.split()[0])
    assert isinstance(run, kinetrum.RecordedRun)
    status, reason = ENDINGS[code]
    assert run.status == status
    assert reason in (run.reason or "")


def test_an_earlier_signal_handler_still_runs(recording: Project, tmp_path: Path) -> None:
    script = """
import kinetrum, os, signal, sys
signal.signal(signal.SIGTERM, lambda *_: (print("earlier", flush=True), sys.exit(7)))
run = kinetrum.begin("ends")
print(run.id, flush=True)
os.kill(os.getpid(), signal.SIGTERM)
"""
    done = run_script(script)
    assert done.returncode == 7
    assert done.stdout.split()[1] == "earlier"


def test_forked_children_and_threads_write_one_run(recording: Project, tmp_path: Path) -> None:
    script = """
import kinetrum, os, threading
run = kinetrum.begin("many")
for rank in range(3):
    if os.fork() == 0:
        for step in range(200):
            run.measure({f"rank-{rank}": step}, step=step)
        os._exit(0)
for _ in range(3):
    os.wait()
def work(name):
    for step in range(200):
        run.measure({name: step})
threads = [threading.Thread(target=work, args=(f"thread-{n}",)) for n in range(4)]
[t.start() for t in threads]; [t.join() for t in threads]
run.end()
print(run.id)
"""
    done = run_script(script)
    assert done.returncode == 0, done.stderr
    drain(tmp_path / "spool", 30)
    run = kinetrum.open(done.stdout.strip())
    assert isinstance(run, kinetrum.RecordedRun)
    assert sorted(run.metrics) == [f"rank-{n}" for n in range(3)] + [f"thread-{n}" for n in range(4)]
    for metric in run.metrics.values():
        assert metric.points().value.tolist() == list(range(200))
    assert run.status == "finished"


def test_the_sender_is_killed_and_another_goes_on(recording: Project, tmp_path: Path) -> None:
    run = kinetrum.begin("resumed")
    for part in range(4):
        for step in range(part * 500, part * 500 + 500):
            run.measure(loss=step)
        stop_sender(tmp_path / "spool")
        run.result({f"part-{part}": part})
    run.end()
    run.flush()
    found = kinetrum.open(run.id)
    assert isinstance(found, kinetrum.RecordedRun)
    assert found.metrics["loss"].points().value.tolist() == list(range(2000))
    assert found.results == {f"part-{part}": part for part in range(4)}


def test_the_service_is_away_for_a_while_and_nothing_is_lost(tmp_path: Path) -> None:
    """An instance of its own, stopped and killed while a training goes on."""
    home = Home(tmp_path / "away")
    url = control.up(home, 0)["url"]
    port = int(url.rpartition(":")[2])
    environment = {
        "KINETRUM_URL": url,
        "KINETRUM_TOKEN": home.token.read_text().strip(),
        "KINETRUM_SPOOL": str(tmp_path / "spool-away"),
    }
    script = """
import kinetrum, sys, time
run = kinetrum.begin("away")
print(run.id, flush=True)
for step in range(60):
    run.measure(loss=step)
    time.sleep(0.05)
run.end()
"""
    trainer = subprocess.Popen(
        [sys.executable, "-c", script], env=os.environ | environment, stdout=subprocess.PIPE, text=True
    )
    try:
        assert trainer.stdout is not None
        run_id = trainer.stdout.readline().strip()
        time.sleep(0.8)
        pid = json.loads(home.state.read_text())["pid"]
        children = Path(f"/proc/{pid}/task/{pid}/children").read_text().split()
        for child in children:
            os.kill(int(child), signal.SIGKILL)
        wait_for(lambda: control.status(home)["running"])
        time.sleep(0.5)
        control.down(home)
        time.sleep(0.5)
        assert trainer.wait(30) == 0
        assert control.up(home, port)["url"] == url
        root = tmp_path / "spool-away"
        drain(root, 40)
        from kinetrum.client.transport.http import Service

        service = Service(url, environment["KINETRUM_TOKEN"])
        points = service.get("/projects/main/experiments/away/runs/1/points", metric="loss")
        run = service.get(f"/projects/main/runs/{run_id}")
        service.close()
        assert points["values"] == list(range(60))
        assert run["status"] == "finished"
    finally:
        trainer.kill()
        trainer.wait()
        if trainer.stdout:
            trainer.stdout.close()
        stop_sender(tmp_path / "spool-away")
        control.down(home)


def test_what_is_refused_for_good_is_set_aside_and_told(recording: Project, tmp_path: Path) -> None:
    run = kinetrum.begin("aside", params={"depth": 6})
    run.flush()
    other = kinetrum.attach(run.id, experiment="aside")
    other.set(depth=8)
    run.used(tmp_path_with(tmp_path, "gone.csv"), name="gone")
    (tmp_path / "gone.csv").unlink()
    run.measure(loss=1)
    run.end()
    run.flush()
    found = kinetrum.open(run.id)
    assert isinstance(found, kinetrum.RecordedRun)
    assert found.params == {"depth": 6}
    assert found.metrics["loss"].points().value.tolist() == [1.0]
    assert any("depth" in problem for problem in found.problems)
    reasons = [item["reason"] for item in set_aside(tmp_path / "spool")]
    assert any("depth was set to 6; 8" in reason for reason in reasons)
    # The file was there at the call; whether the sender was quicker than its removal is open, but it is never silent.
    assert found.used == ["gone@1"] or any("gone" in reason for reason in reasons)


def tmp_path_with(folder: Path, name: str) -> Path:
    (folder / name).write_text("x")
    return folder / name


def test_a_role_that_does_not_suffice_never_breaks_training(
    recording: Project, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("KINETRUM_TOKEN", recording.tokens["viewer"])
    run = kinetrum.begin("forbidden")
    run.measure(loss=1)
    run.end()
    run.flush()
    assert any("takes a contributor" in item["reason"] for item in set_aside(tmp_path / "spool"))


def test_reading_a_table(recording: Project) -> None:
    for number in range(4):
        with kinetrum.begin("frost-alarm", params={"depth": number}, goals={"recall": "higher"}) as run:
            run.result(recall=number / 10)
    run.flush()
    table = kinetrum.runs("recall >= 0.1", experiment="frost-alarm", sort="recall")
    assert len(table) == 3
    assert [row.params["depth"] for row in table] == [3, 2, 1]
    assert table[0].values["recall"] == 0.3
    assert [row.number for row in table[:2]] == [4, 3]
    assert table.to_rows()[0]["run"] == "frost-alarm/4"
    assert "<table>" in table._repr_html_()
    assert "depth" in table[0]._repr_html_()
    comparison = kinetrum.compare(["frost-alarm/4", "frost-alarm/1"])
    assert comparison["headline"]["finding"] == "Run 4 came out better than Run 1"
    best = kinetrum.open("frost-alarm/best:recall")
    assert isinstance(best, kinetrum.RecordedRun)
    assert best.number == 4


def test_the_registry_from_python(recording: Project, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    (tmp_path / "net.onnx").write_bytes(b"bytes of the net")
    with kinetrum.begin("frost-alarm") as run:
        run.generated(tmp_path / "net.onnx", name="frost-net", kind="model")
    first = run.register("frost-net", as_model="frost-alarm", comment="first")
    assert (first.reference, first.review, first.run) == ("frost-alarm@1", "pending", "frost-alarm/1")
    with pytest.raises(errors.NotAllowed):
        first.approve("my own")
    monkeypatch.setenv("KINETRUM_TOKEN", recording.tokens["maintainer"])
    first, stale = kinetrum.open("frost-alarm@1"), kinetrum.open("frost-alarm@1")
    assert isinstance(first, kinetrum.ModelVersion)
    assert isinstance(stale, kinetrum.ModelVersion)
    first.approve("fine")
    first.promote("production", comment="go")
    assert (first.stages, first.model.lead) == (["production"], 1)
    with pytest.raises(errors.UnexpectedOccupant):
        stale.promote("production")
    second = kinetrum.register(tmp_path / "net.onnx", as_model="frost-alarm", origin="found on a shelf")
    second.approve()
    second.promote("production", expect=1)
    model = kinetrum.model("frost-alarm")
    assert model.versions == [2, 1]
    assert model.stages["production"] == 2
    assert model.roll_back("production") == 1
    model.lead = 2
    assert model.lead == 2
    assert model["lead"].number == 2
    (path,) = kinetrum.fetch("frost-alarm@production", tmp_path / "out")
    assert path.read_bytes() == b"bytes of the net"
    path.write_bytes(b"changed by hand")
    assert list(kinetrum.fetch("frost-alarm@production", tmp_path / "out")) == [path]
    assert path.read_bytes() == b"bytes of the net"
    model.demote("production")
    with pytest.raises(errors.NotFound):
        kinetrum.fetch("frost-alarm@production", tmp_path / "out2")
    assert [found.name for found in kinetrum.models()] == ["frost-alarm"]
    second.reject("no")
    second.take_back_verdict()
    assert second.review == "pending"
    second.retire()
    assert second.data["retired"]


def test_damaged_bytes_are_not_kept_by_the_client(recording: Project, tmp_path: Path) -> None:
    (tmp_path / "net.onnx").write_bytes(os.urandom(3_000_000))
    reference = kinetrum.keep(tmp_path / "net.onnx", name="big")
    version = kinetrum.open(reference)
    assert isinstance(version, kinetrum.StoredVersion)
    sha256 = version.data["files"][0]["sha256"]
    blob = recording.instance.home.store / sha256[:2] / sha256
    raw = bytearray(blob.read_bytes())
    raw[2_900_000] ^= 1
    blob.write_bytes(raw)
    with pytest.raises(errors.Damaged):
        version.download(tmp_path / "out")
    assert [path for path in (tmp_path / "out").rglob("*") if path.is_file()] == []
    blob.unlink()


def test_connections_are_found_in_the_agreed_order(
    recording: Project, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    from kinetrum.client.transport.connection import find_connection, save

    def found(**arguments: Any) -> tuple[str | None, str, str]:
        connection = find_connection(**arguments)
        return connection.url, connection.project, connection.experiment

    monkeypatch.setenv("KINETRUM_CONNECTIONS", str(tmp_path / "c.json"))
    monkeypatch.chdir(tmp_path)
    for key in ("KINETRUM_URL", "KINETRUM_TOKEN", "KINETRUM_PROJECT"):
        monkeypatch.delenv(key)
    with pytest.raises(errors.Unavailable, match="kinetrum up"):
        find_connection()
    assert found(needs_service=False) == (None, "main", "scratch")
    save("http://saved:1", "t", "saved-project")
    assert found() == ("http://saved:1", "saved-project", "scratch")
    assert find_connection().token == "t"
    (tmp_path / "kinetrum.toml").write_text('url = "http://file:2"\nproject = "of-file"\nexperiment = "e-file"\n')
    (tmp_path / "deep" / "er").mkdir(parents=True)
    monkeypatch.chdir(tmp_path / "deep" / "er")
    assert found() == ("http://file:2", "of-file", "e-file")
    monkeypatch.setenv("KINETRUM_URL", "http://env:3/")
    monkeypatch.setenv("KINETRUM_EXPERIMENT", "e-env")
    assert found() == ("http://env:3", "of-file", "e-env")
    assert found(url="https://argument", project="p") == ("https://argument", "p", "e-env")
    (tmp_path / "kinetrum.toml").write_text("not toml")
    with pytest.raises(errors.InvalidInput, match="not TOML"):
        find_connection()
    assert (tmp_path / "c.json").stat().st_mode & 0o777 == 0o600
