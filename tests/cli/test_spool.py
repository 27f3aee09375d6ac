"""`kinetrum spool`: what waits, what is left alone, what was refused, and what becomes of it."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

import kinetrum
from tests.cli.test_commands import Out, run
from tests.conftest import Project, run_script

SCRIPT = "import kinetrum\nwith kinetrum.begin('elsewhere') as run: run.measure(loss=1)\nprint(run.id)"


def test_what_another_machine_left(recording: Project, capsys: Out) -> None:
    uid = run_script(SCRIPT, KINETRUM_MACHINE="bench-2", KINETRUM_SENDER="off").stdout.strip()
    text = run(capsys, "spool")[1]
    assert "left alone" in text
    assert "recorded on bench-2" in text
    (waiting,) = json.loads(run(capsys, "spool", "--json")[1])["waiting"]
    assert waiting["runs"] == [uid]
    status, _, said = run(capsys, "spool", "send", "--from-host", "bench-3")
    assert (status, said) == (
        3,
        "kinetrum spool: Nothing in the spool was recorded on bench-3; see 'kinetrum spool list'.\n",
    )
    assert run(capsys, "spool", "send", "--from-host", "bench-2")[1] == "Everything is delivered.\n"
    assert "elsewhere/1" in run(capsys, "show", uid)[1]
    assert run(capsys, "spool")[1] == "Nothing waits.\n"


def test_what_was_refused(recording: Project, capsys: Out, tmp_path: Path) -> None:
    admin = recording.instance.service()
    member = recording.path("members", "a-contributor")
    begun = kinetrum.begin("refused")
    begun.flush()
    admin.call("PUT", member, json={"role": "viewer"})
    begun.result(recall=0.5)
    begun.flush()
    with pytest.warns(UserWarning, match="set aside"):
        begun.end()
    begun.flush()
    assert "set aside: results of run" in run(capsys, "spool")[1]
    assert "takes a contributor" in run(capsys, "spool", "list")[1]
    assert (
        "0 of what was set aside were taken now, 2 were refused again" in run(capsys, "spool", "send", "--refused")[1]
    )
    admin.call("PUT", member, json={"role": "contributor"})
    assert "2 of what was set aside were taken now, 0 were refused" in run(capsys, "spool", "send", "--refused")[1]
    assert "0.5" in run(capsys, "show", "refused/1")[1]


def test_what_was_refused_is_discarded_when_told(recording: Project, capsys: Out) -> None:
    begun = kinetrum.begin("conflict", params={"depth": 5})
    other = kinetrum.attach(begun.id, experiment="conflict")
    other.set(depth=6)
    begun.flush()
    with pytest.warns(UserWarning, match="depth was set to 5; 6"):
        begun.end()
    begun.flush()
    assert run(capsys, "spool", "discard")[1] == "1 refused record deleted.\n"
    assert run(capsys, "spool")[1] == "Nothing waits.\n"
    assert "problem: The parameter depth was set to 5" in run(capsys, "show", "conflict/1")[1]


def test_histories(recording: Project, capsys: Out) -> None:
    with kinetrum.begin("told", name="first", params={"depth": 5}) as begun:
        begun.measure(loss=1)
    begun.flush()
    run(capsys, "rename", "told/1", "second")
    run(capsys, "correct", "told/1", "depth=7", "-m", "a typo")
    run(capsys, "goal", "told", "loss", "lower", "--bound", "0.5", "--unit", "s")
    lines = run(capsys, "history", "told/1")[1].splitlines()
    assert [line.split("  ")[-1].strip() for line in lines[1:3]] == ["a typo", "first → second"]
    assert "depth 5 → depth 7" in lines[1]
    assert "running → finished" in lines[3]
    assert "loss lower <= 0.5 s" in run(capsys, "history", "experiment:told")[1]
    assert run(capsys, "history", "told/9")[0] == 3
