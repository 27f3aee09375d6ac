"""Names, keys and typed values."""

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from kinetrum.core.base.errors import InvalidInput
from kinetrum.core.base.values import (
    check_key,
    check_name,
    check_value,
    flatten,
    from_json,
    number_from_json,
    same,
    show,
    to_json,
)

plain = st.recursive(
    st.none()
    | st.booleans()
    | st.integers()
    | st.floats()
    | st.text(st.characters(codec="utf-8", exclude_characters="\0")),
    lambda inner: st.lists(inner, max_size=4),
    max_leaves=8,
)


@pytest.mark.parametrize("name", ["frost-alarm", "a", "main", "x.y_z-9", "n" * 100])
def test_allowed_names(name: str) -> None:
    assert check_name(name, "experiment") == name


@pytest.mark.parametrize(
    "name", ["", "9lives", "-x", "a b", "grün", "n" * 101, "last", "best", "lead", "latest", "a/b", 7, None]
)
def test_refused_names(name: object) -> None:
    with pytest.raises(InvalidInput):
        check_name(name, "experiment")


def test_upper_case_is_refused_with_its_lower_form() -> None:
    with pytest.raises(InvalidInput, match="'frost-alarm'"):
        check_name("Frost-Alarm", "experiment")


@pytest.mark.parametrize("key", ["loss", "val/loss", "Größe", "a b", "k" * 250, "läuft 🍎"])
def test_allowed_keys(key: str) -> None:
    assert check_key(key) == key


@pytest.mark.parametrize("key", ["", " a", "a ", "a\nb", 'a"b', "a'b", "a`b", "\x00", "k" * 251, 3, "\ud800"])
def test_refused_keys(key: object) -> None:
    with pytest.raises(InvalidInput):
        check_key(key)


def test_equality_of_settings() -> None:
    assert same(5, 5.0)
    assert same(math.nan, math.nan)
    assert same([1, "a", None], [1.0, "a", None])
    assert not same(True, 1)
    assert not same(False, 0)
    assert not same("5", 5)
    assert not same(None, False)
    assert not same([1], [1, 2])
    assert not same(2**53, 2**53 + 1)


@given(plain)
def test_json_keeps_every_value(value: object) -> None:
    import json

    checked = check_value(value, "x")
    assert same(from_json(json.loads(json.dumps(to_json(checked)))), checked)


@given(plain)
def test_a_value_is_the_same_as_itself(value: object) -> None:
    assert same(value, value)  # type: ignore[arg-type]


def test_numpy_scalars_are_numbers() -> None:
    assert check_value(np.float32(0.5), "x") == 0.5
    assert check_value(np.int64(7), "x") == 7
    assert check_value(np.array(3.5), "x") == 3.5
    assert check_value(np.bool_(True), "x") is True


@pytest.mark.parametrize(
    "value", [object(), {1: 2}, b"x", np.zeros(3), 1j, "x" * 16_385, [0] * 1_001, "a\0b", "\udc80"]
)
def test_refused_values(value: object) -> None:
    with pytest.raises(InvalidInput):
        check_value(value, "x")


def test_refused_json() -> None:
    for data in ({"float": "nan"}, {"float": "NaN", "x": 1}, {"a": 1}):
        with pytest.raises(InvalidInput):
            from_json(data)


def test_points_from_json() -> None:
    assert number_from_json(3, "loss") == 3.0
    assert math.isnan(number_from_json("NaN", "loss"))
    assert number_from_json("-Infinity", "loss") == -math.inf
    for data in (True, None, "3", [], {}):
        with pytest.raises(InvalidInput, match="loss"):
            number_from_json(data, "loss")


def test_flatten() -> None:
    assert flatten({}) == {}
    assert flatten({"a": {}, "b": {"c": {}}}) == {"a": "{}", "b.c": "{}"}
    assert flatten({"a": {"b": 1, "c": {"d": [1, 2]}}, "e": None}) == {"a.b": 1, "a.c.d": [1, 2], "e": None}
    with pytest.raises(InvalidInput, match="twice"):
        flatten({"a.b": 1, "a": {"b": 2}})
    with pytest.raises(InvalidInput, match="not named by text"):
        flatten({3: 1})
    with pytest.raises(InvalidInput, match="dictionary"):
        flatten([1])


@pytest.mark.parametrize(
    ("value", "text"),
    [
        (5, "5"),
        (5.0, "5"),
        (0.1, "0.1"),
        (math.nan, "NaN"),
        (-math.inf, "-Infinity"),
        (True, "true"),
        (None, "null"),
        (1 / 3, "0.333333"),
        ([1, "a"], "[1, a]"),
        (1e20, "1e+20"),
    ],
)
def test_show(value: object, text: str) -> None:
    assert show(value) == text  # type: ignore[arg-type]
