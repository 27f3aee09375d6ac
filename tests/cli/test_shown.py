"""What the terminal says of runs in every state, of what surrounds them, of many at once: recorded over HTTP, read here."""

from __future__ import annotations

import json
import threading
from typing import Any

import pytest

import kinetrum
from kinetrum.cli import output
from kinetrum.cli.main import main
from kinetrum.cli.runs import environment
from tests.cli.test_commands import Out, run
from tests.support.world import Project, new_id

AT = 1_790_000_000_000_000
SECOND = 1_000_000
Said = Any


@pytest.fixture
def say(recording: Project, capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch) -> Said:
    """Type a command: returns its status and what it printed, lines and error output."""
    monkeypatch.setenv("COLUMNS", "160")

    def typed(*words: str) -> tuple[int, str, str]:
        status = main(list(words))
        found = capsys.readouterr()
        return status, found.out, found.err

    return typed


class Told:
    """A run that is told of over HTTP, as some client would."""

    def __init__(self, project: Project, **fields: Any) -> None:
        self.project, self.begun = project, project.begin(**fields)
        self.ref: str = self.begun["reference"]

    def put(self, what: str, **body: Any) -> None:
        self.project.service("contributor").call("PUT", self.project.run_path(self.begun, *what.split("/")), json=body)

    def post(self, what: str, **body: Any) -> None:
        self.project.service("contributor").call("POST", self.project.run_path(self.begun, what), json=body)

    def results(self, **values: Any) -> Told:
        listed = [{"id": new_id(), "key": key, "value": value, "at": AT} for key, value in values.items()]
        self.post("results", results=listed)
        return self

    def end(self, status: str = "finished", reason: str | None = None, seconds: int = 90) -> Told:
        self.post("ending", status=status, reason=reason, ended_at=AT + seconds * SECOND)
        return self

    def prints(self, *lines: str, stream: str = "stdout", at: int = 1) -> Told:
        pieces = [{"position": at, "at": AT + at, "stream": stream, "text": "".join(lines)}]
        self.post("output", writer=new_id(), pieces=pieces)
        return self


def words(text: str) -> list[str]:
    return [" ".join(line.split()) for line in text.splitlines()]


def test_a_run_that_goes_on_says_how_far_it_is(recording: Project, say: Said) -> None:
    run = Told(recording, name="long one", labels={"purpose": "trial"})
    run.put("progress", done=1_200, total=4_000, since=AT, at=AT + 30 * SECOND)
    run.put(
        "surroundings",
        code={"commit": "4f2a9c1d8e7b6a5f4f2a9c1d8e7b6a5f4f2a9c1d", "branch": "main", "changed_files": 1},
    )
    run.put(f"activities/{new_id()}", name="preparing", started_at=AT, ended_at=AT + 75 * SECOND)
    run.put(f"activities/{new_id()}", name="training", started_at=AT + 75 * SECOND)
    run.put(f"activities/{new_id()}", name="checking", started_at=AT, ended_at=AT + 3_700 * SECOND, failed=True)
    run.post("problems", id=new_id(), text="a sample was late", at=AT)
    run.prints("one\n", "two\n")
    status, text, _ = say("show", run.ref)
    told = words(text)
    assert status == 0
    assert told[0] == f"{run.ref} long one running"
    assert any(line.startswith("1,200 of 4,000 done, expected to end") for line in told)
    assert "commit 4f2a9c1d8e7b on main, 1 changed file" in told
    assert f"2 printed lines: kinetrum show {run.ref} --output" in told
    assert "purpose=trial" in told
    assert "problem: a sample was late" in told
    assert "preparing +0.0 s 1 min 15 s" in told
    assert "training +1 min 15 s running" in told
    assert "checking +0.0 s 1 h 01 min failed" in told


def test_a_failed_run_ends_with_its_last_words(recording: Project, say: Said) -> None:
    run = Told(recording).end("failed", "Traceback\n  File\nMemoryError: trees do not fit\n")
    told = words(say("show", run.ref)[1])
    assert (told[0].split()[0], told[0].split()[-1]) == (run.ref, "failed")
    assert "MemoryError: trees do not fit" in told
    assert not any("Traceback" in line for line in told)


