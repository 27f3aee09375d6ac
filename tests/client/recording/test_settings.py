"""Settings in the forms people have them, flattened to dotted typed keys."""

from __future__ import annotations

import argparse
import dataclasses
import datetime
import enum
import math
import uuid
from collections.abc import Iterator
from decimal import Decimal
from fractions import Fraction
from hashlib import sha256
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np
import pydantic
import pytest
from sklearn.ensemble import BaggingClassifier, StackingClassifier
from sklearn.linear_model import LogisticRegression
from sklearn.model_selection import GridSearchCV, KFold
from sklearn.pipeline import make_pipeline
from sklearn.preprocessing import StandardScaler
from sklearn.svm import SVC

from kinetrum.client.recording.parameters import as_settings
from kinetrum.core.base.errors import InvalidInput, NotFound
from kinetrum.core.base.values import read_typed


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
        "rate": 0.1,
        "layers.0.units": 8,
        "layers.0.loss": "hinge",
        "layers.1.units": 16,
        "layers.1.loss": "hinge",
        "folder": "out/a",
        "begun": "2026-04-01",
    }


def test_models_namespaces_tuples_and_arrays_keep_types_and_order() -> None:
    found = as_settings(
        {
            "options": Options(),
            "cli": argparse.Namespace(seed=3, verbose=True, func=print),
            "range": Pair(1, 2.0),
            "scale": np.float32(0.5),
            "weights": np.array([1.5, 2.0]),
            "wait": datetime.timedelta(minutes=2),
            "price": Decimal("1.25"),
            "names": {"b", "a"},
            5: None,
        }
    )
    assert found == {
        "options.depth": 6,
        "options.inner.a": 0.5,
        "cli.seed": 3,
        "cli.verbose": True,
        "cli.func": "builtins.print",
        "range.low": 1,
        "range.high": 2.0,
        "scale": 0.5,
        "weights": [1.5, 2.0],
        "wait": 120.0,
        "price": 1.25,
        "names": ["a", "b"],
        "5": None,
    }
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
        ("a.toml", "rate = \n", "line 1"),
        ("a.yaml", "a: [1\nb: 2\n", "line 2"),
        ("a.json", "{", "line 1"),
        ("a.ini", "", "ends in none of"),
        ("a.json", "[1]", "holds something of type list"),
        ("a.yaml", "a: 1\na: 2\n", "duplicate"),
    ],
)
def test_files_that_are_wrong_say_where(tmp_path: Path, name: str, text: str, said: str) -> None:
    (tmp_path / name).write_text(text)
    with pytest.raises(InvalidInput, match=said) as error:
        as_settings(str(tmp_path / name))
    assert name in str(error.value)


def test_what_cannot_be_a_setting() -> None:
    with pytest.raises(NotFound, match="is not there"):
        as_settings("no/such/file.toml")
    for wrong in (5, [1, 2], Layer, {"a": {"b": 1}, "a.b": 2}, {"a": 1, "": 2}, {"a\n": 1}):
        with pytest.raises(InvalidInput):
            as_settings(wrong)
    assert as_settings(None) == {}


class Odd:
    """Something whose text cannot be had."""

    def __repr__(self) -> str:
        raise RuntimeError


class Solver(enum.Enum):
    FAST = "fast"
    OTHER = object()


def _numbers() -> Iterator[int]:
    yield 1


