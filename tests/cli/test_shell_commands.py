"""The commands that record from a shell, as a person types them in a script."""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path

import pytest

import kinetrum
from kinetrum.client.spool.draining import drain
from tests.cli.test_track import kt, work
from tests.support.programs import wait_for

pytestmark = pytest.mark.usefixtures("catching")

__all__ = ["work"]


def test_a_run_told_from_a_shell(work: Path, tmp_path: Path) -> None:
    (work / "data.csv").write_text("1\n")
    (work / "net.bin").write_text("net")
    script = """
set -e
export KINETRUM_RUN=$(kt begin frost-alarm --name shell --set depth=6 --seed 3 --label purpose=test --goal 'recall=higher')
kt set learner=forest rounds=10
kt used data.csv --name nights --role train
for step in 0 1 2; do kt measure loss=0.$step other=-$step --step $step; done
kt activity evaluating -- true
kt result recall=0.9 verdict='fine so far'
kt generated net.bin --name net --kind model
kt end
"""
    head = f'kt() {{ "{sys.executable}" -m kinetrum.cli.main "$@"; }}\n'
    done = subprocess.run(["bash", "-c", head + script], capture_output=True, text=True, timeout=55, check=False)
    assert done.returncode == 0, done.stderr
    drain(tmp_path / "spool", 40)
    run = kinetrum.open("frost-alarm/1")
    assert isinstance(run, kinetrum.RecordedRun)
    assert (run.status, run.name, run.problems) == ("finished", "shell", [])
    assert run.params == {"depth": 6, "seed": 3, "learner": "forest", "rounds": 10}
    assert run.metrics["other"].points().value.tolist() == [0.0, -1.0, -2.0]
    assert run.results == {"recall": 0.9, "verdict": "fine so far"}
    assert (run.used, run.generated) == (["nights@1"], ["net@1"])
    assert [activity["name"] for activity in run.activities] == ["evaluating"]
    # Later commands are told that it has ended.
    (kept,) = (tmp_path / "spool" / "runs").glob("*.json")
    assert json.loads(kept.read_text())["ended"] == "finished"


@pytest.mark.parametrize(
    ("words", "status", "part"),
    [
        (["set", "a=1"], 3, "KINETRUM_RUN"),
        (["measure", "loss=1"], 2, "--step"),
        (["set", "--run", "0190a1b2-c3d4-7000-8000-0123456789ab", "a=1"], 3, "id"),
        (["end", "--run", "a b"], 2, "names no run"),
    ],
)
def test_shell_commands_say_what_is_missing(work: Path, words: list[str], status: int, part: str) -> None:
    done = kt(*words)
    assert done.returncode == status
    assert part in done.stderr


def test_a_shell_run_that_failed(work: Path, tmp_path: Path) -> None:
    run_id = kt("begin", "frost-alarm").stdout.strip()
    assert kt("end", "--run", run_id, "--failed", "no more data").returncode == 0
    drain(tmp_path / "spool", 30)
    run = kinetrum.open(run_id)
    assert isinstance(run, kinetrum.RecordedRun)
    assert (run.status, run.reason) == ("failed", "no more data")


def test_what_is_wrong_with_a_run_is_told_in_one_line(work: Path) -> None:
    run_id = kt("begin", "frost-alarm").stdout.strip()
    assert kt("set", "--run", run_id, "depth=6").returncode == 0
    # From elsewhere, where it is not known what was set here.
    kinetrum.attach(run_id, experiment="frost-alarm").set(depth=7)
    wait_for(lambda: "set aside" in kt("spool").stdout)
    told = kt("end", "--run", run_id)
    assert told.returncode == 0
    assert told.stderr.startswith("kinetrum: ") and "depth was set to 6; 7" in told.stderr
    assert len(told.stderr.splitlines()) == 1 and "UserWarning" not in told.stderr


def test_shell_commands_refuse_what_python_refuses(work: Path) -> None:
    run_id = kt("begin", "frost-alarm", "--set", "seed=1").stdout.strip()
    assert kt("set", "--run", run_id, "depth=6").returncode == 0
    assert kt("set", "--run", run_id, "depth=6", "fold=2").returncode == 0
    for words in (("depth=7",), ("seed=2",), ("fold=3",)):
        told = kt("set", "--run", run_id, *words)
        assert (told.returncode, "already; it cannot become" in told.stderr) == (1, True)
    assert kt("end", "--run", run_id, "--failed", "no room").returncode == 0
    for words in (("measure", "loss=1", "--step", "1"), ("result", "recall=1"), ("set", "a=1"), ("end",)):
        told = kt(words[0], "--run", run_id, *words[1:])
        assert (told.returncode, told.stderr) == (
            1,
            f"kinetrum {words[0]}: This run is failed; 'kinetrum begin' begins another.\n",
        )
    found = kinetrum.open(run_id)
    assert isinstance(found, kinetrum.RecordedRun)
    assert (found.params, found.results, found.status) == ({"seed": 1, "depth": 6, "fold": 2}, {}, "failed")
