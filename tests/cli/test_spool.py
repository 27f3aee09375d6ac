"""`kinetrum spool`: what waits, what is left alone, what was refused, and what becomes of it."""

from __future__ import annotations

import json
import subprocess
import sys
import time
from pathlib import Path

import pytest

import kinetrum
from tests.cli.test_commands import Out, run
from tests.support.programs import run_script, wait_for
from tests.support.world import Project

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


CLOSED = "http://127.0.0.1:9"


def test_why_nothing_arrives_is_told_where_people_look(
    recording: Project, capsys: Out, monkeypatch: pytest.MonkeyPatch
) -> None:
    uid = run_script(SCRIPT, KINETRUM_URL=CLOSED).stdout.strip()
    status, shown, _ = run(capsys, "spool")
    assert status == 0
    assert CLOSED in shown
    assert "The service at http://127.0.0.1:9 was not reached (Connection refused). Since " in shown
    assert "next try in" in shown or "tried again now" in shown
    (waiting,) = json.loads(run(capsys, "spool", "--json")[1])["waiting"]
    assert waiting["addresses"] == [CLOSED]
    assert waiting["runs"] == waiting["begun"] == [uid]
    found = waiting["obstruction"]
    assert found["since"] <= found["tried_at"] < found["next_try"]
    assert "token" not in json.dumps(waiting)
    status, _, told = run(capsys, "spool", "send")
    assert status == 5
    assert "3 records of 1 run were not acknowledged: The service at http://127.0.0.1:9 was not reached" in told
    # What reads elsewhere does not wait, unless told to; then it waits for its own alone.
    assert run(capsys, "runs", "--wait")[0] == 0


def test_exit_statuses_tell_what_kind_of_obstacle_it_is(
    recording: Project, capsys: Out, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("KINETRUM_TOKEN", "not-a-token")
    assert run_script(SCRIPT).returncode == 0
    status, _, told = run(capsys, "spool", "send")
    assert status == 4, told
    assert "This is no whole token" in told
    monkeypatch.setenv("KINETRUM_TOKEN", recording.tokens["contributor"])
    assert run(capsys, "spool", "send")[:2] == (0, "Everything is delivered.\n")


def test_what_waits_is_redirected(recording: Project, capsys: Out, monkeypatch: pytest.MonkeyPatch) -> None:
    uid = run_script(SCRIPT, KINETRUM_URL=CLOSED).stdout.strip()
    status, _, told = run(capsys, "spool", "redirect", "--to", "http://127.0.0.1:19")
    assert (status, "127.0.0.1:19 was not reached" in told) == (5, True)
    monkeypatch.setenv("KINETRUM_TOKEN", "not-a-token")
    assert run(capsys, "spool", "redirect")[0] == 4
    monkeypatch.setenv("KINETRUM_TOKEN", recording.tokens["contributor"])
    here = recording.instance.url
    assert (
        run(capsys, "spool", "redirect", "--of", "http://127.0.0.1:10")[1] == "Nothing waits for http://127.0.0.1:10.\n"
    )
    assert run(capsys, "spool", "redirect", "--of", CLOSED)[1] == (
        f"3 records of 1 run go to {here} from now on, and not to {CLOSED}.\n"
    )
    assert uid in run(capsys, "runs", "-e", "elsewhere", "--json")[1]
    assert "Nothing that waits is held up" in run(capsys, "spool", "redirect")[1]


def test_the_rest_of_a_run_is_not_sent_to_where_its_beginning_is_not(
    recording: Project, capsys: Out, monkeypatch: pytest.MonkeyPatch
) -> None:
    script = "import kinetrum\nrun = kinetrum.attach('{}', experiment='elsewhere')\nrun.measure(loss=1, step=1)"
    unknown = "01a21f66-8f36-7063-a832-703e5c9c3b1e"
    run_script(script.format(unknown), KINETRUM_URL=CLOSED)
    status, _, told = run(capsys, "spool", "redirect")
    assert status == 1
    assert f"1 run began elsewhere, and {recording.instance.url} does not know" in told
    assert unknown in told
    (waiting,) = json.loads(run(capsys, "spool", "--json")[1])["waiting"]
    assert waiting["addresses"] == [CLOSED]
    run(capsys, "spool", "discard", "--waiting", "--yes")
    # Of a run that began there, the rest is taken.
    with kinetrum.begin("elsewhere") as begun:
        begun.flush()
        run_script(script.format(begun.id), KINETRUM_URL=CLOSED)
        assert run(capsys, "spool", "redirect")[0] == 0
    assert run(capsys, "spool", "send")[0] == 0
    found = kinetrum.open(begun.id)
    assert isinstance(found, kinetrum.RecordedRun)
    assert found.metrics["loss"].points().value.tolist() == [1.0]


def test_what_waits_is_discarded_when_told(recording: Project, capsys: Out) -> None:
    run_script(SCRIPT, KINETRUM_URL=CLOSED)
    kept = kinetrum.begin("kept", url="http://127.0.0.1:19")
    wait_for(lambda: len(json.loads(run(capsys, "spool", "--json")[1])["waiting"]) == 2)
    told = run(capsys, "spool", "discard", "--waiting", "--of", CLOSED)
    assert told[1] == "3 records of 1 run would be deleted.\n"
    assert "Nothing was changed. Add --yes" in told[2]
    assert len(json.loads(run(capsys, "spool", "--json")[1])["waiting"]) == 2
    assert run(capsys, "spool", "discard", "--waiting", "--yes")[1] == "3 records of 1 run deleted.\n"
    # What still records is left alone.
    (left,) = json.loads(run(capsys, "spool", "--json")[1])["waiting"]
    assert left["runs"] == [kept.id]
    assert "Nothing was deleted: no process that has ended" in run(capsys, "spool", "discard", "--waiting", "--yes")[1]
    kept.end()


def test_options_of_other_words_are_refused(recording: Project, capsys: Out) -> None:
    assert run(capsys, "spool", "send", "--to", CLOSED)[::2] == (
        2,
        "kinetrum spool: --to does not go with 'spool send'; see --help.\n",
    )
    assert run(capsys, "spool", "discard", "--yes")[0] == 2
    assert run(capsys, "spool", "redirect", "--to", "bench-2")[0] == 2


def test_track_and_shell_commands_tell_why(recording: Project, capsys: Out, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("KINETRUM_URL", CLOSED)
    started = time.monotonic()
    done = subprocess.run(
        [sys.executable, "-m", "kinetrum.cli.main", "track", "-e", "elsewhere", "--", "true"],
        capture_output=True,
        text=True,
        check=False,
    )
    assert done.returncode == 0
    assert time.monotonic() - started < 8
    assert "not delivered yet: " in done.stderr
    assert "http://127.0.0.1:9 was not reached" in done.stderr
    assert done.stderr.count("kinetrum:") == 1
    ended = subprocess.run(
        "export KINETRUM_RUN=$({0} begin elsewhere); {0} measure loss=1 --step 1; sleep 1.5; {0} end".format(
            f"{sys.executable} -m kinetrum.cli.main"
        ),
        shell=True,
        capture_output=True,
        text=True,
        check=False,
    )
    assert ended.returncode == 0
    assert ended.stderr.count("kinetrum:") == 1
    assert "was not reached" in ended.stderr
