"""In notebooks, run by a real kernel: bars, the code of cells, runs of cells that run again, and what is shown."""

from __future__ import annotations

import subprocess
import sys
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

import nbclient
import nbformat
import pytest

import kinetrum
from kinetrum.client.capture import notebook_cells
from tests.support.world import Project


def execute(sources: Sequence[str], **environment: str) -> list[list[Any]]:
    """Run cells in one kernel; returns the outputs of each. Raises what a cell raises."""
    notebook = nbformat.v4.new_notebook()
    notebook.cells = [nbformat.v4.new_code_cell(source) for source in sources]
    nbclient.NotebookClient(notebook, timeout=100, kernel_name="python3").execute()
    return [cell.outputs for cell in notebook.cells]


def texts(outputs: Sequence[Any]) -> str:
    return "".join(one.get("text") or one.get("data", {}).get("text/plain", "") for one in outputs)


def test_the_cells_are_the_code_of_a_run(recording: Project, catching: None, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("JPY_SESSION_NAME", "/home/ilse/notebooks/frost.ipynb")
    shown = execute(
        [
            "import kinetrum\nSECRET_KEY = 'abc'\npassword = 'hunter2'",
            "run = kinetrum.begin('cells', params={'depth': 3})\nrun",
            "run.measure(loss=0.5)",
            "1 + 1  # between",
            "run.end()\nprint(run.id)",
            "'after the run'",
        ]
    )
    found = kinetrum.open(texts(shown[4]).strip())
    assert isinstance(found, kinetrum.RecordedRun)
    around = found.surroundings()
    assert around["code"]["entry"] == "frost.ipynb"
    script = around["script"]
    assert [line for line in script.splitlines() if line.startswith("# %%")] == [f"# %% [{at}]" for at in range(1, 6)]
    assert "run.measure(loss=0.5)" in script
    assert "after the run" not in script
    assert "hunter2" not in script
    assert around["code"]["hidden_lines"] >= 1


def test_a_cell_that_runs_again_ends_its_earlier_run(recording: Project) -> None:
    begin = "run = kinetrum.begin('again')\nrun.measure(loss=1)\nrun"
    shown = execute(["import kinetrum", begin, begin, "print(run.id)", "'the kernel ends'"])
    last = texts(shown[3]).strip()
    runs = sorted(kinetrum.runs(experiment="again"), key=lambda run: run.number)
    assert [run.status for run in runs] == ["stopped", "finished"]
    assert runs[0].reason == "the cell that began it was run again"
    assert runs[1].id == last


def test_a_displayed_run_that_lost_its_name_is_stopped_as_in_a_script(recording: Project) -> None:
    execute(
        [
            "import kinetrum",
            "run = kinetrum.begin('named')\nrun",
            "run = kinetrum.begin('named')",
            "kept = [run]; run = None",
        ]
    )
    runs = sorted(kinetrum.runs(experiment="named"), key=lambda run: run.number)
    assert [(run.status, run.reason) for run in runs] == [
        ("stopped", "nothing refers to it any more"),
        ("finished", None),
    ]


def test_a_bar_is_shown(recording: Project) -> None:
    shown = execute(
        ["import kinetrum\nrun = kinetrum.begin('bars')", "for i in run.progress(range(3)):\n    run.measure(loss=i)"]
    )
    (bar,) = shown[1]
    assert "application/vnd.jupyter.widget-view+json" in bar["data"]
    assert "0/3" in bar["data"]["text/plain"]


def test_plots_and_media_draw_themselves(recording: Project, tmp_path: Path) -> None:
    import numpy as np

    for _ in range(2):
        with kinetrum.begin("shown") as run:
            run.evaluate([0, 1, 1, 0], [0.1, 0.8, 0.4, 0.2], on="holdout")
            run.media.images("worst", [np.zeros((4, 4), np.uint8)], captions=["<b>dark</b>"])
            run.media.text("said", "<script>alert(1)</script>")
            run.media.table("rows", {"a": [1, 2], "b": ["x", "<i>y</i>"]})
    run.flush()
    shown = execute(
        [
            "import kinetrum\nrun = kinetrum.open('shown/1')",
            "run.plots",
            "run.plots['holdout/roc']",
            "kinetrum.overlay(['shown/1', 'shown/2'], 'holdout/roc')",
            "run.media",
            "kinetrum.rows('shown-holdout-predictions@1') if False else run.media['rows'].rows()",
        ]
    )
    for outputs, wanted in zip(shown[1:], ["<svg", "<svg", "<svg", "data:image/png;base64,", "<table>"], strict=True):
        (one,) = outputs
        assert wanted in one["data"]["text/html"]
        assert "object at 0x" not in one["data"]["text/plain"]
    media = shown[4][0]["data"]["text/html"]
    assert "<script>" not in media
    assert "&lt;script&gt;" in media
    assert "<b>dark</b>" not in media
    assert "<i>y</i>" not in media


PUBLIC = """
import kinetrum
run = kinetrum.begin("texts", params={"depth": 3})
run.measure(loss=0.5)
run.evaluate([0, 1, 1, 0], [0.1, 0.8, 0.4, 0.2], on="holdout", rows=True)
activity = run.activity("fit")
live = [run, run.plot, run.media, activity]
activity.end()
run.end()
with kinetrum.begin("texts", params={"depth": 4}) as other:
    other.measure(loss=0.25)
    other.evaluate([0, 1, 1, 0], [0.1, 0.8, 0.9, 0.2], on="holdout", rows=True)
one = kinetrum.open("texts/1")
things = [
    *live, one, kinetrum.runs(experiment="texts"), kinetrum.runs("loss > 9", experiment="texts"), kinetrum.runs(experiment="texts").groups(),
    kinetrum.compare("texts/1", "texts/2"), one.plots, one.plots["holdout/roc"], one.media, one.metrics["loss"],
    one.metrics["loss"].points(), kinetrum.overlay(["texts/1", "texts/2"], "holdout/roc"), kinetrum.experiment("texts"),
    kinetrum.lineage("texts/1"), one.predictions("holdout") if False else one, kinetrum.effects("texts", on="loss"),
]
for thing in things:
    print(repr(thing), end="\\n---\\n")
"""


def test_everything_has_a_short_text(recording: Project) -> None:
    done = subprocess.run(
        [sys.executable, "-i", "-c", PUBLIC], input="", capture_output=True, text=True, timeout=100, check=False
    )
    assert "Traceback" not in done.stderr, done.stderr
    shown = done.stdout.split("\n---\n")[:-1]
    assert len(shown) == 19
    for text in shown:
        assert "0x" not in text
        assert "object at" not in text
        assert text.startswith("<")
        assert len(text) < 2_000, text
        assert max(map(len, text.splitlines())) < 500


class Shell:
    """As much of a shell as cells are read from."""

    def __init__(self, inputs: Sequence[str]) -> None:
        self.history_manager = self
        self.input_hist_raw = ["", *inputs]
        self.user_ns: dict[str, Any] = {}
        self.execution_count = len(inputs)


@pytest.fixture
def shell(monkeypatch: pytest.MonkeyPatch) -> Iterator[Shell]:
    found = Shell([f"cell = {at}  # {'x' * 3_000}" for at in range(200)])
    monkeypatch.setattr(notebook_cells, "current_shell", lambda: found)
    yield found


def test_many_cells_are_cut_at_the_beginning(shell: Shell) -> None:
    text = notebook_cells.cells_as_code() or ""
    assert len(text) <= notebook_cells.CODE_LIMIT + 100
    assert text.startswith("# 1")
    assert " earlier cells are left out." in text.splitlines()[0]
    assert text.rstrip().endswith("x")
    assert "cell = 199" in text
    shell.input_hist_raw = [""]
    assert notebook_cells.cells_as_code() == ""


@pytest.mark.parametrize(
    ("first", "second", "same"),
    [
        (("a", "x", 1), ("a", "y", 2), True),
        (("a", "x", 1), ("b", "x", 2), False),
        ((None, "x", 1), (None, "x", 2), True),
        ((None, "x", 1), (None, "y", 2), False),
        (("a", "x", 1), ("a", "x", 1), False),
        ((None, "x", 1), ("a", "x", 2), True),
    ],
)
def test_what_is_the_same_cell(first: Any, second: Any, same: bool) -> None:
    assert notebook_cells.Cell(*second).is_rerun_of(notebook_cells.Cell(*first)) is same


def test_figures_are_kept_in_the_run_that_is_open(recording: Project) -> None:
    execute(
        [
            "import kinetrum\nrun = kinetrum.begin('drawn')",
            "import matplotlib.pyplot as plt\nplt.plot([1, 2]); plt.title('A');",
            "plt.plot([3, 2]); plt.title('B'); plt.savefig('/dev/null', format='png'); plt.show()",
            "child = run.child(); plt.plot([3, 2]); plt.title('B'); plt.show(); child.end()",
            "run.end()",
            "with kinetrum.begin('drawn') as run:\n    plt.plot([1, 5]); plt.title('within')",
            "plt.plot([7]); plt.title('after all');",
            "with kinetrum.begin('drawn', leave_out=['figures']) as run:\n    plt.plot([1]); plt.show()",
        ]
    )
    runs = [kinetrum.open(f"drawn/{number}") for number in (1, 2, 3, 4)]
    assert [sorted(run.media) for run in runs] == [["figure-a", "figure-b"], ["figure-b"], ["figure-within"], []]
    assert [len(run.generated) for run in runs] == [2, 1, 1, 0]
