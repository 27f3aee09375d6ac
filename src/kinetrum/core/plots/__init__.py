"""Plots kept as data: a table, what is said of it in numbers, and how it is drawn, which may be declared anew later."""

from kinetrum.core.plots.made import PLOT_KINDS, make_plot
from kinetrum.core.plots.plot import Plot, PlotView, read_plot, redeclare, write_plot
from kinetrum.core.plots.tables import table_plot

__all__ = ["PLOT_KINDS", "Plot", "PlotView", "make_plot", "read_plot", "redeclare", "table_plot", "write_plot"]