def test_a_parent_shows_its_children(recording: Project, say: Said) -> None:
    goals = {"recall": {"direction": "higher"}, "loss": {"direction": "lower"}}
    parent = Told(recording, goals=goals)
    child = Told(recording, parent=parent.begun["id"], name="try 1").results(recall=0.91, loss=0.2).end()
    Told(recording, parent=parent.begun["id"]).end("stopped")
    told = words(say("show", parent.ref)[1])
    assert "run name status recall ↑ loss ↓" in told
    assert f"{child.ref} try 1 finished 0.91 0.2" in told
    assert any(line.endswith("stopped – –") for line in told)
    assert f"Parent {parent.ref}" in words(say("show", child.ref)[1])


def test_what_was_binned_says_so(recording: Project, say: Said) -> None:
    run = Told(recording).end()
    assert say("bin", run.ref)[0] == 0
    told = words(say("show", run.ref)[1])
    assert any(line.startswith("in the bin since") and line.endswith("put there by A Contributor") for line in told)
    status, text, _ = say("bin")
    assert (status, words(text)[1].split()[0]) == (0, run.ref)
    assert say("bin", "--restore", run.ref)[1] == f"{run.ref} restored.\n"
    assert say("bin")[1] == "The bin is empty.\n"


def test_text_that_would_steer_the_terminal_does_not(recording: Project, say: Said) -> None:
    run = Told(recording, labels={"note": "x"}).results(verdict="\x1b[2Jgone\x07").end()
    run.prints("\x1b[31mred\x1b[0m and \x1b[2Jgone\n")
    shown = say("show", run.ref)[1] + say("show", run.ref, "--output")[1] + say("runs", "-e", "frost-alarm")[1]
    assert "\x1b" not in shown and "\x07" not in shown
    assert "red and gone" in shown


def test_output_by_stream_and_by_what_is_searched(recording: Project, say: Said) -> None:
    run = Told(recording).prints("epoch 1\n", "epoch 2\n").prints("careful\n", stream="stderr", at=9).end()
    assert sorted(say("show", run.ref, "--output")[1].splitlines()) == ["careful", "epoch 1", "epoch 2"]
    assert say("show", run.ref, "--output", "--stream", "stderr")[1] == "careful\n"
    assert say("show", run.ref, "--output", "--search", "2")[1] == "epoch 2\n"
    lines = [json.loads(line) for line in say("show", run.ref, "--output", "--json")[1].splitlines()]
    assert {line["stream"] for line in lines} == {"stdout", "stderr"}
    assert say("show", run.ref, "--output", "--search", "nothing like it")[1] == ""


def test_lines_that_were_left_out_are_told(recording: Project, say: Said, monkeypatch: pytest.MonkeyPatch) -> None:
    run = Told(recording).prints("one\n", "two\n").end()
    page = {
        "lines": [{"number": 0, "text": "one"}, {"number": 90, "text": "last"}],
        "unfinished": [],
        "head_end": 1,
        "tail_begin": 90,
        "next_line": 91,
        "more": False,
    }
    monkeypatch.setattr("kinetrum.client.reading.recorded_run.RecordedRun.output_page", lambda *_: page)
    _, text, told = say("show", run.ref, "--output")
    assert text == "one\nlast\n"
    assert "89 lines were left out here" in text + told


