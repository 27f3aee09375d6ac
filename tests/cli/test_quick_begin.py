"""`kinetrum begin` in its quick form begins the run that the command of all forms begins, or leaves it to that."""

from __future__ import annotations

import fcntl
import json
import os
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

import kinetrum
from kinetrum.cli.recording.quick_begin import begin_quickly
from kinetrum.client.capture.about import user_name
from kinetrum.client.spool.destinations import Destination, read_destination, replace_destination
from kinetrum.client.spool.draining import drain
from kinetrum.client.spool.obstructions import Obstruction, note_file, write_note
from kinetrum.client.transport import shell_place
from kinetrum.client.transport.connection import save
from kinetrum.client.transport.shell_place import known_place
from tests.client.recording.test_run import records
from tests.support.programs import run_whole_command, wait_for
from tests.support.world import Project

KINETRUM = [sys.executable, "-m", "kinetrum.cli.main"]
URL = "http://127.0.0.1:9"
PLAIN = [
    ["begin"],
    ["begin", "frost"],
    ["begin", "frost-alarm.v2", "--name", "first-try", "--project", "orchard"],
    ["begin", "--set=depth=6", "--set", "learner=forest", "frost", "--seed", "7"],
]
OTHERS = [
    ["begin", "Frost"],
    ["begin", "best"],
    ["begin", "frost", "pear"],
    ["begin", "frost", "--goal", "recall=higher"],
    ["begin", "frost", "--label", "a=b"],
    ["begin", "frost", "--params", "settings.toml"],
    ["begin", "frost", "--lease", "60"],
    ["begin", "frost", "--leave-out", "all"],
    ["begin", "frost", "--set", "depth"],
    ["begin", "frost", "--set", "depth="],
    ["begin", "frost", "--set", "depth=[1]"],
    ["begin", "frost", "--set", "a=1", "--set", "a=1"],
    ["begin", "frost", "--set", "seed=1", "--seed", "1"],
    ["begin", "frost", "--seed", "1.5"],
    ["begin", "frost", "--name", "two words"],
    ["begin", "frost", "--project", "Orchard"],
    ["begin", "frost", "--project"],
    ["begin", "--help"],
]


