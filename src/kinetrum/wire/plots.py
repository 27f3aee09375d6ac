"""Plots: tables with what is said of them in numbers, and how they are drawn."""

from __future__ import annotations

from typing import Any

from pydantic import Field

from kinetrum.core.plots import PlotView
from kinetrum.core.plots.overlay import DrawnSeries
from kinetrum.wire.base import Id, In, Micros, Moment, Out


class NewPlot(In):
    """A plot of a run under a name; a repeat of `id` changes nothing."""

    id: Id
    at: Micros
    name: str = Field(max_length=250)
    step: int | None = Field(None, ge=-(2**62), le=2**62)
    kind: str = Field("table", max_length=200)
    columns: dict[str, list[Any]] = Field(description="Values in columns of equal length.")
    view: dict[str, Any]
    numbers: dict[str, Any] = {}
    note: str = ""


class NewView(In):
    """What of a view changes, by name of its part."""

    name: str = Field(max_length=250)
    view: dict[str, Any]


class PlotListed(Out):
    """A plot without its columns; `declared`: its view was declared anew after it was recorded."""

    name: str
    kind: str
    step: int | None
    rows: int
    recorded_at: Moment
    view: PlotView
    declared: bool
    numbers: dict[str, Any]
    note: str


class Matrix(Out):
    """Classes, and cells by truth and prediction: counts, or shares of their row or column as the view tells."""

    names: list[str]
    cells: list[list[float]]


class KeptPlot(PlotListed):
    """A plot of a run with its columns, where these were asked for; `matrix` where it is drawn as one."""

    run: str
    run_name: str | None
    column_names: list[str]
    columns: dict[str, list[Any]]
    matrix: Matrix | None


class SaidNumber(Out):
    """A number that the plots say of themselves, one value each; `change` is the last less the first."""

    name: str
    values: list[Any]
    change: Any = None


class Plots(Out):
    """Plots of one name of several runs, laid over one another; `without` have none of it.

    `places` are the texts along x in their order, where x holds texts or bars stand on it.
    """

    plots: list[KeptPlot]
    series: list[DrawnSeries]
    places: list[str]
    numbers: list[SaidNumber]
    without: list[str]
