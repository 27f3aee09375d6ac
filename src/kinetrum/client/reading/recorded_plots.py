"""Plots that the service keeps: listed, read as columns, declared anew, laid over those of other runs."""

from __future__ import annotations

import html
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from kinetrum.client.display.media_html import first_drawn, plots_as_html
from kinetrum.client.reading.frames import import_pandas
from kinetrum.client.transport.http import path_of
from kinetrum.client.transport.session import Session
from kinetrum.core.base.errors import NotFound
from kinetrum.core.base.values import JsonObject, Value, from_json
from kinetrum.core.plots import Plot, PlotView
from kinetrum.core.plots.overlay import DrawnSeries, SaidNumber, numbers_of, series_of

if TYPE_CHECKING:
    from pandas import DataFrame

    from kinetrum.client.reading.recorded_run import RecordedRun
    from kinetrum.client.transport import answers

_DRAWN = 6


@dataclass(frozen=True, repr=False)
class RecordedPlot:
    """A plot of a run: columns of equal length, how it is drawn, what it says in numbers.

    `view` has mark, x, y, group, title, x_name, y_name, x_scale, y_scale, share, diagonal. `note` says what was left
    out, with its bound. Columns are lists; a threshold may be infinite.
    """

    run: str
    name: str
    kind: str
    step: int | None
    columns: Mapping[str, list[Value]]
    view: JsonObject
    numbers: Mapping[str, Value]
    note: str

    def __repr__(self) -> str:
        rows = max(map(len, self.columns.values()), default=0)
        step = "" if self.step is None else f", step {self.step}"
        return f"<{self.kind} {self.name} of {self.run}{step}: {rows:,} rows>"

    def _repr_html_(self) -> str:
        return plots_as_html([(self.run, self.as_plot())], f"{self.name} of {self.run}")

    def as_plot(self) -> Plot:
        """Return the plot as `kinetrum.core.plots` has it, to be declared anew here or drawn."""
        view = PlotView(**{**self.view, "y": tuple(self.view["y"])})
        numbers = {name: float(str(value)) for name, value in self.numbers.items()}
        return Plot(self.kind, self.columns, view, numbers, self.note)

    def to_pandas(self) -> DataFrame:
        """Return the columns as a pandas DataFrame."""
        return import_pandas().DataFrame(dict(self.columns))


class RecordedPlots(Mapping[str, RecordedPlot]):
    """The plots of a run by name, each at its last step; `at` reads another one."""

    def __init__(self, session: Session, run: str, path: str) -> None:
        self._session, self._run, self._path = session, run, path

    def listed(self) -> list[answers.PlotListed]:
        """Return name, kind, step, rows, view, numbers and note of every plot, without columns."""
        answer: list[answers.PlotListed] = self._session.service.get(f"{self._path}/plots")
        return answer

    def __iter__(self) -> Iterator[str]:
        return iter(dict.fromkeys(row["name"] for row in self.listed()))

    def __len__(self) -> int:
        return len(list(iter(self)))

    def __getitem__(self, name: str) -> RecordedPlot:
        try:
            return self.at(name)
        except NotFound as error:
            raise KeyError(str(error)) from None

    def __repr__(self) -> str:
        return f"<Plots of {self._run}: {', '.join(self) or 'none'}>"

    def _repr_html_(self) -> str:
        return first_drawn(list(self), lambda name: self[name]._repr_html_(), _DRAWN) or html.escape(repr(self))

    def steps(self, name: str) -> list[int]:
        """Return the steps at which a plot was kept, ascending."""
        return [row["step"] for row in self.listed() if row["name"] == name and row["step"] is not None]

    def at(self, name: str, step: int | None = None) -> RecordedPlot:
        """Read a plot at a step (the last one without); raises NotFound where there is none."""
        return overlaid(self._session, [self._run], name, step)[0][0]

    def declare(self, name: str, **view: object) -> None:
        """Declare anew how a plot is drawn, for everybody: `declare("lows", x="day", y_scale="log")`.

        Raises InvalidInput that names the part which does not fit its columns.
        """
        self._session.service.call("PATCH", f"{self._path}/plots", json={"name": name, "view": view})


