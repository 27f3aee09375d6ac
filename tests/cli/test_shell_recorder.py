"""A run that a shell writes to line by line."""

from __future__ import annotations

import subprocess
import sys

import kinetrum
from tests.support.world import Project

COMMAND = [sys.executable, "-m", "kinetrum.cli.main", "shell-recorder", "-e", "loops"]


def record(lines: str, *options: str) -> tuple[subprocess.CompletedProcess[str], kinetrum.RecordedRun]:
    done = subprocess.run([*COMMAND, *options], input=lines, capture_output=True, text=True, timeout=60, check=False)
    found = kinetrum.open("loops/last")
    assert isinstance(found, kinetrum.RecordedRun)
    return done, found


def test_a_loop_records_a_line_each(recording: Project) -> None:
    lines = "".join(f"measure loss={1 / (step + 1)} step={step}\n" for step in range(500))
    done, found = record(f"# a comment\n\n{lines}result recall=0.9\nset learner=forest\n", "--set", "depth=6")
    assert done.returncode == 0, done.stderr
    assert done.stderr == "kinetrum: loops/1 finished\n"
    assert found.metrics["loss"].points().value.tolist() == [1 / (step + 1) for step in range(500)]
    assert (found.params, found.results) == ({"depth": 6, "learner": "forest"}, {"recall": 0.9})


def test_what_cannot_be_read_is_told_and_the_rest_is_kept(recording: Project) -> None:
    done, found = record("measure loss=1 step=1\nmesure loss=2 step=2\nmeasure loss=x step=3\nmeasure loss=4 step=4\n")
    assert done.returncode == 1
    told = done.stderr.splitlines()
    assert "line 2: " in told[0]
    assert "unknown word 'mesure'. Choose one of: set, measure" in told[0]
    assert "line 3: " in told[1]
    assert found.metrics["loss"].points().step.tolist() == [1, 4]
    assert found.status == "finished"


def test_a_line_ends_the_run_as_failed(recording: Project) -> None:
    done, found = record("measure loss=1 step=1\nfailed the disk was full\nmeasure loss=2 step=2\n")
    assert (done.returncode, found.status, found.reason) == (0, "failed", "the disk was full")
    assert found.metrics["loss"].points().step.tolist() == [1]


def test_nothing_at_all_is_a_run_as_well(recording: Project) -> None:
    done, found = record("")
    assert (done.returncode, found.status, found.values) == (0, "finished", {})


def test_from_a_real_shell(recording: Project) -> None:
    script = f"""
exec 3> >({" ".join(COMMAND)} --set depth=6)
recorder=$!
for step in 1 2 3; do echo "measure loss=0.$step step=$step" >&3; done
exec 3>&-
wait $recorder
"""
    done = subprocess.run(["bash", "-c", script], capture_output=True, text=True, timeout=60, check=False)
    assert done.returncode == 0, done.stderr
    found = kinetrum.open("loops/1")
    assert isinstance(found, kinetrum.RecordedRun)
    assert found.metrics["loss"].points().value.tolist() == [0.1, 0.2, 0.3]
