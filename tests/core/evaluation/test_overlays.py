"""Plots laid over one another: names that tell series apart, places, numbers side by side, matrices as shares."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from kinetrum.core.base.errors import InvalidInput
from kinetrum.core.plots.matrices import matrix_of
from kinetrum.core.plots.overlay import SERIES_LIMIT, numbers_of, places_of, series_of
from kinetrum.core.plots.plot import Plot, PlotView
from kinetrum.core.plots.tables import table_plot


def plot(view: PlotView | None = None, numbers: dict[str, float] | None = None, **columns: list[Any]) -> Plot:
    names = list(columns)
    return Plot("table", columns, view or PlotView(x=names[0], y=tuple(names[1:])), numbers or {})


def test_one_plot_names_its_series_by_what_differs() -> None:
    one = plot(x=[1, 2], hits=[0.5, 0.6], misses=[0.5, 0.4])
    assert [(each.name, each.x, each.y) for each in series_of([("e/1", one)])] == [
        ("hits", (1, 2), (0.5, 0.6)),
        ("misses", (1, 2), (0.5, 0.4)),
    ]
    single = plot(x=[1], hits=[0.5])
    assert [each.name for each in series_of([("e/1", single)])] == ["hits"]


def test_several_plots_are_named_first() -> None:
    one, two = plot(x=[1], hits=[0.5]), plot(x=[2], hits=[0.7])
    assert [(each.name, each.of) for each in series_of([("e/1", one), ("e/2", two)])] == [("e/1", 0), ("e/2", 1)]
    wide = plot(x=[1], hits=[0.5], misses=[0.5])
    assert [each.name for each in series_of([("e/1", wide), ("e/2", wide)])] == [
        "e/1 hits",
        "e/1 misses",
        "e/2 hits",
        "e/2 misses",
    ]


def test_groups_are_series_of_their_own_in_their_order() -> None:
    view = PlotView(x="x", y=("y",), group="station")
    grouped = plot(view, x=[1, 2, 3], y=[4.0, 5.0, 6.0], station=["north", "south", "north"])
    found = series_of([("e/1", grouped)])
    assert [(each.name, each.x, each.y) for each in found] == [("north", (1, 3), (4.0, 6.0)), ("south", (2,), (5.0,))]
    assert [each.name for each in series_of([("a", grouped), ("b", grouped)])] == [
        "a north",
        "a south",
        "b north",
        "b south",
    ]


def test_what_has_no_number_is_left_out() -> None:
    odd = plot(x=[1, None, 3, 4, 5, "six"], y=[1, 2, float("nan"), float("inf"), True, 6])
    (found,) = series_of([("e/1", odd)])
    assert (found.x, found.y) == ((1, "six"), (1.0, 6.0))


def test_no_more_series_than_can_be_looked_at() -> None:
    view = PlotView(x="x", y=("y",), group="g")
    many = plot(view, x=list(range(500)), y=list(range(500)), g=[str(at) for at in range(500)])
    assert len(series_of([("e/1", many)])) == SERIES_LIMIT


def test_places_are_the_texts_along_x() -> None:
    numbers, texts = plot(x=[2, 1], y=[0, 0]), plot(x=["south", "north", "south"], y=[0, 0, 0])
    assert places_of([("e/1", numbers)]) == []
    assert places_of([("e/1", texts)]) == ["south", "north"]
    assert places_of([("e/1", numbers), ("e/2", texts)]) == ["2", "1", "south", "north"]
    # Bars stand at places even over numbers.
    assert places_of([("e/1", plot(PlotView(mark="bars", x="x", y=("y",)), x=[2, 1], y=[0, 0]))]) == ["2", "1"]


def test_numbers_stand_side_by_side_and_the_last_is_the_baseline() -> None:
    one = plot(x=[1], y=[1], numbers={"area": 0.9, "threshold": 0.5})
    two = plot(x=[1], y=[1], numbers={"area": 0.8, "count": 3.0})
    area, threshold, count = numbers_of([("e/1", one), ("e/2", two)])
    assert (area.name, area.values, area.change) == ("area", (0.9, 0.8), pytest.approx(0.1))
    assert (threshold.values, threshold.change) == ((0.5, None), None)
    assert (count.values, count.change) == ((None, 3.0), None)
    assert numbers_of([("e/1", one)])[0].change is None


def confusion(share: str = "count") -> Plot:
    view = PlotView(mark="matrix", x="prediction", y=("count",), group="truth", share=share)
    return plot(view, truth=["calm", "calm", "frost"], prediction=["calm", "frost", "frost"], count=[6, 2, 4])


def test_a_matrix_in_counts_and_shares() -> None:
    assert matrix_of(confusion()) == (["calm", "frost"], [[6.0, 2.0], [0.0, 4.0]])
    assert matrix_of(confusion("row"))[1] == [[0.75, 0.25], [0.0, 1.0]]
    assert matrix_of(confusion("column"))[1] == [[1.0, pytest.approx(1 / 3)], [0.0, pytest.approx(2 / 3)]]


def test_classes_that_are_only_predicted_have_empty_rows() -> None:
    view = PlotView(mark="matrix", x="prediction", y=("count",), group="truth", share="row")
    names, cells = matrix_of(plot(view, truth=["calm", "calm"], prediction=["fog", "fog"], count=[1, 2]))
    # Pairs that stand there twice are added up, and an empty row stays empty instead of failing.
    assert (names, cells) == (["calm", "fog"], [[0.0, 1.0], [0.0, 0.0]])


@given(st.lists(st.tuples(st.sampled_from("abc"), st.sampled_from("abc"), st.integers(0, 9)), min_size=1, max_size=9))
def test_shares_add_up_to_one_or_nothing(rows: list[tuple[str, str, int]]) -> None:
    truth, guess, counts = (list(column) for column in zip(*rows, strict=True))
    for share, axis in (("row", 1), ("column", 0)):
        view = PlotView(mark="matrix", x="guess", y=("count",), group="truth", share=share)
        _, cells = matrix_of(plot(view, truth=truth, guess=guess, count=counts))
        sums = np.array(cells).sum(axis=axis)
        assert ((np.abs(sums - 1) < 1e-9) | (sums == 0)).all()


class Series:
    """A column as other libraries have it: values that know how to become plain ones."""

    def __init__(self, *values: Any) -> None:
        self.values = values

    def tolist(self) -> list[Any]:
        return list(self.values)


def test_a_table_chooses_its_axes() -> None:
    found = table_plot({"day": ["mo", "tu"], "low": np.array([1, 2]), "high": Series(3.5, np.float32(4))})
    assert (found.view.mark, found.view.x, found.view.y) == ("bars", "day", ("low", "high"))
    assert found.columns["high"] == [3.5, 4.0]
    assert table_plot({"x": [1, 2], "y": [3, 4]}).view.mark == "line"
    assert table_plot({"x": [1, 2]}).view.y == ("x",)
    assert table_plot({"x": [1, 2], "y": [3, 4], "z": ["a", "b"]}, group="z", y="y").view.group == "z"


@pytest.mark.parametrize(
    ("columns", "options", "told"),
    [
        ({}, {}, "at least one column"),
        ({"day": ["mo"]}, {}, "no column of numbers to draw"),
        ({"x": [1]}, {"mark": "pie"}, "mark is 'pie'; it is one of line"),
        ({"x": [1]}, {"colour": "red"}, "takes no such thing"),
        ({"x": [1]}, {"y": ["z"]}, "z"),
        ({"x": [1], "y": [1, 2]}, {}, "different lengths"),
    ],
)
def test_a_table_that_cannot_be_drawn_says_why(columns: dict[str, Any], options: dict[str, Any], told: str) -> None:
    with pytest.raises(InvalidInput, match=told):
        table_plot(columns, **options)
