"""The quick forms of a shell's commands write what the command of all forms writes, or leave it to that."""

from __future__ import annotations

import json
import subprocess
import sys
import threading
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

import kinetrum
from kinetrum.cli.commands import run_command
from kinetrum.cli.recording import quick
from kinetrum.cli.recording.quick import NotPlain, record_quickly
from kinetrum.client.capture import host
from kinetrum.client.spool import complete_segment
from kinetrum.client.spool.draining import drain
from kinetrum.client.spool.run_addresses import keep_address, keep_params, known_params
from kinetrum.core.base.ids import uuid7
from kinetrum.core.base.values import read_typed
from tests.client.recording.test_run import records
from tests.support.programs import run_whole_command
from tests.support.world import Project

KINETRUM = [sys.executable, "-m", "kinetrum.cli.main"]
RUN = "01912345-6789-7abc-8def-0123456789ab"
ADDRESS = {"run": RUN, "to": "0123456789abcdef", "project": "orchard", "experiment": "frost"}

PLAIN = [
    ["measure", "loss=0.25", "--step", "7"],
    ["measure", "--step=7", "val/loss=1e-3", "recall=1"],
    ["measure", "loss=-0", "--step=0", "--run", RUN],
    ["set", "depth=6", "learner=forest", "train.rate=0.5"],
    ["set", "seed=1"],
    ["set", "depth=6", "seed=1"],
    ["result", "recall=0.913", "verdict=good"],
    ["result", f"--run={RUN}", "a=1.0", "b=1"],
    ["end"],
    ["end", "--failed", "no more data: the disk = full"],
    ["end", "--stopped=by hand", "--run", RUN],
]
OTHERS = [
    ["measure", "loss=0.25"],
    ["measure", "loss=0.25", "--step"],
    ["measure", "loss=0.25", "--step", "1.5"],
    ["measure", "loss=0.25", "--step", "1", "--step", "2"],
    ["measure", "loss=0.25", "--step", "1", "--run", "frost/3"],
    ["measure", "loss=0.25", "--step", "1", "--help"],
    ["measure", "loss=0.25", "--step", "-3"],
    ["measure", "loss=NaN", "--step", "1"],
    ["measure", "loss=high", "--step", "1"],
    ["measure", "loss=1e400", "--step", "1"],
    ["measure", "loss=true", "--step", "1"],
    ["measure", "loss=[1]", "--step", "1"],
    ["measure", "loss=1", "loss=2", "--step", "1"],
    ["measure", "loss", "--step", "1"],
    ["measure", "--step", "1"],
    ["set"],
    ["set", "a="],
    ["set", "=1"],
    ["set", "a=true"],
    ["set", "a=null"],
    ["set", "a=[1,2]"],
    ["set", 'a="1"'],
    ["set", "a=two words"],
    ["set", "grün=1"],
    ["set", "a=1", "--stepp", "3"],
    ["set", "seed=2"],
    ["set", "seed=1.0"],
    ["set", f"a={'x' * 201}"],
    ["result", "a=01"],
    ["result", "a=9007199254740993"],
    ["end", "now"],
    ["end", "--failed", "a", "--stopped", "b"],
    ["end", "--failed", ""],
]


