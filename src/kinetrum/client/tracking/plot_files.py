"""Plots from files that a program writes: its own CSV or JSON of curve points becomes a plot of the run.

A CSV file has a column per name. A JSON file holds the columns by name, each a list (`{"fpr": [0, 0.1], "tpr": [0,
0.4]}`), or a list of objects, one a row. The first column lies along x, the other columns of numbers are drawn;
`x` and `y` name others. Beside the columns a JSON object may hold single texts and numbers: a `title`, and numbers
that are said of the plot (`{"fpr": […], "tpr": […], "area": 0.97}`).
"""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Mapping
from dataclasses import dataclass, replace
from pathlib import Path

from kinetrum.client.tracking.metric_files import SIZE_LIMIT
from kinetrum.core.base.errors import InvalidInput, TooLarge
from kinetrum.core.base.values import check_key, number_from_json, read_typed
from kinetrum.core.plots import Plot, table_plot


@dataclass(frozen=True)
class PlottedFile:
    """A file that becomes a plot; what lies there from an earlier run is not of this one."""

    path: Path
    name: str
    x: str | None
    y: tuple[str, ...]
    seen: tuple[int, int] | None

    @classmethod
    def named(cls, text: str) -> PlottedFile:
        """Read `[NAME=]FILE[:X,Y,…]`; without a name it is the file's."""
        name, mark, rest = text.partition("=")
        place = rest if mark else text
        file, colon, columns = place.rpartition(":")
        if not colon or "/" in columns:
            file, columns = place, ""
        if not file:
            raise InvalidInput(f"--plot {text!r} names no file; write [NAME=]FILE[:X,Y].", field="plot")
        chosen = [column for column in columns.split(",") if column]
        path = Path(file)
        return cls(
            path,
            check_key(name if mark else path.stem, "plot"),
            chosen[0] if chosen else None,
            tuple(chosen[1:]),
            _state(path),
        )

    def plot(self) -> Plot:
        """Return what the file holds; raises InvalidInput where it was not written or holds no plot."""
        state = _state(self.path)
        if state is None or state == self.seen:
            what = "was not written" if state is None else "lies there from before and was not written"
            raise InvalidInput(f"The file of a plot {self.path} {what}.", field="plot")
        if state[0] > SIZE_LIMIT:
            raise TooLarge(f"The file of a plot {self.path} has {state[0]:,} bytes, over {SIZE_LIMIT:,}.", field="plot")
        try:
            columns, names, title = _read(self.path)
            plot = table_plot(columns, self.x, self.y or None, title=title)
        except (InvalidInput, UnicodeDecodeError, csv.Error, json.JSONDecodeError, RecursionError) as error:
            raise InvalidInput(f"{self.path} holds no plot: {error}", field="plot") from None
        return replace(plot, numbers=names)


def _state(path: Path) -> tuple[int, int] | None:
    try:
        status = path.stat()
    except OSError:
        return None
    return status.st_size, status.st_mtime_ns


def _read(path: Path) -> tuple[Mapping[str, list[object]], dict[str, float], str]:
    text = path.read_text(encoding="utf-8-sig")
    if path.suffix.lower() != ".json":
        head, *rows = csv.reader(io.StringIO(text)) if text.strip() else [[]]
        width = len(head)
        full = [row for row in rows if row]
        odd = next((at for at, row in enumerate(full) if len(row) != width), None)
        if odd is not None:
            raise InvalidInput(f"row {odd + 2} has {len(full[odd])} cells, the head {width}.")
        return {name: [read_typed(row[at]) for row in full] for at, name in enumerate(head)}, {}, ""
    data = json.loads(text)
    if isinstance(data, list) and data and all(isinstance(row, dict) for row in data):
        names = dict.fromkeys(str(name) for row in data for name in row)
        return {name: [row.get(name) for row in data] for name in names}, {}, ""
    if not isinstance(data, dict):
        raise InvalidInput("a JSON plot is an object with lists by name, or a list of objects.")
    columns = {name: values for name, values in data.items() if isinstance(values, list)}
    numbers = {
        name: number_from_json(value, name)
        for name, value in data.items()
        if isinstance(value, int | float) and not isinstance(value, bool)
    }
    title = data.get("title", "")
    return columns, numbers, title if isinstance(title, str) else ""