def overlaid(
    session: Session, references: Sequence[str], name: str, step: int | None = None
) -> tuple[list[RecordedPlot], list[str]]:
    """Return the plots of one name of several runs, and the runs that have none of it."""
    answer = session.service.get(
        path_of("projects", session.project, "plots"), run=list(references), name=name, step=step
    )
    kept_plots = [
        RecordedPlot(
            data["run"],
            data["name"],
            data["kind"],
            data["step"],
            {key: [from_json(value, key) for value in column] for key, column in data["columns"].items()},
            data["view"],
            {key: from_json(value, key) for key, value in data["numbers"].items()},
            data["note"],
        )
        for data in answer["plots"]
    ]
    return kept_plots, list(answer["without"])


def overlay(references: Sequence[str], name: str, *, step: int | None = None, project: str | None = None) -> Overlay:
    """Lay the plots of one name of several runs over one another: `overlay(["frost/8", "frost/24"], "held-out/roc")`.

    Raises NotFound where no run has such a plot, InvalidInput for references that name no run.
    `step` chooses the plots of one step; None takes each run's last. `project` is another than the connection's.
    """
    from kinetrum.client.transport.session import open_session

    kept_plots, without = overlaid(open_session(project), list(references), name, step)
    return Overlay(tuple(kept_plots), tuple(without))


@dataclass(frozen=True, repr=False)
class Overlay:
    """Plots of several runs laid over one another, in the order in which the runs were named; `without` have none."""

    plots: tuple[RecordedPlot, ...]
    without: tuple[str, ...]

    def __repr__(self) -> str:
        without = f"; {', '.join(self.without)} without" if self.without else ""
        name = f" {self.plots[0].name}" if self.plots else ""
        return f"<Overlay{name} of {', '.join(plot.run for plot in self.plots)}{without}>"

    def _repr_html_(self) -> str:
        return plots_as_html(self._named(), self.plots[0].name) if self.plots else html.escape(repr(self))

    def series(self) -> list[DrawnSeries]:
        """Return the lines or clouds as they are drawn: name, x and y."""
        return series_of(self._named())

    def numbers(self) -> list[SaidNumber]:
        """Return what the plots say in numbers: name, one value per plot, and the first less the last."""
        return numbers_of(self._named())

    def save(self, to: str | Path, title: str = "") -> Path:
        """Draw them into a .png, .svg, .html or .csv file; needs the extra `kinetrum[plot]` except for .csv."""
        from kinetrum.client.display.plot_drawing import save_plots

        return save_plots(self._named(), Path(to), title or self.plots[0].name)

    def _named(self) -> list[tuple[str, Plot]]:
        return [(plot.run, plot.as_plot()) for plot in self.plots]


def curve_plot(run: RecordedRun, metric: str) -> Plot:
    """Return a metric's points as a plot over the steps; of many the first, last, highest and lowest of stretches."""
    import numpy as np

    from kinetrum.core.plots.thinning import thin_extremes

    points = run.metrics[metric].points()
    # Of one step measured twice the later value is shown.
    steps, places = np.unique(points.step[::-1], return_index=True)
    values = points.value[::-1][places]
    kept_places = thin_extremes([values]) if len(values) else np.arange(0)
    note = f"{len(kept_places):,} of {len(values):,} points: of each stretch the first, last, highest and lowest."
    columns = {"step": steps[kept_places].tolist(), metric: values[kept_places].tolist()}
    numbers = {"last": float(values[-1]), "points": float(len(values))} if len(values) else {}
    view = PlotView("line", "step", (metric,), None, "", "step", metric)
    return Plot("curve", columns, view, numbers, note if len(kept_places) < len(values) else "")
