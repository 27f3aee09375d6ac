"""What senders and services leave behind: nothing waits for it, and nothing of it is lost."""

from __future__ import annotations

import signal
import time
from pathlib import Path

import pytest

import kinetrum
from kinetrum.client.spool.draining import drain
from kinetrum.client.spool.status import undelivered
from kinetrum.core.base import errors
from tests.support.programs import run_script
from tests.support.world import Project


def test_a_sender_that_died_between_two_segments_leaves_nothing_behind(
    recording: Project, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    from kinetrum.client.spool import spool

    monkeypatch.setattr(spool, "_segment_size", 8192)
    monkeypatch.setenv("KINETRUM_SENDER", "off")
    run = kinetrum.begin("segments")
    for step in range(1_000):
        run.measure(loss=step)
    run.end()
    (folder,) = (tmp_path / "spool" / "writers").glob("*")
    from kinetrum.client.sender.delivery import Delivery
    from kinetrum.client.sender.operations import RunCalls

    class Dies(Delivery):
        def _save_position(self) -> None:
            super()._save_position()
            if self.segment == 3 and self.offset == 0:
                raise KeyboardInterrupt

    calls = RunCalls(tmp_path / "spool")
    with pytest.raises(KeyboardInterrupt):
        Dies(folder).round(calls)
    second = Delivery(folder)
    assert second.pending()
    assert run.id in second.open_runs
    second.round(calls)
    calls.close()
    assert not undelivered(tmp_path / "spool")
    found = kinetrum.open(run.id)
    assert isinstance(found, kinetrum.RecordedRun)
    assert found.metrics["loss"].points().value.tolist() == list(range(1_000))


def test_what_waits_within_one_stretch_of_points_is_seen(
    recording: Project, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("KINETRUM_SENDER", "off")
    run = kinetrum.begin("stretch")
    for step in range(100):
        run.measure(loss=step)
    from kinetrum.client.sender.delivery import Delivery
    from kinetrum.client.spool.layout import POINTS
    from kinetrum.client.spool.segments import read_records

    (folder,) = (tmp_path / "spool" / "writers").glob("*")
    delivery = Delivery(folder)
    stretch = next(record for record in read_records(folder / "000001.seg", 0) if record.kind == POINTS)
    each = (stretch.end - stretch.start) // 100
    # As if the service had acknowledged 97 of the hundred.
    delivery.offset = stretch.end - 3 * each
    delivery._save_position()
    (waiting,) = undelivered(tmp_path / "spool")
    assert (waiting.points, waiting.records, waiting.runs) == (3, 0, [run.id])
    with pytest.raises(
        errors.Unavailable,
        match="3 records of 1 run were not acknowledged within 0 s; KINETRUM_SENDER=off keeps them here",
    ):
        drain(tmp_path / "spool", 0.2, run.id)


def test_a_run_that_the_service_no_longer_knows_holds_up_nobody_else(recording: Project, tmp_path: Path) -> None:
    script = """
import kinetrum, os, signal, sys
run = kinetrum.attach(sys.argv[1], experiment="gone")
run.measure(loss=1, step=0)
os.kill(os.getpid(), signal.SIGKILL)
"""
    unknown = "01a21f66-8f36-7063-a832-703e5c9c3b1e"
    with kinetrum.begin("gone") as run:
        pass
    run.flush()
    assert run_script(script, unknown).returncode == -signal.SIGKILL
    started = time.monotonic()
    drain(tmp_path / "spool", 25)
    assert time.monotonic() - started < 20
    # It is asked for on, and told.
    (waiting,) = undelivered(tmp_path / "spool")
    assert (waiting.runs, waiting.points) == ([unknown], 1)
