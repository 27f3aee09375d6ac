"""Figures of unchanged programs: what Matplotlib shows or saves under `track` is kept, and nothing breaks by it."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
from pathlib import Path

import pytest

import kinetrum
from kinetrum.client.capture.figures.collecting import FigureFolder, figure_name
from kinetrum.client.recording.run import Run
from tests.cli.test_track import KINETRUM, told, track, work
from tests.support.programs import wait_for

__all__ = ["work"]
pytestmark = pytest.mark.usefixtures("catching")


def script(work: Path, *lines: str) -> list[str]:
    (work / "draw.py").write_text("\n".join(["import matplotlib", *lines]), encoding="utf-8")
    return [sys.executable, "draw.py"]


PLOT = ("import matplotlib.pyplot as plt", "fig, ax = plt.subplots()", "ax.plot([1, 2])")


def kept(run: kinetrum.RecordedRun) -> list[str]:
    return sorted(run.media)


def versions(run: kinetrum.RecordedRun) -> int:
    return len(run.generated)


def test_what_is_shown_and_saved_is_kept_once_by_its_title(work: Path) -> None:
    done, run = track(
        "--",
        *script(
            work,
            *PLOT,
            "ax.set_title('Loss: of the frost model')",
            "fig.savefig('a.png', dpi=300)",
            "plt.savefig('b.pdf')",
            "plt.show()",
            "fig.show()",
        ),
    )
    assert done.returncode == 0
    assert kept(run) == ["figure-loss-of-the-frost-model"]
    assert versions(run) == 1
    (item,) = run.media["figure-loss-of-the-frost-model"].items
    assert item["caption"] == "Loss: of the frost model"


def test_each_state_that_was_saved_is_kept(work: Path) -> None:
    _, run = track(
        "--",
        *script(
            work,
            *PLOT,
            "for at in range(3):",
            "    ax.clear()",
            "    ax.plot([at])",
            "    fig.savefig(f'state-{at}.png')",
        ),
    )
    # Without a title the file names it.
    assert kept(run) == ["figure-state-0", "figure-state-1", "figure-state-2"]


def test_a_figure_that_is_neither_shown_nor_saved_is_not_kept(work: Path) -> None:
    done, run = track("--", *script(work, *PLOT, "fig.canvas.draw()", "plt.close(fig)"))
    assert (done.returncode, kept(run)) == (0, [])


@pytest.mark.parametrize(
    "choice",
    [
        "matplotlib.use('Agg')",
        "matplotlib.use('svg')",
        "matplotlib.rcdefaults()",
        "import matplotlib.style as s; s.use('default')",
    ],
)
def test_the_program_may_choose_its_backend_and_its_style(work: Path, choice: str) -> None:
    _, run = track("--", *script(work, choice, *PLOT, "fig.savefig('one.svg')"))
    assert kept(run) == ["figure-one"]


@pytest.mark.parametrize(
    ("before", "after"), [({}, {"KINETRUM_LEAVE_OUT": "figures"}), ({"--leave-out": "figures"}, {})]
)
def test_left_out(work: Path, before: dict[str, str], after: dict[str, str]) -> None:
    words = [word for pair in before.items() for word in pair]
    lines = (*PLOT, "plt.show()", "import os", "print(os.environ.get('KINETRUM_FIGURES'))")
    done, run = track(*words, "--", *script(work, *lines), **after)
    assert kept(run) == []
    assert done.stdout.strip() == "None"


def test_figures_are_bounded_and_the_bound_is_told(work: Path) -> None:
    lines = (
        "for at in range(102):",
        "    ax.clear()",
        "    ax.set_title('many')",
        "    ax.text(0, 0, str(at), size=20)",
        "    fig.savefig('x.png')",
    )
    done, run = track(
        "--", *script(work, "import matplotlib.pyplot as plt", "fig, ax = plt.subplots(figsize=(2, 2))", *lines)
    )
    wait_for(lambda: versions(kinetrum.open(run.id)) == 100, 50)
    assert done.stderr.count("More than 100 different figures were shown or saved") == 1


def test_a_program_works_as_without_us(work: Path) -> None:
    """What is pickled, forked, spawned, started with other paths or isolated goes on."""
    site = work / "site"
    site.mkdir()
    (site / "sitecustomize.py").write_text("WAS = 7\n")
    (work / "other.sh").write_text(
        f"PYTHONPATH=/tmp {sys.executable} -c 'import matplotlib.pyplot as p; p.plot([1]); p.show(); print(1)'\n"
        f"{sys.executable} -I -c 'import matplotlib.pyplot as p; p.plot([1]); p.show(); print(2)'\n"
    )
    done, run = track(
        "--",
        *script(
            work,
            *PLOT,
            "import os, pickle, subprocess, sys, sitecustomize, warnings",
            "warnings.simplefilter('error')",
            "plt.close(pickle.loads(pickle.dumps(fig)))",
            "assert not any('early' in path for path in sys.path), sys.path",
            "assert sitecustomize.WAS == 7",
            "assert type(fig.canvas).__name__ == 'FigureCanvasAgg'",
            "sys.stdout.flush()",
            "subprocess.run(['bash', 'other.sh'], check=True)",
            "if os.fork() == 0:",
            "    ax.set_title('forked')",
            "    fig.savefig('f.png')",
            "    os._exit(0)",
            "os.wait()",
        ),
        PYTHONPATH=str(site),
    )
    assert done.returncode == 0, done.stderr
    assert done.stdout.split() == ["1", "2"]
    assert kept(run) == ["figure-forked"]


def test_what_fails_in_a_program_fails_as_it_would(work: Path) -> None:
    done, run = track("--", *script(work, *PLOT, "fig.savefig('/nowhere/x.png')"))
    assert done.returncode == 1
    assert "FileNotFoundError" in done.stderr
    assert run.status == "failed"
    assert kept(run) == []


def test_figures_of_a_program_that_is_killed_are_kept(work: Path) -> None:
    lines = (
        "ax.set_title('before the end')",
        "plt.show()",
        "import time",
        "print('shown', flush=True)",
        "time.sleep(60)",
    )
    process = subprocess.Popen(
        [*KINETRUM, "track", "--", *script(work, *PLOT, *lines)],
        stderr=subprocess.PIPE,
        stdout=subprocess.PIPE,
        text=True,
    )
    assert process.stdout is not None
    assert process.stdout.readline() == "shown\n"
    import psutil

    for child in psutil.Process(process.pid).children():
        if child.cmdline()[-1] == "draw.py":
            child.send_signal(signal.SIGKILL)
    _, said = process.communicate(timeout=50)
    run = told(said)
    assert run.status == "failed"
    assert kept(run) == ["figure-before-the-end"]


def test_the_folder_goes_with_the_command(work: Path, tmp_path: Path) -> None:
    temporary = tmp_path / "temporary"
    temporary.mkdir()
    track("--", *script(work, *PLOT, "plt.show()"), TMPDIR=str(temporary))
    assert list(temporary.glob("kinetrum-figures*")) == []


def test_a_folder_full_of_lies(catching: None, work: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    folder, problems = FigureFolder(), []
    place = Path(folder.environment()["KINETRUM_FIGURES"])
    whole = {"title": "t", "file": "", "number": 1, "beyond": False}
    said = {"a": "{", "b": "[]", "c": "{}", "d": json.dumps(whole), "e": json.dumps({**whole, "title": 3})}
    for name, text in said.items():
        (place / f"{name}.json").write_text(text)
    (place / "e.png").write_bytes(b"no picture")
    (place / "f.png").write_bytes(b"without a word about it")
    monkeypatch.setattr("kinetrum.client.capture.figures.collecting._PICTURE_BYTES", 9)
    with kinetrum.begin("lies") as run:
        assert isinstance(run, Run)
        folder.take(run, problems.append)
        assert len(problems) == 5
        assert all(text.startswith("A figure was not kept: ") for text in problems)
        assert os.listdir(place) == ["f.png"]
    folder.remove()


@pytest.mark.parametrize(
    ("title", "file", "number", "name"),
    [
        ("ROC curve (holdout)", "x", 1, "figure-roc-curve-holdout"),
        ("", "loss_2", 1, "figure-loss-2"),
        ("Überschuß", "", 2, "figure-bersch"),
        ("頻度", "", 2, "figure-2"),
        ("", "", None, "figure-1"),
        ("a" * 200, "", 1, "figure-" + "a" * 93),
    ],
)
def test_names(title: str, file: str, number: int | None, name: str) -> None:
    found = figure_name({"title": title, "file": file, "number": number})
    assert found.startswith(name)
    assert len(found) <= 100
