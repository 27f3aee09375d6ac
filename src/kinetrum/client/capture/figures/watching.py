"""Watches the figures of Matplotlib in this process: each state that is shown or saved is drawn once and handed on.

Matplotlib calls its `figure.hooks` for every figure of pyplot, whatever backend the program chose. The hook makes the
figure's canvas and manager ones of a subclass of the backend's own, which notice saving and showing. A backend of our
own would be lost by `matplotlib.use("Agg")`, and one that is named in the environment stops a program that cannot
import it. Stands alone and is written for every Python 3.7 and newer: a tracked program's Python may be any.
Nothing that goes wrong in here reaches the program.
"""

from __future__ import annotations

import hashlib
import json
import os
import time
import warnings
import weakref
from io import BytesIO
from typing import TYPE_CHECKING, TypeVar

if TYPE_CHECKING:
    from collections.abc import Callable
    from types import ModuleType

    from matplotlib.backend_bases import FigureCanvasBase, FigureManagerBase
    from matplotlib.figure import Figure

Base = TypeVar("Base")

FIGURES_LIMIT = 100
LONGEST_SIDE = 2_000
HOOK = __name__ + ":watch"
# Formats of single frames of an animation.
_FRAMES = ("raw", "rgba")


class _Watch:
    """What this process watches for: where drawn figures go, and which were seen already."""

    def __init__(self) -> None:
        self.hand_on: Callable[[bytes | None, dict[str, object]], None] | None = None
        self.drawing = False
        self.seen: set[bytes] = set()
        self.figures: weakref.WeakSet[object] = weakref.WeakSet()


_watch = _Watch()
_subclasses: dict[type, type] = {}


def watch_figures(matplotlib: ModuleType, hand_on: Callable[[bytes | None, dict[str, object]], None]) -> None:
    """Hand on every figure of pyplot that is shown or saved from now on: `hand_on(png, about)`.

    `about` is a dictionary: `title`, `file` (the stem of the file it was saved to), `number` (pyplot's), and `beyond`,
    True once for the first figure that is over the limit, without a picture. A second call changes where they go.
    """
    _watch.hand_on = hand_on
    for params in (matplotlib.rcParams, matplotlib.rcParamsDefault, matplotlib.rcParamsOrig):
        if HOOK not in params["figure.hooks"]:
            params["figure.hooks"] = [*params["figure.hooks"], HOOK]


def collect_figures(matplotlib: ModuleType, folder: str) -> None:
    """Write every figure that is shown or saved into a folder: a PNG, and beside it a JSON file about it."""

    def hand_on(png: bytes | None, about: dict[str, object]) -> None:
        stem = os.path.join(folder, f"{time.time_ns():020d}-{os.getpid()}")
        if png is not None:
            with open(stem + ".png", "wb") as file:
                file.write(png)
        # It is complete once its JSON file is there.
        with open(stem + ".part", "w", encoding="utf-8") as file:
            json.dump(about, file)
        os.rename(stem + ".part", stem + ".json")

    watch_figures(matplotlib, hand_on)


def watch(figure: Figure) -> None:
    """Notice when this figure is shown or saved; Matplotlib calls it for each new figure."""
    try:
        canvas = figure.canvas
        manager = canvas.manager
        canvas.__class__ = _subclass(type(canvas), _noticing_print)
        if manager is not None:
            manager.__class__ = _subclass(type(manager), _noticing_show)
        _watch.figures.add(figure)
    except Exception:
        # Such a backend does not allow it: its figures are not kept.
        pass


def keep_open_figures() -> None:
    """Keep the figures that are open in pyplot as they are now."""
    from matplotlib._pylab_helpers import Gcf

    for manager in Gcf.get_all_fig_managers():
        if manager.canvas.figure in _watch.figures:
            keep(manager.canvas, None)


def forget_figures() -> None:
    """Take the figures that exist by now for none of what begins."""
    _watch.figures.clear()


def forget_pictures() -> None:
    """Hand on again what was handed on before."""
    _watch.seen.clear()


def _subclass(base: type[Base], make: Callable[[type[Base]], type[Base]]) -> type[Base]:
    if getattr(base, "_kinetrum_notices", False):
        return base
    if base not in _subclasses:
        subclass = make(base)
        subclass.__name__, subclass.__qualname__, subclass.__module__ = (
            base.__name__,
            base.__qualname__,
            base.__module__,
        )
        _subclasses[base] = subclass
    return _subclasses[base]


def _noticing_print(base: type[FigureCanvasBase]) -> type[FigureCanvasBase]:
    class Canvas(base):  # type: ignore[misc, valid-type]
        _kinetrum_notices = True

        def print_figure(self, filename: object, *args: object, **kwargs: object) -> object:
            result = super().print_figure(filename, *args, **kwargs)
            if _watch.drawing or kwargs.get("format") in _FRAMES:
                return result
            keep(self, filename)
            return result

    return Canvas


def _noticing_show(base: type[FigureManagerBase]) -> type[FigureManagerBase]:
    class Manager(base):  # type: ignore[misc, valid-type]
        _kinetrum_notices = True

        def show(self, *args: object, **kwargs: object) -> object:
            # Before it: a window is shown until a person closes it.
            if not _watch.drawing:
                keep(self.canvas, None)
            return super().show(*args, **kwargs)

    return Manager


def keep(canvas: FigureCanvasBase, filename: object) -> None:
    """Draw a figure and hand it on, unless the same picture was handed on before; never raises."""
    if _watch.hand_on is None or _watch.drawing or len(_watch.seen) > FIGURES_LIMIT:
        return
    _watch.drawing = True
    try:
        figure = canvas.figure
        png = _draw(canvas, figure)
        digest = hashlib.sha256(png).digest()
        if digest in _watch.seen:
            return
        _watch.seen.add(digest)
        about = {"title": _title(figure), "file": _stem(filename), "number": getattr(figure, "number", None)}
        beyond = len(_watch.seen) > FIGURES_LIMIT
        _watch.hand_on(None if beyond else png, dict(about, beyond=beyond))
    except Exception:
        pass
    finally:
        _watch.drawing = False


def _draw(canvas: FigureCanvasBase, figure: Figure) -> bytes:
    longest = max(figure.get_size_inches())
    dpi = min(figure.dpi, LONGEST_SIDE / longest) if longest else figure.dpi
    drawn = BytesIO()
    with warnings.catch_warnings():
        # What is to be warned of was warned of when the program drew it.
        warnings.simplefilter("ignore")
        canvas.print_figure(drawn, format="png", dpi=dpi, metadata={"Software": None})
    return drawn.getvalue()


def _title(figure: Figure) -> str:
    above = getattr(figure, "_suptitle", None)
    titles = [above.get_text() if above is not None else ""]
    for axes in figure.axes:
        titles += [axes.get_title(loc=place) for place in ("center", "left", "right")]
    titles.append(figure.get_label())
    return next((str(title).strip() for title in titles if str(title).strip()), "")


def _stem(filename: object) -> str:
    if not isinstance(filename, (str, bytes, os.PathLike)):
        return ""
    try:
        return os.path.splitext(os.path.basename(os.fsdecode(filename)))[0]
    except TypeError:
        return ""