def test_values_of_any_type_have_a_form() -> None:
    without_form: list[str] = []
    found = as_settings(
        {
            "dtype": np.dtype("float32"),
            "kind": np.float32,
            "span": range(3),
            "raw": b"abc",
            "solver": Solver.FAST,
            "other": Solver.OTHER,
            "path": Path("/a/b"),
            "day": datetime.date(2026, 4, 1),
            "share": Fraction(1, 4),
            "id": uuid.UUID(int=5),
            "at": np.datetime64("2026-04-01"),
            "none": {},
            ("a", 1): 2,
            True: 3,
            "random": np.random.default_rng(1),
            "numbers": _numbers(),
            "thing": object(),
            "odd": Odd(),
            "large": np.zeros((2_000, 3)),
            "cut": "x",
            "splits": KFold(3),
        },
        without_form,
    )
    assert found == {
        "dtype": "float32",
        "kind": "numpy.float32",
        "span": "range(0, 3)",
        "raw": f"sha256:{sha256(b'abc').hexdigest()}",
        "solver": "fast",
        "other": "Solver.OTHER",
        "path": "/a/b",
        "day": "2026-04-01",
        "share": 0.25,
        "id": "00000000-0000-0000-0000-000000000005",
        "at": "2026-04-01",
        "none": "{}",
        "(a, 1)": 2,
        "True": 3,
        "random": "Generator(PCG64)",
        "numbers": "<generator object _numbers>",
        "thing": "<object object>",
        "odd": f"<{__name__}.Odd>",
        "large": "array of 2000 × 3 float64",
        "cut": "x",
        "splits": "KFold(n_splits=3, random_state=None, shuffle=False)",
    }
    assert without_form == ["random", "numbers", "thing", "odd", "large", "splits"]


def test_what_was_given_is_not_used_up_and_no_circle_is_gone_round() -> None:
    numbers, circle = _numbers(), {"a": 1}
    circle["self"] = circle  # type: ignore[assignment]
    as_settings({"numbers": numbers})
    assert next(numbers) == 1
    assert as_settings(circle)["a"] == 1
    deep: Any = 5
    for _ in range(200):
        deep = {"a": deep}
    (key,) = as_settings(deep)
    assert key.count("a") < 30


def test_an_estimator_is_its_class_and_its_settings() -> None:
    pipe = make_pipeline(StandardScaler(), SVC(C=2))
    without_form: list[str] = []
    nested = as_settings({"model": pipe}, without_form)
    assert nested["model"] == "sklearn.pipeline.Pipeline"
    assert nested["model.steps.svc"] == "sklearn.svm._classes.SVC"
    assert nested["model.steps.svc.C"] == 2
    assert nested["model.steps.standardscaler.with_mean"] is True
    alone = as_settings(pipe)
    assert alone["class"] == "sklearn.pipeline.Pipeline"
    assert alone["steps.svc.C"] == 2
    # As the documentation of every estimator says to ask; what stands there by itself is not told twice.
    asked = as_settings(pipe.get_params(), without_form)
    assert asked["svc"] == "sklearn.svm._classes.SVC"
    assert asked["svc__C"] == 2
    assert asked["steps"] == ["standardscaler", "svc"]
    assert not [key for key in asked if "." in key]
    assert without_form == []
    search = as_settings(GridSearchCV(pipe, {"svc__C": [1, 2], "svc__gamma": np.array([0.1, 1.0])}).get_params())
    assert (search["param_grid.svc__C"], search["param_grid.svc__gamma"]) == ([1, 2], [0.1, 1.0])
    assert search["estimator"] == "sklearn.pipeline.Pipeline"
    assert search["estimator__svc__C"] == 2
    bagged = as_settings({"model": BaggingClassifier(LogisticRegression(C=3))})
    assert (bagged["model.estimator"], bagged["model.estimator.C"]) == (
        "sklearn.linear_model._logistic.LogisticRegression",
        3,
    )
    stack = as_settings(StackingClassifier([("line", LogisticRegression(C=5)), ("svc", SVC())]).get_params())
    assert (stack["estimators"], stack["line__C"]) == (["line", "svc"], 5)


def test_the_same_object_has_the_same_text_in_every_process() -> None:
    class Thing:
        pass

    first, second = (as_settings({"thing": Thing()})["thing"] for _ in range(2))
    assert first == second
    assert "0x" not in str(first)


@pytest.mark.parametrize(
    ("text", "value"),
    [
        ("5", 5),
        ("5.0", 5.0),
        ("-1e-3", -0.001),
        ("true", True),
        ("null", None),
        ("[1, 2]", [1, 2]),
        ("forest", "forest"),
        ('"5"', "5"),
        ("", ""),
        ("{}", "{}"),
        ("Infinity", math.inf),
        ("01", "01"),
    ],
)
def test_values_as_they_are_typed(text: str, value: Any) -> None:
    found = read_typed(text)
    assert found == value
    assert type(found) is type(value)
