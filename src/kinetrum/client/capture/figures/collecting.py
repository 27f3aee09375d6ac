"""Brings the figures that a tracked program shows or saves into its run."""

from __future__ import annotations

import json
import os
import re
import tempfile
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from kinetrum.client.capture.figures.watching import FIGURES_LIMIT
from kinetrum.core.base.errors import InvalidInput, KinetrumError
from kinetrum.core.base.names import NAME_LIMIT
from kinetrum.core.media.items import CAPTION_LIMIT

if TYPE_CHECKING:
    from kinetrum.client.recording.run import Run

_EARLY = Path(__file__).parent / "early"
_PICTURE_BYTES = 32 * 1024 * 1024
MANY = (
    f"More than {FIGURES_LIMIT} different figures were shown or saved; those beyond are not kept. "
    "With figures left out none is kept."
)


class FigureFolder:
    """A folder for the figures of one tracked program, and the environment that makes the program fill it."""

    def __init__(self) -> None:
        # It is removed with this object where nobody removes it before.
        self._temporary = tempfile.TemporaryDirectory(prefix="kinetrum-figures-", ignore_cleanup_errors=True)
        self._folder = Path(self._temporary.name)
        self._kept = 0

    def environment(self) -> dict[str, str]:
        """Return the variables under which a Python program hands over its figures."""
        before = os.environ.get("PYTHONPATH")
        path = f"{_EARLY}{os.pathsep}{before}" if before else str(_EARLY)
        return {"PYTHONPATH": path, "KINETRUM_FIGURES": str(self._folder)}

    def take(self, run: Run, problem: Callable[[str], None]) -> None:
        """Keep the figures that are complete by now; what is wrong with one is told as a problem."""
        for path in sorted(self._folder.glob("*.json")):
            picture = path.with_suffix(".png")
            try:
                about = json.loads(path.read_text(encoding="utf-8"))
                if about["beyond"] or self._kept >= FIGURES_LIMIT:
                    problem(MANY)
                else:
                    keep_figure(run, picture, about)
                    self._kept += 1
            except (KinetrumError, OSError, ValueError, TypeError, KeyError) as error:
                problem(f"A figure was not kept: {error}")
            picture.unlink(missing_ok=True)
            path.unlink(missing_ok=True)

    def remove(self) -> None:
        """Remove the folder."""
        self._temporary.cleanup()


def keep_figure(run: Run, picture: Path, about: dict[str, object]) -> None:
    """Keep one figure, a PNG file, as media of a run, named by its title, its file or its number.

    Raises InvalidInput for a picture of more than 32 MiB, and what keeping media raises.
    """
    if picture.stat().st_size > _PICTURE_BYTES:
        raise InvalidInput(f"{picture.name} has over {_PICTURE_BYTES // 2**20} MiB.", field="figure")
    title = str(about["title"] or about["file"] or "")
    run.media.image(figure_name(about), picture, caption=title[:CAPTION_LIMIT])


def figure_name(about: dict[str, object]) -> str:
    """Return the name under which a figure is kept: `figure-` and its title, else its file's name, else its number."""
    for text in (about["title"], about["file"], about["number"], 1):
        words = re.sub(r"[^a-z0-9]+", "-", str(text or "").lower()).strip("-")
        if words:
            return f"figure-{words}"[:NAME_LIMIT].rstrip("-")
    raise AssertionError("the number is always there")
