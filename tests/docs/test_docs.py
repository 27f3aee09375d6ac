"""What the documents tell people to type works, and what they point to is there."""

from __future__ import annotations

import os
import re
import shlex
import subprocess
import sys
from pathlib import Path

import pytest

import kinetrum
from kinetrum.cli.commands import make_parser
from tests.support.programs import run_program
from tests.support.world import Project

ROOT = Path(__file__).parent.parent.parent
DOCUMENTS = [ROOT / "README.md", ROOT / "CONTRIBUTING.md", *sorted((ROOT / "docs").rglob("*.md"))]


def blocks(path: Path, language: str) -> list[str]:
    return re.findall(rf"```{language}\n(.*?)```", path.read_text(encoding="utf-8"), re.S)


@pytest.mark.parametrize("path", DOCUMENTS, ids=lambda path: path.name)
def test_links_lead_somewhere(path: Path) -> None:
    for target in re.findall(r"\]\(([^)#]+)\)", path.read_text(encoding="utf-8")):
        if not target.startswith("http"):
            assert (path.parent / target).exists(), target


@pytest.mark.parametrize("path", DOCUMENTS, ids=lambda path: path.name)
def test_commands_are_understood(path: Path) -> None:
    """Every line that begins with the program's name, outside of prose, parses."""
    parser = make_parser()
    text = path.read_text(encoding="utf-8").replace("\\\n", " ")
    lines = re.findall(r"^    (?:printf .* \| )?kinetrum (.+)$", text, re.M)
    for line in lines:
        arguments = shlex.split(line, comments=True)
        found = parser.parse_args(arguments)
        assert found.command == arguments[0]


def test_every_picture_is_linked() -> None:
    readme = (ROOT / "README.md").read_text(encoding="utf-8")
    pictures = sorted((ROOT / "docs" / "screenshots").glob("*.png"))
    assert 0 < len(pictures) < 20
    for picture in pictures:
        assert f"docs/screenshots/{picture.name}" in readme


def test_every_target_of_make_is_there() -> None:
    targets = re.findall(r"^([a-z]+):", (ROOT / "Makefile").read_text(), re.M)
    for path in DOCUMENTS:
        for target in re.findall(r"`make ([a-z]+)`", path.read_text(encoding="utf-8")):
            assert target in targets, (path, target)


