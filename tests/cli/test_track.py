"""`track`, as a person types it in a terminal or a script."""

from __future__ import annotations

import contextlib
import os
import pty
import select
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

import kinetrum
from tests.support.programs import ended, senders_of, stop_sender, wait_for
from tests.support.world import Project

pytestmark = pytest.mark.usefixtures("catching")
KINETRUM = [sys.executable, "-m", "kinetrum.cli.main"]


@pytest.fixture
def work(recording: Project, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    folder = tmp_path / "work"
    folder.mkdir()
    monkeypatch.chdir(folder)
    return folder


def kt(*words: str, stdin: str = "", **environment: str) -> subprocess.CompletedProcess[str]:
    return subprocess.run(
        [*KINETRUM, *words],
        capture_output=True,
        text=True,
        timeout=55,
        check=False,
        input=stdin,
        env=os.environ | environment,
    )


def track(*words: str, **environment: str) -> tuple[subprocess.CompletedProcess[str], kinetrum.RecordedRun]:
    done = kt("track", *words, **environment)
    return done, told(done.stderr)


def told(stderr: str) -> kinetrum.RecordedRun:
    """Return the run whose reference was printed last."""
    last = stderr.strip().splitlines()[-1].split()
    assert last[0] == "kinetrum:", stderr
    found = kinetrum.open(last[1])
    assert isinstance(found, kinetrum.RecordedRun)
    assert found.status == last[2]
    return found


def texts(run: kinetrum.RecordedRun, stream: str | None = None) -> list[str]:
    return [line.text for line in run.output(stream)]


def test_a_script_that_knows_nothing_of_us(work: Path) -> None:
    (work / "settings.yaml").write_text("depth: 5\nopt: {rate: 0.1}\n")
    (work / "data.csv").write_text("1,2\n")
    (work / "train.py").write_text("""
import json, os, subprocess, sys
print("training", sys.argv[1:], flush=True)
subprocess.run(["echo", "from a child"])
os.write(2, b"natively to stderr\\n")
with open("scores.csv", "w") as file:
    file.write("epoch,loss\\n" + "".join(f"{at},{1 / (at + 1)}\\n" for at in range(5)))
json.dump({"recall": 0.9}, open("final.json", "w"))
os.makedirs("out"); open("out/net.bin", "w").write("net")
""")
    done, run = track(
        "-e",
        "frost-alarm",
        "--name",
        "unchanged",
        "--params",
        "settings.yaml",
        "--set",
        "opt.rate=0.1",
        "--set",
        "extra=a",
        "--seed",
        "7",
        "--label",
        "purpose=test",
        "--goal",
        "recall=higher >= 0.8",
        "--metrics",
        "scores.csv",
        "--metrics",
        "final.json",
        "--used",
        "nights=data.csv",
        "--generated",
        "net=out/*.bin",
        "--",
        sys.executable,
        "train.py",
        "--depth",
        "5",
    )
    assert (done.returncode, done.stdout) == (0, "training ['--depth', '5']\nfrom a child\n")
    assert (run.status, run.name, run.labels) == ("finished", "unchanged", {"purpose": "test"})
    assert run.params == {"depth": 5, "opt.rate": 0.1, "extra": "a", "seed": 7}
    assert run.metrics["loss"].points().value.tolist() == [1 / (at + 1) for at in range(5)]
    assert (run.results, run.used, run.generated, run.problems) == ({"recall": 0.9}, ["nights@1"], ["net@1"], [])
    assert texts(run, "stdout") == ["training ['--depth', '5']", "from a child"]
    assert texts(run, "stderr") == ["natively to stderr"]
    around = run.surroundings()
    assert around["about"]["command"].endswith("train.py --depth 5")
    assert around["code"]["entry"] == "train.py"
    assert "from a child" in around["script"]
    assert around["packages"]["numpy"]


@pytest.mark.parametrize("command", [["track", "-e", "e"], ["begin", "e"]])
def test_a_value_that_the_file_says_otherwise_is_refused(work: Path, command: list[str]) -> None:
    (work / "settings.yaml").write_text("train: {max_depth: 3}\n")
    words = [*command, "--params", "settings.yaml", "--set", "train.max_depth=50"]
    done = kt(*words, *(["--", "touch", "ran"] if command[0] == "track" else []))
    assert done.returncode == 2
    assert "--set train.max_depth=50 contradicts settings.yaml, which says 3" in done.stderr
    assert not (work / "ran").exists()


def test_what_a_command_says_in_lines(work: Path) -> None:
    (work / "net.bin").write_text("net")
    script = """
echo 'kinetrum: set depth=6 learner=forest'
for at in 0 1 2; do echo "kinetrum: measure step=$at loss=0.$at"; done
echo 'kinetrum: result verdict="not bad"' >&2
echo 'kinetrum: generated net.bin kind=model'
echo 'kinetrum: progress 2/3'
echo 'kinetrum: set depth=7'
echo 'kinetrum: measure nonsense'
"""
    done, run = track("--", "bash", "-c", script)
    assert run.params == {"depth": 6, "learner": "forest"}
    assert run.metrics["loss"].points().step.tolist() == [0, 1, 2]
    assert run.results == {"verdict": "not bad"}
    assert run.generated == ["net@1"]
    assert run.progress is not None
    assert (run.progress["done"], run.progress["total"]) == (2, 3)
    assert len(run.problems) == 2
    assert "depth" in " ".join(run.problems)
    assert "problem:" in done.stderr


@pytest.mark.parametrize(
    ("script", "code", "status", "reason"),
    [
        ("exit 0", 0, "finished", None),
        ("echo why >&2; exit 3", 3, "failed", "why\nexited with status 3"),
        ("kill -9 $$", 137, "failed", "killed by SIGKILL, as the system does when memory runs out"),
        ("kill -SEGV $$", 139, "failed", "killed by SIGSEGV"),
        ("bash -c 'kill -9 $$'; exit $?", 137, "failed", "a program it ran was killed by SIGKILL"),
    ],
)
def test_the_end_is_told_truly(work: Path, script: str, code: int, status: str, reason: str | None) -> None:
    done, run = track("--", "bash", "-c", script)
    assert (done.returncode, run.status) == (code, status)
    assert (run.reason is None) if reason is None else (reason in (run.reason or ""))


@pytest.mark.parametrize(("words", "status"), [(["no-such-command"], 127), (["./not-executable"], 126)])
def test_of_a_mistyped_command_nothing_is_recorded(work: Path, words: list[str], status: int) -> None:
    (work / "not-executable").write_text("x")
    done = kt("track", "-e", "mistyped", "--", *words)
    assert done.returncode == status
    assert words[0] in done.stderr
    assert kt("runs", "-e", "mistyped").returncode == 3


@pytest.mark.parametrize(
    ("words", "part"),
    [
        ([], "after --"),
        (["-e", "mistyped", "--used", "nothing/*", "--", "true"], "no file fits"),
        (["--params", "none.toml", "--", "true"], "is not there"),
        (["--set", "depth", "--", "true"], "not of the form KEY=VALUE"),
        (["--leave-out", "colour", "--", "true"], "unknown part 'colour'"),
        (["--goal", "x=sideways", "--", "true"], "goal"),
    ],
)
def test_what_is_wrong_is_said_before_anything_runs(work: Path, words: list[str], part: str) -> None:
    done = kt("track", *words)
    assert done.returncode in {2, 3}
    assert part in done.stderr
    assert "Traceback" not in done.stderr
    assert kt("runs", "-e", "mistyped").returncode == 3


def begun_tracking(*words: str) -> subprocess.Popen[str]:
    process = subprocess.Popen(
        [*KINETRUM, "track", "--grace", "1", "--", *words],
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        text=True,
        env=os.environ | {"PYTHONUNBUFFERED": "1", "PYTHONFAULTHANDLER": "1"},
    )
    assert process.stdout is not None
    assert process.stdout.readline() == "ready\n"
    return process


@pytest.mark.parametrize("number", [signal.SIGTERM, signal.SIGINT, signal.SIGUSR1])
def test_signals_are_passed_on(work: Path, number: signal.Signals) -> None:
    script = """
import signal, sys, time
signal.signal(int(sys.argv[1]), lambda *_: (print("got it"), sys.exit(5)))
print("ready")
for _ in range(400):
    # A signal that comes just before a long sleep begins would be seen at its end only.
    time.sleep(0.1)
"""
    process = begun_tracking(sys.executable, "-c", script, str(int(number)))
    process.send_signal(number)
    out, err = ended(process, 40)
    assert (process.returncode, out) == (5, "got it\n")
    expected = "failed" if number == signal.SIGUSR1 else "stopped"
    assert told(err).status == expected


def test_a_command_that_takes_no_notice_is_killed_after_its_grace(work: Path) -> None:
    script = "import signal, time\nsignal.signal(signal.SIGTERM, signal.SIG_IGN)\nprint('ready'); time.sleep(60)"
    process = begun_tracking(sys.executable, "-c", script)
    process.terminate()
    _, err = ended(process, 40)
    run = told(err)
    assert (process.returncode, run.status) == (137, "stopped")
    assert "took no notice of SIGTERM" in (run.reason or "")


def test_a_child_that_outlives_the_command_holds_nothing_up(work: Path) -> None:
    began = time.monotonic()
    done, run = track("--", "bash", "-c", "echo here; sleep 45 & exit 0")
    assert time.monotonic() - began < 30
    assert (done.stdout, run.status, texts(run)) == ("here\n", "finished", ["here"])


def test_in_a_terminal_the_command_has_one_too(work: Path) -> None:
    """Colours and progress bars as without us; what is typed reaches the command."""
    script = (
        # In one write: the prompt goes to the other stream, and between the two there is no order.
        "import sys; terminals = f'{sys.stdout.isatty()} {sys.stderr.isatty()}'; name = input('name? ')\n"
        "sys.stdout.write(f'{terminals} {name}\\n'); print('\\x1b[32mgreen\\x1b[0m')"
    )
    leader, follower = pty.openpty()
    process = subprocess.Popen(
        [*KINETRUM, "track", "--", sys.executable, "-c", script],
        stdin=follower,
        stdout=follower,
        stderr=follower,
        start_new_session=True,
    )
    os.close(follower)
    os.write(leader, b"Tomas\n")
    shown = b""
    give_up = time.monotonic() + 40
    while time.monotonic() < give_up:
        if not select.select([leader], [], [], 0.5)[0]:
            continue
        with contextlib.suppress(OSError):
            piece = os.read(leader, 4096)
            shown += piece
            if piece:
                continue
        break
    assert process.wait(20) == 0
    os.close(leader)
    text = shown.decode()
    assert "True True Tomas" in text
    assert "\x1b[32mgreen\x1b[0m" in text
    # The prompt may arrive last, in the same line.
    run = told(text.replace("\r", "")[text.replace("\r", "").rindex("kinetrum: ") :])
    assert "\x1b[32mgreen\x1b[0m" in texts(run)


def test_binary_garbage_and_a_line_without_end(work: Path) -> None:
    script = "import os\nfor at in range(10): os.write(1, bytes(range(256)) * 64 + b'x' * 100_000)\nos.write(1, b'\\nend\\n')"
    done = subprocess.run(
        [*KINETRUM, "track", "--", sys.executable, "-c", script], capture_output=True, timeout=55, check=False
    )
    assert len(done.stdout) == 10 * (256 * 64 + 100_000) + 5
    run = told(done.stderr.decode())
    lines = texts(run)
    assert lines[-1] == "end"
    assert max(map(len, lines)) < 8_200
    assert run.status == "finished"


def test_a_begin_inside_becomes_a_child(work: Path) -> None:
    script = "import kinetrum\nwith kinetrum.begin(params={'a': 1}) as run: run.measure(loss=1)"
    _, run = track("-e", "frost-alarm", "--", sys.executable, "-c", script)
    assert run.children == ["frost-alarm/2"]


def test_parts_can_be_left_out(work: Path) -> None:
    _, run = track("--leave-out", "output,code,packages,command", "--", "echo", "secret")
    around = run.surroundings()
    assert (texts(run), around["code"], around["packages"]) == ([], None, {})
    assert "command" not in around["about"]


def test_what_is_from_before_is_not_of_this_run(work: Path) -> None:
    (work / "scores.json").write_text('{"recall": 0.1}')
    (work / "net.bin").write_text("old")
    os.utime(work / "net.bin", (1e9, 1e9))
    _, run = track("--metrics", "scores.json", "--generated", "net.bin", "--", "true")
    assert (run.results, run.generated) == ({}, [])
    assert len(run.problems) == 2
    assert all("from before" in problem for problem in run.problems)


def test_while_the_service_is_away_the_command_runs_and_the_run_is_kept(work: Path, tmp_path: Path) -> None:
    spool = tmp_path / "spool"
    done = kt("track", "--", "echo", "hello", KINETRUM_URL="http://127.0.0.1:1", KINETRUM_SPOOL=str(spool))
    assert (done.returncode, done.stdout) == (0, "hello\n")
    assert "not delivered yet" in done.stderr
    # The sender goes on trying, and ends when it is asked to although the command held its signals back.
    assert senders_of(spool)
    stop_sender(spool)
    assert not senders_of(spool)


def test_output_is_shown_and_followed(work: Path) -> None:
    script = "import time\nfor at in range(6): print('line', at, flush=True); time.sleep(0.4)"
    process = subprocess.Popen(
        [*KINETRUM, "track", "-e", "frost-alarm", "--", sys.executable, "-c", script],
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
    )
    wait_for(lambda: kt("show", "frost-alarm/1", "--follow", "--output").returncode == 0, 40)
    assert process.wait(30) == 0
    lines = [f"line {at}" for at in range(6)]
    assert kt("show", "frost-alarm/1", "--output").stdout.splitlines() == lines
    assert kt("show", "frost-alarm/1", "--output", "--search", "NE 3").stdout == "line 3\n"
    assert kt("show", "frost-alarm/1", "--output", "--stream", "stderr").stdout == ""
    assert '"number": 5' in kt("show", "frost-alarm/1", "--output", "--json").stdout
    assert "packages" in kt("show", "frost-alarm/1", "--code", "--json").stdout
    kt("track", "-e", "frost-alarm", "--", "echo", "other")
    against = kt("show", "frost-alarm/2", "--code", "--against", "previous")
    assert "Against frost-alarm/1" in against.stdout
    assert "echo other" in against.stdout
    assert kt("show", "frost-alarm/1", "--code", "--against", "previous").returncode == 3
    assert kt("show", "frost-alarm/1", "--resources").returncode == 0
