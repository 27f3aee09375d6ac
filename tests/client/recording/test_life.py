"""How runs begin, go on in other processes, end, and are taken up again; as scripts do it."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
from pathlib import Path

import pytest

import kinetrum
from kinetrum.client.spool.draining import drain
from kinetrum.core.base.errors import InvalidInput, NotFound
from tests.support.programs import run_script, wait_for
from tests.support.world import Project


def recorded(reference: str) -> kinetrum.RecordedRun:
    found = kinetrum.open(reference)
    assert isinstance(found, kinetrum.RecordedRun)
    return found


@pytest.mark.parametrize(
    ("end", "status", "reason"),
    [
        ("", "finished", None),
        ("sys.exit()", "finished", None),
        ("sys.exit(0)", "finished", None),
        ("sys.exit(3)", "failed", "exited with status 3"),
        ("sys.exit('no data')", "failed", "exited with status no data"),
        ("1 / 0", "failed", "ZeroDivisionError"),
        ("raise KeyboardInterrupt", "stopped", "interrupted from the keyboard"),
        ("os.kill(os.getpid(), signal.SIGTERM); time.sleep(20)", "stopped", "signal SIGTERM"),
        ("quiet()", "finished", None),
        ("argparse.ArgumentParser().parse_args(['--unknown'])", "failed", "exited with status 2"),
        ("del run; gc.collect()", "stopped", "nothing refers to it"),
        ("thread()", "finished", None),
    ],
)
def test_how_a_script_ends(recording: Project, tmp_path: Path, end: str, status: str, reason: str | None) -> None:
    script = (
        """
import argparse, gc, os, signal, sys, threading, time
import kinetrum
def quiet():
    try: sys.exit(4)
    except SystemExit: pass
def thread():
    worker = threading.Thread(target=lambda: run.measure(late=1)); worker.start(); worker.join()
run = kinetrum.begin("endings")
print(run.id, flush=True)
run.measure(loss=1)
"""
        + end
    )
    done = run_script(script)
    drain(tmp_path / "spool", 30)
    found = recorded(done.stdout.strip())
    assert found.status == status, done.stderr
    assert (found.reason is None) if reason is None else (reason in (found.reason or ""))
    assert found.metrics["loss"].points().value.tolist() == [1.0]


def test_earlier_signal_handlers_still_run(recording: Project, tmp_path: Path) -> None:
    script = """
import kinetrum, os, signal
signal.signal(signal.SIGTERM, lambda number, frame: print("earlier", flush=True))
run = kinetrum.begin("endings")
print(run.id, flush=True)
os.kill(os.getpid(), signal.SIGTERM)
print("went on")
"""
    done = run_script(script)
    uid, *said = done.stdout.split("\n")
    assert said[:2] == ["earlier", "went on"]
    drain(tmp_path / "spool", 30)
    assert recorded(uid).status == "stopped"


WORKERS = """
import multiprocessing, sys
import kinetrum

def work(given):
    run, rank = given
    for step in range(50):
        run.measure({"loss": rank + step / 100}, step=step * 4 + rank)
    return run.status_here if hasattr(run, "status_here") else "joined"

if __name__ == "__main__":
    with kinetrum.begin("workers", params={"ranks": 4}) as run:
        with multiprocessing.get_context(sys.argv[1]).Pool(4) as pool:
            print(pool.map(work, [(run, rank) for rank in range(4)]), file=sys.stderr)
        run.result(done=True)
        print(run.id)
"""


@pytest.mark.parametrize("method", ["spawn", "fork", "forkserver"])
def test_workers_write_one_run(recording: Project, tmp_path: Path, method: str) -> None:
    path = tmp_path / "workers.py"
    path.write_text(WORKERS)
    done = subprocess.run([sys.executable, str(path), method], capture_output=True, text=True, timeout=60, check=False)
    assert done.returncode == 0, done.stderr
    drain(tmp_path / "spool", 30)
    found = recorded(done.stdout.strip())
    assert found.status == "finished"
    assert found.metrics["loss"].points().step.tolist() == list(range(200))
    assert found.results == {"done": True}


def test_signals_do_in_a_forked_worker_what_they_did_before(recording: Project, tmp_path: Path) -> None:
    """A handler in Python would only be noted while the worker waits for a lock, and a pool waits for its workers."""
    script = """
import os, signal, sys, time
import kinetrum
with kinetrum.begin("forked") as run:
    worker = os.fork()
    if not worker:
        if sys.argv[-1] == "own":
            own = kinetrum.begin("own")
        print(signal.getsignal(signal.SIGTERM) is signal.SIG_DFL, flush=True)
        time.sleep(60)
        os._exit(0)
    time.sleep(1); os.kill(worker, signal.SIGTERM)
    print(os.waitpid(worker, 0)[1] == signal.SIGTERM, signal.getsignal(signal.SIGTERM) is signal.SIG_DFL)