@pytest.fixture
def root(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """A spool of which it is known where runs go that begin in this folder; nobody delivers."""
    work = tmp_path / "work"
    work.mkdir()
    monkeypatch.chdir(work)
    monkeypatch.setenv("KINETRUM_SPOOL", str(tmp_path / "spool"))
    monkeypatch.setenv("KINETRUM_SENDER", "off")
    monkeypatch.setenv("KINETRUM_HOME", str(tmp_path / "instance"))
    monkeypatch.setenv("KINETRUM_CONNECTIONS", str(tmp_path / "connections.json"))
    monkeypatch.setenv("KINETRUM_LEAVE_OUT", "code,job")
    for name in ("URL", "TOKEN", "PROJECT", "EXPERIMENT", "RUN"):
        monkeypatch.delenv(f"KINETRUM_{name}", raising=False)
    save(URL, "t", "orchard")
    run_whole_command(["begin", "frost"])
    return tmp_path / "spool"


def beginning(root: Path, run: str) -> tuple[dict[str, Any], dict[str, Any]]:
    """Return a run's first record, and what the commands that come after find of it."""
    (record,) = [record for record in records(root) if record["run"] == run]
    kept = json.loads((root / "runs" / f"{run}.json").read_text())
    record["about"].pop("process")
    own = {"run", "started_at"}
    return (
        {key: value for key, value in record.items() if key not in own},
        {key: value for key, value in kept.items() if key not in own},
    )


@pytest.mark.parametrize("words", PLAIN, ids=" ".join)
@pytest.mark.parametrize("above", [None, "01912345-6789-7abc-8def-0123456789ab"])
def test_the_quick_form_begins_what_the_other_begins(
    words: list[str], above: str | None, root: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    if above is not None:
        monkeypatch.setenv("KINETRUM_RUN", above)
    expected = beginning(root, run_whole_command(words))
    capsys.readouterr()
    assert begin_quickly(words) == 0
    assert beginning(root, capsys.readouterr().out.strip()) == expected
    assert expected[0]["parent"] == above
    assert expected[0]["about"] == {"user": user_name()}


@pytest.mark.parametrize("words", OTHERS, ids=" ".join)
def test_what_is_not_plain_is_left_alone(words: list[str], root: Path) -> None:
    before = sorted(root.rglob("*"))
    assert begin_quickly(words) is None
    assert sorted(root.rglob("*")) == before


def set_variable(name: str) -> Callable[[Path], None]:
    def change(_: Path) -> None:
        os.environ[name] = "http://127.0.0.1:19" if name == "KINETRUM_URL" else "other"

    return change


def write_settings(root: Path) -> None:
    (root.parent / "kinetrum.toml").write_text('project = "pear"\n')


def connect_elsewhere(_: Path) -> None:
    save("http://127.0.0.1:19", "t", "orchard")


def redirect(root: Path) -> None:
    (name,) = [path.stem for path in (root / "destinations").glob("*.json")]
    assert read_destination(root, name) == Destination(URL, "t")
    replace_destination(root, name, Destination("http://127.0.0.1:19", "t"))


def start_instance(root: Path) -> None:
    folder = root.parent / "instance"
    folder.mkdir()
    # Held until this process ends.
    fcntl.flock(os.open(folder / "lock", os.O_RDWR | os.O_CREAT), fcntl.LOCK_EX)


def leave(root: Path) -> None:
    os.chdir(root.parent)


def let_an_hour_pass(root: Path) -> None:
    kept = json.loads((root / "shell-place.json").read_text())
    kept["at"] -= 3_601
    (root / "shell-place.json").write_text(json.dumps(kept))


def stand_in_the_way(root: Path) -> None:
    (name,) = [path.stem for path in (root / "destinations").glob("*.json")]
    now = time.time()
    write_note(note_file(root, name, "files"), Obstruction("unavailable", "not reached", now, now, now + 9))


def write_nonsense(root: Path) -> None:
    (root / "shell-place.json").write_text("{")


CHANGES = [
    *(set_variable(name) for name in shell_place._VARIABLES),
    write_settings,
    connect_elsewhere,
    redirect,
    start_instance,
    leave,
    let_an_hour_pass,
    stand_in_the_way,
    write_nonsense,
]


@pytest.mark.parametrize("change", CHANGES, ids=lambda change: change.__qualname__.split(".")[0])
def test_whatever_changes_is_found_out_anew(
    change: Callable[[Path], None], root: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    for name in shell_place._VARIABLES:
        monkeypatch.setenv(name, os.environ.get(name, ""))
        if not os.environ[name]:
            monkeypatch.delenv(name)
    assert begin_quickly(["begin", "frost"]) == 0
    change(root)
    before = sorted(root.rglob("*"))
    assert begin_quickly(["begin", "frost"]) is None
    assert sorted(root.rglob("*")) == before


def test_a_place_without_a_service_is_not_kept(root: Path, monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    monkeypatch.setenv("KINETRUM_CONNECTIONS", str(tmp_path / "none.json"))
    (root / "shell-place.json").unlink()
    subprocess.run([*KINETRUM, "begin", "frost"], capture_output=True, timeout=60, check=True)
    assert known_place(str(root)) is None


def test_tokens_are_kept_from_others(root: Path) -> None:
    assert (root / "shell-place.json").stat().st_mode & 0o777 == 0o600


def test_nothing_heavy_is_loaded(root: Path) -> None:
    heavy = {
        "argparse",
        "dataclasses",
        "hashlib",
        "inspect",
        "kinetrum.cli.commands",
        "pathlib",
        "subprocess",
        "typing",
    }
    code = (
        "import sys\nfrom kinetrum.cli.main import main\nstatus = main(['begin', 'frost'])\nprint(status, *sys.modules)"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, timeout=60, check=True)
    run, status, *loaded = done.stdout.split()
    assert status == "0"
    assert set(loaded) & heavy == set()
    assert beginning(root, run)[0]["experiment"] == "frost"


@pytest.mark.usefixtures("catching")
def test_the_code_of_a_shells_run_is_that_of_its_folder(
    recording: Project, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Not that of the folder in which Kinetrum lies; in the whole form, in the quick one, and line by line."""
    folder = tmp_path / "repository"
    folder.mkdir()
    (folder / "train.sh").write_text("echo one\n")
    git = ["git", "-c", "user.name=Aster", "-c", "user.email=aster@example.org"]
    for words in (["init", "-q", "-b", "frost"], ["add", "."], ["commit", "-qm", "one"]):
        subprocess.run([*git, *words], cwd=folder, check=True, timeout=60)
    monkeypatch.chdir(folder)
    runs = [
        subprocess.run([*KINETRUM, "begin", "loops"], capture_output=True, text=True, check=True, timeout=60).stdout
        for _ in range(2)
    ]
    recorder = [*KINETRUM, "shell-recorder", "-e", "loops"]
    subprocess.run(recorder, input="result a=1\n", capture_output=True, text=True, check=True, timeout=60)

    def codes() -> list[dict[str, Any]]:
        drain(tmp_path / "spool", 30)
        return [code_of(ref) for ref in (*map(str.strip, runs), "loops/last")]

    wait_for(lambda: all(codes()))
    assert [code["branch"] for code in codes()] == ["frost", "frost", "frost"]
    assert {code.get("entry") for code in codes()} == {None}
    assert {(code["changed_files"], code["untracked_files"]) for code in codes()} == {(0, 0)}


def code_of(ref: str) -> dict[str, Any]:
    found = kinetrum.open(ref)
    assert isinstance(found, kinetrum.RecordedRun)
    return dict(found.surroundings().get("code") or {})