def test_the_tutorial(recording: Project, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    tutorial = ROOT / "docs" / "tutorial.md"
    script, fetching = blocks(tutorial, "python")
    (tmp_path / "train.py").write_text(script)
    monkeypatch.chdir(tmp_path)
    monkeypatch.setenv("KINETRUM_TOKEN", recording.tokens["maintainer"])
    for depth in ("2", "6"):
        done = subprocess.run([sys.executable, "train.py", depth], capture_output=True, text=True, check=False)
        assert done.returncode == 0, done.stderr
    commands = re.findall(r"^    (kinetrum .+)$", tutorial.read_text(encoding="utf-8"), re.M)
    assert len(commands) >= 6
    for command in commands:
        arguments = [sys.executable, "-m", "kinetrum.cli.main", *shlex.split(command)[1:]]
        done = subprocess.run(arguments, capture_output=True, text=True, check=False)
        # The last one is told to fail: there is no earlier version to go back to.
        assert done.returncode == (1 if "rollback" in command else 0), (command, done.stderr)
        if "promote" in command:
            exec(fetching, {})
            assert (tmp_path / "deploy" / "net.bin").read_text() == "a net of depth 6"
    model = kinetrum.model("first-model")
    assert model.stages["production"] == 1


@pytest.mark.parametrize("name", ["train.py", "descend.py", "fold.py"])
def test_scripts_that_were_not_written_for_it(recording: Project, tmp_path: Path, name: str) -> None:
    """They run without the added lines too, and at most two were added."""
    scripts = blocks(ROOT / "docs" / "how-to" / "record.md", "python")
    script = next(text for text in scripts if text.startswith(f"# {name}\n"))
    added = [line for line in script.splitlines() if line.endswith("# added")]
    assert len(added) <= 2
    plain = "\n".join(line for line in script.splitlines() if line not in added)
    assert "kinetrum" not in plain
    assert "run." not in plain
    outputs = []
    for text in (plain, script):
        (tmp_path / name).write_text(text)
        done = run_program([sys.executable, str(tmp_path / name)], os.environ, timeout=100)
        assert done.returncode == 0, done.stderr
        outputs.append(done.stdout)
    assert outputs[0] == outputs[1]
    experiment = {"train.py": "tumours", "descend.py": "descent", "fold.py": "folds"}[name]
    run = kinetrum.open(f"{experiment}/1")
    assert isinstance(run, kinetrum.RecordedRun)
    assert run.status == "finished"
    if name == "train.py":
        assert run.params["max_depth"] == 4
        assert run.results["held-out/accuracy"] == pytest.approx(float(outputs[0]))
    elif name == "descend.py":
        assert run.metrics["loss"].points().step.tolist() == list(range(100))
    else:
        assert {len(metric.points().step) for metric in run.metrics.values()} == {10}
        assert len(run.metrics) == 4


def test_a_run_with_curl(recording: Project, tmp_path: Path) -> None:
    (script,) = blocks(ROOT / "docs" / "reference" / "http.md", "sh")
    script = script.replace("http://127.0.0.1:7373", recording.instance.url).replace(
        "projects/main", f"projects/{recording.name}"
    )
    # The same ids and calls without curl where the machine has none would test nothing: Python speaks for it.
    if not any((Path(folder) / "curl").exists() for folder in os.environ["PATH"].split(":")):
        shim = tmp_path / "curl"
        shim.write_text(f"#!{sys.executable}\n" + CURL)
        shim.chmod(0o755)
    environment = os.environ | {"PATH": f"{tmp_path}:{os.environ['PATH']}"}
    done = subprocess.run(
        ["bash", "-ec", script], env=environment, capture_output=True, text=True, check=False, cwd=tmp_path
    )
    assert done.returncode == 0, done.stderr
    run = recording.service().get(recording.path("experiments", "by-hand", "runs", "1"))
    assert (run["status"], run["params"]) == ("finished", {"depth": 6})
    points = recording.service().get(recording.path("experiments", "by-hand", "runs", "1", "points"), metric="loss")
    assert points["values"] == [0.5, "NaN"]
    assert run["results"] == {"recall": 0.913}
    output = recording.service().get(recording.path("experiments", "by-hand", "runs", "1", "output"))
    assert [line["text"] for line in output["lines"]] == ["by hand"]
    assert (tmp_path / "fetched.bin").read_text() == "weights of the net\n"
    model = recording.service().get(recording.path("models", "by-hand-net"))
    assert [stage["occupant"] for stage in model["stages"]] == [1, None, None]


CURL = """
import sys, urllib.request
arguments, method, body, headers, url = sys.argv[1:], "GET", None, {}, None
while arguments:
    word = arguments.pop(0)
    if word == "-X": method = arguments.pop(0)
    elif word == "-H": headers.update([[part.strip() for part in arguments.pop(0).split(":", 1)]])
    elif word == "-d": body = arguments.pop(0).encode()
    elif word == "--data-binary": body = open(arguments.pop(0)[1:], "rb").read()
    elif word == "-o": sys.stdout = open(arguments.pop(0), "w")
    elif not word.startswith("-"): url = word
print(urllib.request.urlopen(urllib.request.Request(url, body, headers, method=method)).read().decode(), end="")
"""


def test_the_plots_of_the_documents(recording: Project, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(tmp_path)  # What they save is not to lie in the tree.
    recorded, read = blocks(ROOT / "docs" / "how-to" / "plots.md", "python")
    space: dict[str, object] = {}
    exec(recorded, space)
    exec(read, space)
    names = set(space["plots"])  # type: ignore[call-overload]
    assert {"holdout/roc", "holdout/confusion", "night-shift/roc", "lows"} <= names


def test_the_media_of_the_documents(recording: Project) -> None:
    recorded, seen, rows = blocks(ROOT / "docs" / "how-to" / "media.md", "python")
    space: dict[str, object] = {}
    for block in (recorded, seen, "import kinetrum\n" + rows):
        exec(block, space)
    assert set(space["media"]) == {  # type: ignore[call-overload]
        "night-maps",
        "alarm",
        "report",
        "by-station",
        "frost-alarm-holdout-predictions",
    }