"""
    for word, lines in (("", "True\nTrue False\n"), ("own", "False\nTrue False\n")):
        done = run_script(f"import sys; sys.argv.append({word!r})\n" + script)
        assert (done.stdout, done.returncode) == (lines, 0), done.stderr
    drain(tmp_path / "spool", 30)
    assert recorded("own/1").status == "stopped"
    assert recorded("forked/1").status == "finished"


def test_a_token_does_not_travel_with_a_pickled_run(
    recording: Project, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    import pickle

    from kinetrum.client.spool import spool

    run = kinetrum.begin("pickled")
    packed = pickle.dumps(run)
    assert recording.tokens["contributor"].encode() not in packed
    monkeypatch.setenv("KINETRUM_SPOOL", str(tmp_path / "elsewhere"))
    monkeypatch.setattr(spool, "_writer", None)
    joined = pickle.loads(packed)
    with pytest.raises(InvalidInput, match="gives the step"):
        joined.measure(loss=1)
    joined.measure(loss=1, step=0)
    assert joined.id == run.id
    drain(tmp_path / "spool", 30)
    drain(tmp_path / "elsewhere", 30)
    run.end()
    assert recorded(run.id).metrics["loss"].points().step.tolist() == [0]


def test_taken_up_again_by_reference(recording: Project) -> None:
    with kinetrum.begin("again") as run:
        run.measure(loss=1, step=0)
    again = kinetrum.resume("again/1")
    assert wait_for(lambda: recorded("again/1").status == "running")
    with pytest.raises(InvalidInput, match="gives the step"):
        again.measure(loss=0.5)
    again.measure(loss=0.5, step=1)
    again.end("stopped", "enough")
    again.flush()
    found = recorded("again/1")
    assert (found.status, found.reason) == ("stopped", "enough")
    assert found.metrics["loss"].points().value.tolist() == [1.0, 0.5]
    assert kinetrum.attach("again/last").id == run.id
    with pytest.raises(NotFound):
        kinetrum.attach("again/7")
    with pytest.raises(NotFound, match="a run of again"):
        kinetrum.attach("again/1", experiment="other")


def test_a_killed_script_is_lost_and_comes_back(recording: Project, tmp_path: Path) -> None:
    script = """
