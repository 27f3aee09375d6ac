"""Processes that live for a line: many begin and end while one sender comes and goes among them."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import kinetrum
from kinetrum.client.spool.draining import drain
from kinetrum.client.spool.status import undelivered
from kinetrum.places import spare_spool_folder
from tests.support.programs import wait_for
from tests.support.world import Project

ONE = """
import sys, kinetrum
with kinetrum.begin("short", params={"number": int(sys.argv[1])}, output=False) as run:
    run.measure(loss=float(sys.argv[1]))
print(run._recorder.writer.root)
"""
WAVES, AT_ONCE = 5, 6


def all_with_loss(count: int) -> list[kinetrum.RecordedRun]:
    """Return the runs once all of them have their metric in the table."""
    found = list(kinetrum.runs(experiment="short", sort="number:asc"))
    return found if len(found) == count and all("loss" in run.values for run in found) else []


def test_each_of_many_short_lives_arrives_from_where_it_was_told_to_write(recording: Project, tmp_path: Path) -> None:
    spool = tmp_path / "spool"
    environment = os.environ | {"TMPDIR": str(tmp_path)}
    said = []
    for wave in range(WAVES):
        processes = [
            subprocess.Popen(
                [sys.executable, "-c", ONE, str(wave * AT_ONCE + at)],
                stdout=subprocess.PIPE,
                stderr=subprocess.PIPE,
                text=True,
                env=environment,
            )
            for at in range(AT_ONCE)
        ]
        for process in processes:
            out, err = process.communicate(timeout=50)
            assert (process.returncode, err) == (0, "")
            said.append(out.strip())
    # Nobody was driven to the spare folder, or held anything in memory alone.
    assert set(said) == {str(spool)}
    assert not (tmp_path / spare_spool_folder().name).exists()
    drain(spool, 40)
    # The table has the last points a moment after they were kept.
    found = wait_for(lambda: all_with_loss(WAVES * AT_ONCE))
    assert sorted(run.params["number"] for run in found) == list(range(WAVES * AT_ONCE))
    assert all(run.values["loss"] == run.params["number"] and run.status == "finished" for run in found)
    assert undelivered(spool) == []
    assert list((spool / "opening").glob("*")) == []
