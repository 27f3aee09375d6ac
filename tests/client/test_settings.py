"""Settings in the forms people have them, flattened to dotted typed keys."""

from __future__ import annotations

import argparse
import dataclasses
import datetime
import enum
import math
from decimal import Decimal
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np
import pydantic
import pytest

from kinetrum.client.settings import as_settings
from kinetrum.core.errors import InvalidInput, NotFound
from kinetrum.core.values import read_typed


class Loss(enum.Enum):
    HINGE = "hinge"


@dataclasses.dataclass
class Layer:
    units: int = 8
    loss: Loss = Loss.HINGE


@dataclasses.dataclass
class Plan:
    rate: float
    layers: list[Layer] = dataclasses.field(default_factory=lambda: [Layer(), Layer(16)])
    folder: Path = Path("out") / "a"
    begun: datetime.date = datetime.date(2026, 4, 1)


class Options(pydantic.BaseModel):
    depth: int = 6
    inner: dict[str, float] = {"a": 0.5}


class Pair(NamedTuple):
    low: int
    high: float


def test_dataclasses_with_everything_in_them() -> None:
    assert as_settings(Plan(0.1)) == {
        "rate": 0.1, "layers.0.units": 8, "layers.0.loss": "hinge", "layers.1.units": 16, "layers.1.loss": "hinge",
        "folder": "out/a", "begun": "2026-04-01",
    }  # fmt: skip


def test_models_namespaces_tuples_and_arrays_keep_types_and_order() -> None:
    found = as_settings({
        "options": Options(), "cli": argparse.Namespace(seed=3, verbose=True, func=print), "range": Pair(1, 2.0),
        "scale": np.float32(0.5), "weights": np.array([1.5, 2.0]), "wait": datetime.timedelta(minutes=2),
        "price": Decimal("1.25"), "names": {"b", "a"}, 5: None,
    })  # fmt: skip
    assert found == {
        "options.depth": 6, "options.inner.a": 0.5, "cli.seed": 3, "cli.verbose": True, "cli.func": "builtins.print",
        "range.low": 1, "range.high": 2.0, "scale": 0.5, "weights": [1.5, 2.0], "wait": 120.0, "price": 1.25,
        "names": ["a", "b"], "5": None,
    }  # fmt: skip
    assert list(found)[:3] == ["options.depth", "options.inner.a", "cli.seed"]
    assert isinstance(found["range.high"], float)
    assert found["cli.verbose"] is True


@pytest.mark.parametrize(
    ("name", "text"),
    [
        ("a.toml", 'rate = 1e-3\nanswer = "no"\nflags = [1, 2]\nwhole = 5\nfine = 5.0\n[net]\nunits = 8\n'),
        ("a.yaml", "rate: 1e-3\nanswer: no\nflags: [1, 2]\nwhole: 5\nfine: 5.0\nnet:\n  units: 8\n"),
        ("a.json", '{"rate": 1e-3, "answer": "no", "flags": [1, 2], "whole": 5, "fine": 5.0, "net": {"units": 8}}'),
    ],
)
def test_files_say_the_same_in_every_form(tmp_path: Path, name: str, text: str) -> None:
    (tmp_path / name).write_text(text)
    found = as_settings(tmp_path / name)
    assert found == {"rate": 0.001, "answer": "no", "flags": [1, 2], "whole": 5, "fine": 5.0, "net.units": 8}
    assert [type(found[key]) for key in ("whole", "fine")] == [int, float]


@pytest.mark.parametrize(
    ("name", "text", "said"),
    [
        ("a.toml", "rate = \n", "line 1"), ("a.yaml", "a: [1\nb: 2\n", "line 2"), ("a.json", "{", "line 1"),
        ("a.ini", "", "ends in none of"), ("a.json", "[1]", "holds something of type list"), ("a.yaml", "a: 1\na: 2\n", "duplicate"),
    ],
)  # fmt: skip
def test_files_that_are_wrong_say_where(tmp_path: Path, name: str, text: str, said: str) -> None:
    (tmp_path / name).write_text(text)
    with pytest.raises(InvalidInput, match=said) as error:
        as_settings(str(tmp_path / name))
    assert name in str(error.value)


def test_what_cannot_be_a_setting() -> None:
    with pytest.raises(NotFound, match="is not there"):
        as_settings("no/such/file.toml")
    for wrong in (5, [1, 2], Layer, {"a": object()}, {("a", "b"): 1}, {"a": {"b": 1}, "a.b": 2}):
        with pytest.raises(InvalidInput):
            as_settings(wrong)
    assert as_settings(None) == {}


@pytest.mark.parametrize(
    ("text", "value"),
    [("5", 5), ("5.0", 5.0), ("-1e-3", -0.001), ("true", True), ("null", None), ("[1, 2]", [1, 2]), ("forest", "forest"),
     ('"5"', "5"), ("", ""), ("{}", "{}"), ("Infinity", math.inf), ("01", "01")],
)  # fmt: skip
def test_values_as_they_are_typed(text: str, value: Any) -> None:
    found = read_typed(text)
    assert found == value
    assert type(found) is type(value)
