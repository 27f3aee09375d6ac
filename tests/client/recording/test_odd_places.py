"""Odd places: no home, coroutines, a second run beside the first."""

from __future__ import annotations

import asyncio
import os
import stat
import threading
from pathlib import Path

import pytest

import kinetrum
from kinetrum import places
from kinetrum.client.display import notices
from tests.client.recording.test_run import alone, measured
from tests.support.programs import run_apart, run_script
from tests.support.world import Project

__all__ = ["alone"]

HOMELESS = """
import os, pwd
def nobody(uid):
    raise KeyError(uid)
pwd.getpwuid = nobody
os.environ.pop("HOME")
import kinetrum
for _ in range(2):
    with kinetrum.begin("homeless") as run:
        run.measure(loss=1)
print(kinetrum.client.spool.spool.current_writer().root)
"""


def without_own_settings() -> dict[str, str]:
    return {name: "" for name in ("KINETRUM_SPOOL", "KINETRUM_CONNECTIONS", "KINETRUM_HOME", "XDG_STATE_HOME")}


def test_recording_without_a_home(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    for name in without_own_settings():
        monkeypatch.delenv(name, raising=False)
    done = run_script(HOMELESS, TMPDIR=str(tmp_path), KINETRUM_SENDER="off", KINETRUM_URL="http://127.0.0.1:9")
    assert done.returncode == 0, done.stderr
    home = tmp_path / f"kinetrum-home-{os.getuid()}"
    assert done.stderr == (
        f"kinetrum: This user has no home folder; what is recorded, and what is kept of it, lies in {home}.\n"
    )
    assert done.stdout.strip() == str(home / ".local" / "state" / "kinetrum" / "spool")
    assert stat.S_IMODE(home.stat().st_mode) == 0o700
    assert len(list(home.glob(".local/state/kinetrum/spool/writers/*/*.seg"))) == 1


@pytest.mark.parametrize("how", ["open to all", "a link", "a file", "somebody else's"])
def test_a_folder_that_others_may_have_made_is_not_taken(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, how: str
) -> None:
    monkeypatch.setattr("tempfile.tempdir", str(tmp_path))
    monkeypatch.setattr(places, "_own_temporary", {})
    taken = tmp_path / f"kinetrum-home-{os.getuid()}"
    if how == "a link":
        (tmp_path / "trap").mkdir()
        taken.symlink_to(tmp_path / "trap")
    elif how == "a file":
        taken.write_text("")
    else:
        taken.mkdir(mode=0o700)
        if how == "open to all":
            taken.chmod(0o777)
        elif os.getuid() == 0:
            os.chown(taken, 12_345, 12_345)
        else:
            pytest.skip("Only root can give a folder away.")
    found = places.private_temporary("kinetrum-home")
    assert found != taken
    assert stat.S_IMODE(found.stat().st_mode) == 0o700
    assert places.private_temporary("kinetrum-home") == found


def test_coroutines_and_threads_count_each_for_itself(alone: Path) -> None:
    run = kinetrum.begin("e")

    async def work(name: str, count: int) -> None:
        for number in run.progress(range(count), disable=True):
            await asyncio.sleep(0.001)
            run.measure({name: number})

    async def all_together() -> None:
        await asyncio.gather(work("a", 20), work("b", 10), work("c", 15))

    def beside(name: str) -> None:
        for number in run.progress(range(8), disable=True):
            run.measure({name: number})

    run_apart(all_together())
    threads = [threading.Thread(target=beside, args=(f"thread-{at}",)) for at in range(3)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    for number in run.progress(range(2), disable=True):
        for inner in run.progress(range(3), disable=True):
            run.measure(inner=inner)
        run.measure(outer=number)
    run.measure(after=0)
    run.measure(after=1)
    run.end()
    found = measured(alone)
    assert len(found) == 20 + 10 + 15 + 24 + 6 + 2 + 2
    assert [(step, values) for step, values in found if values != dict.fromkeys(values, float(step))] == []


def test_a_run_that_is_open_beside_another_is_told_once(
    alone: Path, capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(notices, "_said", set())
    with kinetrum.begin("e") as parent:
        child = parent.child()
        sibling = parent.child()
        child.end()
        sibling.end()
    assert "still open" not in capsys.readouterr().err
    runs = [kinetrum.begin("e") for _ in range(3)]
    told = capsys.readouterr().err.splitlines()
    assert len([line for line in told if "still open" in line]) == 1
    assert f"{runs[0]!r} is still open beside the run that begins now." in told[-1]
    for run in runs:
        run.end()


def test_a_run_knows_its_number_as_soon_as_this_machine_does(recording: Project) -> None:
    with kinetrum.begin("numbered") as first:
        assert first.number in {None, 1}
        first.flush()
        assert (first.number, first.reference) == (1, "numbered/1")
        assert repr(first) == "<Run numbered/1 running>"
    with kinetrum.begin("numbered") as second:
        second.flush()
    assert (second.number, second.reference) == (2, "numbered/2")
    assert kinetrum.attach("numbered/2").reference == "numbered/2"
    assert kinetrum.attach(second.id, experiment="numbered").number == 2


def test_without_an_answer_there_is_no_number(alone: Path) -> None:
    with kinetrum.begin("e") as run:
        assert (run.number, run.reference) == (None, None)
        assert repr(run) == f"<Run e {run.id[-10:]} running>"


def test_the_working_folder_is_no_place_for_temporary_files(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(tmp_path)
    monkeypatch.setattr("tempfile.tempdir", str(tmp_path))
    monkeypatch.setattr(places, "_own_temporary", {})
    with pytest.raises(OSError, match="no folder for temporary files"):
        places.private_temporary("kinetrum-spool")
    monkeypatch.setenv("TMPDIR", str(tmp_path))
    assert places.private_temporary("kinetrum-spool").parent == tmp_path
