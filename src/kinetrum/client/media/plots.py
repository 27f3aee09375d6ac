"""Plots of a run, recorded as data: computed here from truths and predictions, drawn and declared anew later."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

from kinetrum.client.recording.recorder import as_step
from kinetrum.client.spool.complete_segment import new_id
from kinetrum.core.base.values import JsonObject, check_key

if TYPE_CHECKING:
    from kinetrum.client.recording.run import Run
    from kinetrum.core.plots import Plot


class Plotting:
    """The plots of a run: one method a kind. `on` says what was predicted; the plot's name is `on/kind`.

    Truths are n labels or numbers; predictions n labels, scores or numbers, or n x k scores with a column per class.
    `step` is the point of training, inside `progress` the item's number. The further arguments are those of
    `kinetrum.core.plots.make_plot`: classes, positive, threshold, weights. Each returns what the plot says in numbers,
    and raises InvalidInput for what does not fit.
    """

    def __init__(self, run: Run) -> None:
        self._run = run

    def __repr__(self) -> str:
        return f"<Plots of {self._run!r}>"

    def confusion(self, on: str | None, y_true: object, y_score: object, **options: object) -> dict[str, float]:
        """Keep which classes were taken for which, from labels or scores of any number of classes."""
        return self._made("confusion", on, y_true, y_score, options)

    def roc(self, on: str | None, y_true: object, y_score: object, **options: object) -> dict[str, float]:
        """Keep the ROC curve, of more than two classes one each against the rest."""
        return self._made("roc", on, y_true, y_score, options)

    def precision_recall(self, on: str | None, y_true: object, y_score: object, **options: object) -> dict[str, float]:
        """Keep precision over recall."""
        return self._made("precision_recall", on, y_true, y_score, options)

    def threshold(self, on: str | None, y_true: object, y_score: object, **options: object) -> dict[str, float]:
        """Keep precision, recall, F1 and more over every threshold."""
        return self._made("threshold", on, y_true, y_score, options)

    def calibration(self, on: str | None, y_true: object, y_score: object, **options: object) -> dict[str, float]:
        """Keep the share that came true over the probability given; `bins` of equal width or count (`by`)."""
        return self._made("calibration", on, y_true, y_score, options)

    def predicted(self, on: str | None, y_true: object, y_score: object, **options: object) -> dict[str, float]:
        """Keep predicted numbers against true ones."""
        return self._made("predicted", on, y_true, y_score, options)

    def residuals(self, on: str | None, y_true: object, y_score: object, **options: object) -> dict[str, float]:
        """Keep residuals (truth less prediction) over predictions."""
        return self._made("residuals", on, y_true, y_score, options)

    def table(
        self,
        name: str,
        columns: Mapping[str, Sequence[object]],
        *,
        x: str | None = None,
        y: str | Sequence[str] | None = None,
        group: str | None = None,
        mark: str | None = None,
        step: int | None = None,
        **view: object,
    ) -> None:
        """Keep any table (columns of equal length by name, or a frame) as a plot with chosen axes.

        `mark`: line, steps, points, bars or matrix. `view`: title, x_name, y_name, x_scale and y_scale (linear or log),
        diagonal. All of it can be declared anew later without recording again.
        """
        from kinetrum.core.plots import table_plot

        self.keep(name, table_plot(_columns_of(columns), x, y, group, mark, **view), step)

    def _made(
        self, kind: str, on: str | None, y_true: object, y_score: object, options: JsonObject
    ) -> dict[str, float]:
        from kinetrum.core.plots import make_plot

        step = options.pop("step", None)
        plot = make_plot(kind, y_true, y_score, **options)
        self.keep(f"{on}/{kind}" if on else kind, plot, step)
        return dict(plot.numbers)

    def keep(self, name: str, plot: Plot, step: int | None = None) -> None:
        """Keep a plot of `kinetrum.core.plots` as it is."""
        from kinetrum.core.plots import write_plot

        run = self._run
        run._check_open()
        check_key(name, "plot")
        number = run._here if step is None else as_step(step)
        recorder, uid = run._recorder, new_id()
        # Beside the records, which stay small; it is removed once it was delivered.
        path = recorder.writer.folder / f"plot-{uid}.json"
        path.write_text(json.dumps(write_plot(plot), separators=(",", ":")))
        recorder.write("plot", id=uid, at=recorder.writer.now(), name=name, step=number, data=path.name)


def _columns_of(table: Any) -> Mapping[str, Sequence[object]]:
    """Return columns by name; frames and tables of other libraries are taken."""
    if hasattr(table, "to_pydict"):
        columns: Mapping[str, Sequence[object]] = table.to_pydict()
        return columns
    if hasattr(table, "columns") and hasattr(table, "to_dict"):
        return {str(name): table[name].tolist() for name in table.columns}
    return table if isinstance(table, Mapping) else dict(table)
