"""Keeps the figures that a notebook's cells show or save as media of the open run."""

from __future__ import annotations

import os
import sys
import tempfile
import weakref
from pathlib import Path
from typing import TYPE_CHECKING

from kinetrum.client.capture.figures import watching
from kinetrum.client.capture.figures.collecting import MANY, keep_figure
from kinetrum.client.capture.notebook_cells import current_shell
from kinetrum.core.base.errors import KinetrumError
from kinetrum.core.base.values import JsonObject

if TYPE_CHECKING:
    from importlib.machinery import ModuleSpec

    from kinetrum.client.recording.run import Run

# In the order in which they began: the last one that is open has the figures.
_runs: list[weakref.ref[Run]] = []


class _Finder:
    """Notices when Matplotlib is imported in a cell after the run began."""

    def find_spec(self, name: str, path: object = None, target: object = None) -> ModuleSpec | None:
        if name == "matplotlib.pyplot" and "matplotlib" in sys.modules:
            sys.meta_path.remove(self)
            watching.watch_figures(sys.modules["matplotlib"], _hand_on)
        return None


def keep_figures(run: Run) -> None:
    """Let a run have the figures that are shown or saved while it is the last one that began and is open.

    In scripts this does nothing, and neither does it where `kinetrum track` runs the notebook and has them already.
    """
    if current_shell() is None or "KINETRUM_FIGURES" in os.environ:
        return
    if not _open_runs():
        watching.forget_figures()
    watching.forget_pictures()
    _runs.append(weakref.ref(run))
    if "matplotlib.pyplot" in sys.modules:
        watching.watch_figures(sys.modules["matplotlib"], _hand_on)
    elif not any(isinstance(finder, _Finder) for finder in sys.meta_path):
        sys.meta_path.insert(0, _Finder())


def keep_before_end(run: Run) -> None:
    """Keep what a run's last cell draws: the notebook shows it only after the cell, when the run has ended."""
    if any(open_run is run for open_run in _open_runs()) and "matplotlib.pyplot" in sys.modules:
        watching.keep_open_figures()
    _runs[:] = [known for known in _runs if known() not in {None, run}]


def _open_runs() -> list[Run]:
    return [run for known in _runs if (run := known()) is not None and run.status == "running"]


def _hand_on(png: bytes | None, about: JsonObject) -> None:
    runs = _open_runs()
    if not runs:
        return
    if png is None:
        runs[-1]._note_problem(MANY)
        return
    with tempfile.TemporaryDirectory() as folder:
        picture = Path(folder) / "figure.png"
        picture.write_bytes(png)
        try:
            keep_figure(runs[-1], picture, about)
        except (KinetrumError, OSError) as error:
            runs[-1]._note_problem(f"A figure was not kept: {error}")