import kinetrum, time
run = kinetrum.begin("killed", lease_s=10)
run.measure(loss=1)
print(run.id, flush=True)
time.sleep(60)
"""
    process = subprocess.Popen([sys.executable, "-c", script], stdout=subprocess.PIPE, text=True)
    assert process.stdout is not None
    uid = process.stdout.readline().strip()
    process.send_signal(signal.SIGKILL)
    process.wait()
    process.stdout.close()
    wait_for(lambda: recorded(uid).status == "lost", 40)
    again = kinetrum.resume(uid)
    again.measure(loss=2, step=1)
    again.end()
    again.flush()
    assert recorded(uid).status == "finished"
    assert recorded(uid).metrics["loss"].points().step.tolist() == [0, 1]


def test_the_environment_alone_sends_a_script_elsewhere(
    recording: Project, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    folder = tmp_path / "code" / "deep"
    folder.mkdir(parents=True)
    (tmp_path / "code" / "kinetrum.toml").write_text('project = "from-file"\nexperiment = "from-file"\n')
    monkeypatch.chdir(folder)
    monkeypatch.delenv("KINETRUM_PROJECT")
    run = kinetrum.begin()
    assert (run.project, run.experiment) == ("from-file", "from-file")
    monkeypatch.setenv("KINETRUM_EXPERIMENT", "from-environment")
    assert kinetrum.begin().experiment == "from-environment"
    assert kinetrum.begin("named", project="mine").project == "mine"


def test_notes_labels_and_the_bin_from_python(recording: Project) -> None:
    for number in range(3):
        with kinetrum.begin("clutter", params={"depth": number}, name=f"try {number}") as run:
            run.note("from the *script*")
            run.label(purpose="trial")
    run.flush()
    found = recorded("clutter/1")
    assert found.labels == {"purpose": "trial"}
    assert [note.text for note in found.notes] == ["from the *script*"]
    found.rename("better")
    found.label(purpose=None, owner="Ilse")
    found.note("looked at")
    found.correct({"depth": 9}, "typed wrongly")
    assert (found.name, found.labels, found.params, len(found.notes)) == ("better", {"owner": "Ilse"}, {"depth": 9}, 2)
    few = kinetrum.runs("depth < 5", experiment="clutter")
    few.label(stage="old")
    few.note("goes")
    assert few.bin() == ["clutter/2", "clutter/3"]
    assert [run.number for run in kinetrum.runs(experiment="clutter")] == [1]
    assert [item["reference"] for item in kinetrum.binned()] == ["clutter/3", "clutter/2"]
    assert kinetrum.restore(["clutter/3"]) == ["clutter/3"]
    assert recorded("clutter/3").labels == {"purpose": "trial", "stage": "old"}
    found.bin()
    found.restore()
    with pytest.raises(InvalidInput):
        run.note(" ")


def test_goals_from_python(recording: Project) -> None:
    with kinetrum.begin("goals") as run:
        for step in range(3):
            run.measure(loss=3 - step, step=step)
        run.result(verdict="overfits")
    run.flush()
    found = kinetrum.experiment("goals")
    found.set_goal("loss", "lower <= 1.5 °C")
    assert found.goals == {"loss": {"direction": "lower", "unit": "°C", "bound": 1.5, "aggregate": "best"}}
    wait_for(lambda: recorded("goals/1").values.get("loss") == 1.0)
    assert recorded("goals/best:loss").number == 1
    found.note("why we ask")
    (note,) = found.notes
    assert (note.text, note.author) == ("why we ask", "A Contributor")
    found.remove_note(note)
    assert found.notes == []
    with pytest.raises(NotFound, match="has no note"):
        found.remove_note(note)
    found.remove_goal("loss")
    assert found.goals == {}
    with pytest.raises(NotFound):
        kinetrum.experiment("nothing")


def test_everything_reads_back_with_types_and_order(recording: Project, tmp_path: Path) -> None:
    import math

    import numpy as np

    params = {"z": 1, "a": 2.0, "flag": True, "none": None, "text": "x", "list": [1, 2.0, "y"], "nan": math.nan}
    with kinetrum.begin("back", params=params) as run:
        for step in (5, 1, 3, 1):
            run.measure({"val/loss": step / 7, "bad": math.nan}, step=step)
        run.result(recall=0.913, verdict="ready")
        run.result(recall=0.92)
    run.flush()
    found = recorded(run.id)
    assert list(found.params) == list(params)
    assert [type(value) for value in found.params.values()] == [type(value) for value in params.values()]
    assert found.results == {"recall": 0.92, "verdict": "ready"}
    assert [(key, value) for key, value, _ in found.result_records()] == [
        ("recall", 0.913),
        ("verdict", "ready"),
        ("recall", 0.92),
    ]
    points = found.metrics["val/loss"].points()
    assert points.step.tolist() == [1, 1, 3, 5]
    assert points.value.tolist() == [1 / 7, 1 / 7, 3 / 7, 5 / 7]
    assert points.time.dtype == np.dtype("datetime64[us]")
    assert found.save_points(tmp_path / "p.csv", ["val/loss"]) == (tmp_path / "p.csv").stat().st_size
    table = kinetrum.runs(experiment="back")
    assert table.to_arrow()["metric:recall"].to_pylist() == [0.92]
    assert table.to_pandas()["recall"].tolist() == [0.92]
    assert table.to_csv(tmp_path / "runs.csv") > 0
    assert table.to_parquet(tmp_path / "runs.parquet") > 0
    with pytest.raises(InvalidInput, match="ends in none"):
        found.save_points(tmp_path / "p.xls")


def test_an_evaluation_in_one_call(recording: Project, tmp_path: Path) -> None:
    import csv
    import gzip

    with kinetrum.begin("evaluated") as run:
        results = run.evaluate([0, 1, 1, 0], [0.2, 0.7, 0.4, 0.1], on="holdout", rows=["n1", "n2", "n3", "n4"])
        run.evaluate([1.5, 2.0], [1.0, 2.5], task="regression")
        with pytest.raises(InvalidInput, match="stands twice"):
            run.evaluate([0, 1], [0.1, 0.9], rows=["a", "a"])
        with pytest.raises(InvalidInput, match="3 row keys"):
            run.evaluate([0, 1], [0.1, 0.9], rows=["a", "b", "c"])
    run.flush()
    assert results["holdout/recall"] == 0.5
    found = recorded(run.id)
    assert found.results["holdout/roc_auc"] == 1.0
    assert found.results["mae"] == 0.5
    assert found.generated == ["evaluated-holdout-predictions@1"]
    (path,) = found.download(tmp_path)
    rows = list(csv.DictReader(gzip.decompress(path.read_bytes()).decode().splitlines()))
    assert rows[2] == {"row": "n3", "truth": "1", "prediction": "0", "score": "0.4"}


def test_the_run_is_known_to_the_shell_of_a_worker(recording: Project) -> None:
    """A run's address, as JSON, names nothing secret."""
    run = kinetrum.begin("plain")
    assert recording.tokens["contributor"] not in json.dumps(run._address)
    assert os.getpid() == run.owner_pid
    run.end()