def test_following_ends_with_the_run(recording: Project, say: Said, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(environment, "_PAUSE_S", 0.02)
    run = Told(recording).prints("begun\n", "half a li")

    def go_on() -> None:
        run.prints("and more\n", at=50)
        run.end()

    later = threading.Timer(0.3, go_on)
    later.start()
    status, text, _ = say("show", run.ref, "--follow")
    later.join()
    assert status == 0
    assert text.splitlines()[0] == "begun"
    assert "and more" in text.splitlines()
    # What no line's end came for is shown once the run is over.
    assert text.count("half a li") == 1


def test_use_of_the_machine_over_time(recording: Project, say: Said) -> None:
    run = Told(recording)
    assert say("show", run.ref, "--resources")[1].startswith("Nothing was sampled; runs of a few seconds")
    samples = {
        "at": [AT, AT + 65 * SECOND],
        "cpu (%)": [97.6, None],
        "memory (bytes)": [1_500_000_000, 900],
        "network in (bytes/s)": [2_000, 3_000_000],
        "machine cores": [2, 2],
    }
    run.post("resources", id=new_id(), samples=samples)
    told = words(say("show", run.ref, "--resources")[1])
    assert told[0].startswith("until cpu (%) memory network in")
    assert told[1] == "+0.0 s 98 1.5 GB 2 kB/s"
    assert told[2] == "+1 min 05 s – 900 B 3 MB/s"
    assert json.loads(say("show", run.ref, "--resources", "--json")[1])["machine cores"] == [2, 2]


def test_code_and_what_differs_from_another_run(recording: Project, say: Said) -> None:
    first, second, bare = Told(recording), Told(recording), Told(recording)
    code = {"commit": "a" * 40, "branch": "main"}
    first.put("surroundings", code=code, packages={"numpy": "1.26"}, about={"python": "3.11"})
    second.put(
        "surroundings",
        code={**code, "commit": "b" * 40},
        packages={"numpy": "2.1", "scipy": "1.14"},
        about={"python": "3.12"},
        difference="@@ -1 +1 @@\n-old = 1\n+new = 2\n",
        script="print('frost')\n",
        job={"name": "nightly"},
    )
    told = words(say("show", second.ref, "--code")[1])
    assert "numpy 2.1, scipy 1.14" in told
    assert {"name nightly", "python 3.12", "Uncommitted changes", "+new = 2", "print('frost')"} <= set(told)
    told = words(say("show", second.ref, "--code", "--against", first.ref)[1])
    assert told[:3] == [f"Against {first.ref}", "code: another commit", "commit aaaaaaaaaaaa → bbbbbbbbbbbb"]
    assert {"numpy 1.26 2.1", "scipy – 1.14", "python 3.11 3.12"} <= set(told)
    assert say("show", bare.ref, "--code")[1].splitlines()[-1] == "Nothing was caught of its code and packages."
    assert json.loads(say("show", first.ref, "--code", "--json")[1])["packages"] == {"numpy": "1.26"}
    status, _, told = say("show", "artifact:nothing", "--code")
    assert status == 3 and "has no artifact 'nothing'" in told


@pytest.fixture
def several(recording: Project) -> list[Told]:
    """Six runs: two settings of three seeds each, the second of them the better."""
    found = []
    goals = {"recall": {"direction": "higher"}, "fit_seconds": {"direction": "lower", "unit": "s"}}
    for number in range(6):
        params = {"depth": 4 + number // 3, "seed": number % 3, "same": "x"}
        run = Told(
            recording,
            name=f"try {number}" if number % 2 else None,
            params=params,
            goals=goals,
            labels={"purpose": "trial" if number else "baseline"},
        )
        run.results(recall=0.8 + number / 50 + (0.1 if number > 2 else 0), fit_seconds=1.5 + number / 10)
        if number == 1:
            run.results(verdict="fine")
        found.append(run.end(seconds=60 + number))
    return found


def test_groups_in_the_terminal(several: list[Told], say: Said) -> None:
    told = words(say("runs", "-e", "frost-alarm", "--replicates", "--sort", "recall")[1])
    assert told[0].startswith("latest run runs started recall ↑ fit_seconds ↓")
    assert told[1].startswith(f"{several[5].ref} try 5 ×3") and "0.98 ±0.02" in told[1]
    assert "2 of 2 groups by replicates" in told[-1]
    told = words(say("runs", "-e", "frost-alarm", "--group", "purpose", "--columns", "recall,depth,name,verdict")[1])
    assert told[0].startswith("purpose runs started recall ↑ depth")
    by = {line.split()[0]: line for line in told}
    assert "4…5" in by["trial"] and "kinds" in by["trial"]
    assert by["baseline"].split()[1] == "×1"
    none = words(say("runs", "-e", "frost-alarm", "--group", "verdict", "--columns", "recall")[1])
    assert any(line.startswith("no verdict ×5") for line in none)
    assert say("runs", "recall > 99", "-e", "frost-alarm", "--group", "depth")[1] == "No run fits.\n"
    assert json.loads(say("runs", "-e", "frost-alarm", "--group", "depth", "--json")[1])["count"] == 2


def test_any_column_in_the_terminal(several: list[Told], say: Said) -> None:
    asked = "started,duration,label:purpose,param:depth,recall,host,problem"
    told = words(say("runs", "-e", "frost-alarm", "--columns", asked, "--sort", "number:asc", "--limit", "2")[1])
    assert told[0] == "run name status started duration purpose depth recall ↑ host problem"
    assert "60 baseline 4 0.8" in told[1]
    assert told[-1] == "2 of 6 runs"
    told = words(say("runs", "recall > 99", "-e", "frost-alarm")[1])
    assert told == ["No run of frost-alarm fits."]
    status, _, message = say("runs", "recal > 1", "-e", "frost-alarm")
    assert status == 2 and "recall" in message and message.splitlines()[-1].strip() == "^"


def test_many_compared_in_the_terminal(several: list[Told], say: Said) -> None:
    refs = [run.ref for run in several]
    told = words(say("compare", *refs, "--each", "--baseline", refs[0])[1])
    assert told[0].startswith(
        "Run 6 leads on recall: 1, +0.2 over Run 1, noise unknown, of 6 runs; Run 1 best on fit_seconds"
    )
    assert {
        "recall ↑ 0.8 0.82 + 0.84 + 0.96 + 0.98 + 1 +",
        "fit_seconds ↓ 1.5 1.6 − 1.7 − 1.8 − 1.9 − 2 −",
        "verdict – fine – – – –",
        "depth 4 4 4 5 5 5",
        "against run 1: + better, − worse, ~ within noise",
    } <= set(told)
    found = json.loads(say("compare", refs[0], refs[3], "--json")[1])
    assert [run["reference"] for run in found["runs"]] == [refs[0], refs[3]]
    assert say("compare", refs[0])[::2] == (2, "kinetrum compare: Name two or more runs to compare.\n")
    status, _, message = say("compare", refs[0], "frost-alarm/99")
    assert (status, message) == (3, f"kinetrum compare: There is no run frost-alarm/99; the newest is {refs[5]}.\n")


def test_effects_and_trade_offs_in_the_terminal(several: list[Told], say: Said) -> None:
    told = words(say("effects", "-e", "frost-alarm")[1])
    # Seeds of one setting are no trials of their own.
    assert told[0] == "2 different runs: too few, or too much alike, to tell what moves recall."
    told = words(say("runs", "-e", "frost-alarm", "--pareto", "recall,fit_seconds")[1])
    assert told[-1] == "6 of 6 runs; 1 setting is equal in all of them and not shown"
    # Of those that fit, one that no other beats in both.
    told = words(say("runs", "recall < 0.9", "-e", "frost-alarm", "--pareto", "recall:asc,fit_seconds")[1])
    assert [line.split()[0] for line in told[1:-1]] == [several[0].ref]
    status, _, message = say("runs", "-e", "frost-alarm", "--pareto", "recall")
    assert status == 2 and "between two or three values, not 1" in message
    status, _, message = say("runs", "-e", "frost-alarm", "--pareto", "recall,duration")
    assert status == 2 and "No goal says which way duration is better" in message


def test_views_in_the_terminal(several: list[Told], recording: Project, say: Said) -> None:
    assert say("views")[1].startswith("No views are saved here")
    body = {
        "name": "good ones",
        "experiment": "frost-alarm",
        "shared": True,
        "arrangement": {"q": "recall > 0.9", "sort": "recall", "cols": "recall,depth"},
    }
    recording.service("contributor").call("PUT", recording.path("views", new_id()), json=body)
    told = words(say("views")[1])
    assert told[0] == "view experiment of saved by at query"
    assert told[1].startswith("good ones frost-alarm the project A Contributor")
    told = words(say("runs", "--view", "good ones")[1])
    assert told[0] == "run name status started recall ↑ depth"
    assert told[-1] == "3 of 3 runs"


def test_numbers_in_columns_are_aligned() -> None:
    assert output.numbers([0.5, 0.25, 12]) == ["0.500", "0.250", "12.000"]
    assert [environment.seconds(micros) for micros in (0, 59_940_000, 61_000_000, 7_260_000_000)] == [
        "0.0 s",
        "59.9 s",
        "1 min 01 s",
        "2 h 01 min",
    ]


def test_runs_of_several_experiments_come_by_time(recording: Project, say: Said) -> None:
    for experiment, began in (("late", 30), ("early", 10), ("early", 40), ("late", 20)):
        recording.begin(experiment, started_at=AT + began * SECOND)
    listed = [line.split()[0] for line in say("runs", "--all")[1].splitlines()[1:5]]
    assert listed == ["early/2", "late/1", "late/2", "early/1"]
    by_number = [line.split()[0] for line in say("runs", "--all", "--sort", "number")[1].splitlines()[1:5]]
    assert sorted(by_number[:2]) == ["early/2", "late/2"]


def test_settings_that_are_equal_are_those_that_the_runs_have(recording: Project, say: Said) -> None:
    for seed in (1, 2):
        recording.begin(params={"depth": 5, "seed": seed})
    recording.begin(params={f"other-{at}": at for at in range(9)})
    assert "2 of 2 runs; 1 setting is equal in all of them" in say("runs", "depth = 5", "-e", "frost-alarm")[1]
    assert "1 of 1 run; 9 settings are equal" in say("runs", "has other-1", "-e", "frost-alarm")[1]
    assert words(say("runs", "-e", "frost-alarm")[1])[-1] == "3 of 3 runs"


def test_a_long_setting_hides_no_other(recording: Project, say: Said, monkeypatch: pytest.MonkeyPatch) -> None:
    begun = recording.begin(params={"prompt": "Answer as the night watch would. " * 9, "depth": 5})
    Told(recording, params={}).results(recall=0.5)
    monkeypatch.setenv("COLUMNS", "80")
    lines = say("show", begun["reference"])[1].splitlines()
    assert any(line.split() == ["depth", "5"] for line in lines)
    assert any(line.startswith("prompt") and line.endswith("…") for line in lines)
    assert "hidden for width" not in "\n".join(lines)


def test_what_is_always_shown_is_shown_once(recording: Project, say: Said) -> None:
    recording.begin(name="deep", params={"depth": 5})
    head, row = say("runs", "-e", "frost-alarm", "--columns", "depth,status,started")[1].splitlines()[:2]
    assert head.split() == ["run", "name", "depth", "status", "started"]
    assert row.split()[:4] == ["frost-alarm/1", "deep", "5", "running"]
    assert say("runs", "-e", "frost-alarm", "--columns", "depth")[1].split()[:5] == [
        "run",
        "name",
        "status",
        "started",
        "depth",
    ]


def test_an_experiment_in_the_place_of_a_query_is_told_from_one(recording: Project, say: Said) -> None:
    recording.begin("tumours")
    status, _, message = say("runs", "tumours")
    assert status == 2 and "Its runs: kinetrum runs -e tumours" in message
    status, _, message = say("runs", "tumour")
    assert status == 2 and "the query ends here" in message


def test_an_experiment_is_shown_and_labelled(recording: Project, capsys: Out) -> None:
    with kinetrum.begin("frost-alarm", goals={"recall": "higher >= 0.9"}) as begun:
        begun.result(recall=0.95)
    begun.flush()
    assert run(capsys, "label", "experiment:frost-alarm", "purpose=season")[1] == "experiment:frost-alarm labelled.\n"
    shown = run(capsys, "show", "experiment:frost-alarm")[1]
    assert "frost-alarm  1 run, last active" in shown
    assert "purpose=season" in shown
    assert "best: frost-alarm/1 with 0.95" in shown
    assert "recall  higher    0.9" in shown
    # A name that nothing else has needs no kind before it.
    assert run(capsys, "show", "frost-alarm")[1] == shown
    assert json.loads(run(capsys, "show", "experiment:frost-alarm", "--json")[1])["labels"] == {"purpose": "season"}
    assert run(capsys, "show", "experiment:none")[0] == 3


def test_things_are_found_by_a_part_of_their_names(recording: Project, capsys: pytest.CaptureFixture[str]) -> None:
    with kinetrum.begin("frost-alarm", name="shallow and slow") as run, run.activity("training") as training:
        training.used(__file__, name="nights")
    run.flush()
    assert main(["find", "shallow", "and"]) == 0
    said = capsys.readouterr().out
    assert "frost-alarm/1" in said
    assert main(["find", "nothing like it"]) == 0
    assert capsys.readouterr().out == "Nothing is named like 'nothing like it'.\n"
    assert main(["find", "frost", "--json"]) == 0
    assert {one["kind"] for one in json.loads(capsys.readouterr().out)} >= {"experiment"}
    # Which activity used it stands with the input.
    assert main(["show", "frost-alarm/1"]) == 0
    lines = capsys.readouterr().out.splitlines()
    assert lines[lines.index("Used") + 1].split() == ["artifact", "kind", "role", "activity", "digest"]
    assert "training" in lines[lines.index("Used") + 2]