@pytest.fixture
def root(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """A spool with a run that was begun on this machine, and nobody who delivers."""
    folder = tmp_path / "spool"
    monkeypatch.setenv("KINETRUM_SPOOL", str(folder))
    monkeypatch.setenv("KINETRUM_SENDER", "off")
    monkeypatch.setenv("KINETRUM_RUN", RUN)
    keep_address(folder, ADDRESS)
    keep_params(folder, RUN, {"seed": 1})
    return folder


def without_moments(found: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """Leave out what differs between any two calls: moments, and ids of what was recorded."""
    moments = {"at", "time", "ended_at", "id"}
    return [
        {
            key: without_moments(value) if key == "results" else value
            for key, value in record.items()
            if key not in moments
        }
        for record in found
    ]


def kept(root: Path) -> tuple[list[dict[str, Any]], dict[str, Any]]:
    """Return what was recorded, and what is kept of the run for the commands that come after."""
    return without_moments(records(root)), json.loads((root / "runs" / f"{RUN}.json").read_text())


@pytest.mark.parametrize("words", PLAIN, ids=" ".join)
def test_the_quick_form_writes_what_the_other_writes(
    words: list[str], root: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    assert run_whole_command(words) == ""
    expected = kept(root)
    other = tmp_path / "other"
    monkeypatch.setenv("KINETRUM_SPOOL", str(other))
    keep_address(other, ADDRESS)
    keep_params(other, RUN, {"seed": 1})
    assert record_quickly(words) == 0
    quickly = kept(other)
    assert quickly == expected
    # A parameter that is known already is no news.
    assert bool(quickly[0]) is (words != ["set", "seed=1"])


@pytest.mark.parametrize("words", OTHERS, ids=" ".join)
def test_what_is_not_plain_is_left_alone(words: list[str], root: Path) -> None:
    before = sorted(root.rglob("*"))
    assert record_quickly(words) is None
    assert sorted(root.rglob("*")) == before


@given(st.text(max_size=30) | st.from_regex(r"-?[0-9.eE+_-]{1,12}", fullmatch=True) | st.from_regex(r"\w{1,9}"))
def test_a_plain_value_is_what_it_is_elsewhere(text: str) -> None:
    try:
        value = quick.read_plain(text)
    except (NotPlain, ValueError):
        return
    typed = read_typed(text)
    assert (type(value), value) == (type(typed), typed)


def test_what_was_ended_or_is_not_of_here_is_left_alone(root: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    assert record_quickly(["measure", "a=1", "--step", "1", "--run", uuid7(1, bytes(10))]) is None
    assert record_quickly(["end"]) == 0
    for words in (["end"], ["set", "a=1"], ["measure", "a=1", "--step", "1"]):
        assert record_quickly(words) is None
    monkeypatch.delenv("KINETRUM_RUN")
    assert record_quickly(["measure", "a=1", "--step", "1"]) is None


@pytest.mark.parametrize("sign", ["set-aside", "arrivals"])
def test_an_end_that_has_something_to_tell_is_left_to_who_tells_it(root: Path, sign: str) -> None:
    (root / sign).mkdir()
    note = root / sign / f"{ADDRESS['to']}-files.json"
    note.write_text("null" if sign == "arrivals" else "{}")
    told = record_quickly(["end"])
    if sign == "set-aside":
        assert told is None
    else:
        # Nothing stood in the way at the last try.
        assert told == 0
        note.write_text('{"kind": "unavailable"}')
        keep_address(root, ADDRESS)
        assert record_quickly(["end"]) is None


def test_a_spool_without_room_is_left_to_who_knows_another(root: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    def fail(path: str, content: bytes) -> None:
        if path.endswith(".seg"):
            Path(path).write_bytes(content[:10])
            raise OSError(28, "No space left on device")

    monkeypatch.setattr(complete_segment, "_write_file", fail)
    assert record_quickly(["set", "a=1"]) is None
    assert list((root / "opening").iterdir()) == []
    assert records(root) == []
    assert known_params(root, RUN) == {"seed": 1}


def test_a_record_that_was_written_is_never_written_twice(
    root: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    """What fails after that is told, and not tried again in the other form."""

    def fail(*_: object) -> None:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(quick.os, "replace", fail)
    assert record_quickly(["set", "a=1"]) == 1
    assert "Recorded, but " in capsys.readouterr().err
    assert [record["params"] for record in records(root)] == [{"a": 1}]


def test_many_at_once_keep_everything(root: Path) -> None:
    def measure(number: int) -> None:
        for step in range(40):
            assert record_quickly(["measure", f"loss{number}={step}", "--step", str(step)]) == 0

    threads = [threading.Thread(target=measure, args=(number,)) for number in range(8)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert len(records(root)) == 320
    assert len(list((root / "writers").iterdir())) == 320
    assert list((root / "opening").iterdir()) == []


def test_an_identity_made_on_another_machine_is_not_taken(root: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(host, "_identity", None)
    host.take_identity(host.machine_text(), "ab" * 16)
    assert host.host_identity() == b"\xab" * 16
    monkeypatch.setattr(host, "_identity", None)
    host.take_identity("another machine", "ab" * 16)
    assert host.host_identity() != b"\xab" * 16


def test_nothing_heavy_is_loaded(root: Path) -> None:
    heavy = {"argparse", "dataclasses", "hashlib", "inspect", "kinetrum.cli.commands", "pathlib", "socket", "typing"}
    code = (
        "import sys\nfrom kinetrum.cli.main import main\n"
        "status = main(['measure', 'loss=1', '--step', '1'])\nprint(status, *sys.modules)"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, timeout=60, check=True)
    status, *loaded = done.stdout.split()
    assert status == "0"
    assert set(loaded) & heavy == set()
    assert len(records(root)) == 1


def test_the_service_has_what_shells_recorded(
    recording: Project, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Quick and whole forms, in turn, of one run; a reader right after sees all of it."""
    run = subprocess.run([*KINETRUM, "begin", "loops"], capture_output=True, text=True, check=True).stdout.strip()
    monkeypatch.setenv("KINETRUM_RUN", run)
    for step in range(6):
        assert record_quickly(["measure", f"loss={step / 2}", "--step", str(step)]) == 0
    assert record_quickly(["set", "depth=6"]) == 0
    assert run_command(["set", 'learner="a forest"', "depth=6"]) == 0
    assert record_quickly(["set", "depth=6", "fold=2"]) == 0
    assert record_quickly(["result", "recall=0.9"]) == 0
    assert record_quickly(["end"]) == 0
    found = kinetrum.open(run)
    assert isinstance(found, kinetrum.RecordedRun)
    assert (found.status, found.params) == ("finished", {"depth": 6, "learner": "a forest", "fold": 2})
    assert found.metrics["loss"].points().value.tolist() == [0.0, 0.5, 1.0, 1.5, 2.0, 2.5]
    assert found.results == {"recall": 0.9}
    drain(tmp_path / "spool", 30)
