"""Any table as a plot, with chosen axes."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from kinetrum.core.base.errors import InvalidInput
from kinetrum.core.plots.plot import MARKS, Plot, PlotView, check_view, read_columns


def table_plot(
    columns: Mapping[str, Sequence[Any]],
    x: str | None = None,
    y: str | Sequence[str] | None = None,
    group: str | None = None,
    mark: str | None = None,
    **view: Any,
) -> Plot:
    """Make a plot of columns; without `x` over the first one, without `y` of the other columns of numbers.

    `mark` is found out where it is not given: bars over texts, else a line. Further arguments are those of View.
    Raises InvalidInput or TooLarge that names the part at fault.
    """
    columns_read = read_columns({str(name): _plain(values) for name, values in columns.items()})
    if not columns_read:
        raise InvalidInput("A table has at least one column.", field="columns")
    across = x if x is not None else next(iter(columns_read))
    if y is None:
        chosen = [name for name in columns_read if name not in {across, group} and _numeric(columns_read[name])]
        chosen = chosen or ([across] if _numeric(columns_read.get(across, [])) else [])
        if not chosen:
            raise InvalidInput("The table has no column of numbers to draw; name one with y.", field="view.y")
    else:
        chosen = [y] if isinstance(y, str) else [str(name) for name in y]
    chosen_mark: Any = mark or ("line" if _numeric(columns_read.get(across, [])) else "bars")
    if chosen_mark not in MARKS:
        raise InvalidInput(f"mark is {chosen_mark!r}; it is one of {', '.join(MARKS)}.", field="view.mark")
    try:
        drawn = PlotView(mark=chosen_mark, x=across, y=tuple(chosen), group=group, **view)
    except TypeError as error:
        raise InvalidInput(f"A view takes no such thing ({error}).", field="view") from None
    return Plot("table", columns_read, check_view(drawn, columns_read))


def _plain(values: Any) -> list[Any]:
    """Return a column as a list of plain values; arrays and series of other libraries are taken."""
    from kinetrum.core.base.values import to_json

    listed = values.tolist() if hasattr(values, "tolist") else list(values)
    return [to_json(value.item() if hasattr(value, "item") else value) for value in listed]


def _numeric(values: Sequence[Any]) -> bool:
    return all(value is None or (isinstance(value, int | float) and not isinstance(value, bool)) for value in values)
