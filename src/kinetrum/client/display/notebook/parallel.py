"""Parallel coordinates in a notebook: drag along an axis, and read in the next cell which runs passed."""

from __future__ import annotations

from pathlib import Path

import anywidget
import traitlets

from kinetrum.core.base.values import JsonObject, from_json, show


class Parallel(anywidget.AnyWidget):
    """A line for each run over settings and values; better is up wherever a goal says which way that is.

    `selected` holds the references of the runs that pass all brushes, `query` the same as a question:
    `kinetrum.runs(widget.query, experiment=…)` gives these runs.
    """

    _esm = Path(__file__).with_name("parallel.js")
    _css = Path(__file__).with_name("parallel.css")
    runs = traitlets.List(traitlets.Unicode()).tag(sync=True)
    axes = traitlets.List(traitlets.Dict()).tag(sync=True)
    brushes = traitlets.Dict().tag(sync=True)
    selected = traitlets.List(traitlets.Unicode()).tag(sync=True)

    def __init__(self, drawn: JsonObject) -> None:
        runs = [run["reference"] for run in drawn["runs"]]
        axes = [_axis(column) for column in drawn["columns"]]
        super().__init__(runs=runs, axes=axes, selected=runs, brushes={})

    @property
    def query(self) -> str:
        """The brushes as a query."""
        return " and ".join(_test(name, brush) for name, brush in self.brushes.items())


def _axis(column: JsonObject) -> dict[str, object]:
    values = [None if isinstance(value, dict) else value for value in column["values"]]
    numbers = [value for value in values if value is not None]
    numeric = bool(numbers) and all(isinstance(value, int | float) and not isinstance(value, bool) for value in numbers)
    goal = column["goal"]
    return {
        "name": column["text"],
        "numeric": numeric,
        "lower": bool(goal and goal["direction"] == "lower"),
        "values": values if numeric else [None if value is None else _text(value) for value in values],
    }


def _text(value: object) -> str:
    return value if isinstance(value, str) else show(from_json(value))


def _quoted(text: str) -> str:
    # Always in quotes, but for what is no text: whatever the text is, it reads back as one.
    doubled = text.replace('"', '""')
    return text if text in {"true", "false", "null"} else f'"{doubled}"'


def _test(name: str, brush: JsonObject) -> str:
    if "names" in brush:
        return f"{name} in {{{', '.join(map(_quoted, brush['names']))}}}"
    return f"{name} in {brush['low']!r}..{brush['high']!r}"
