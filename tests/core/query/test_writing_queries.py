"""Writing queries: what is written reads back as the same, names are settled for good, lines of code are valid."""

from __future__ import annotations

import ast
import math
import shlex

import pytest
from hypothesis import given
from hypothesis import strategies as st

from kinetrum.core.query.check import Settling, settle
from kinetrum.core.query.parse import parse_query, parse_subject
from kinetrum.core.query.settled import Equals, Field, Key, Nan, Negation, Present
from kinetrum.core.query.syntax import Compare
from kinetrum.core.query.writing import (
    both,
    in_python,
    in_shell,
    resolved_names,
    resolved_query,
    source_text,
    value_text,
    word,
    written_test,
)
from tests.core.query.test_query import Orchard

names = st.text(
    st.characters(blacklist_categories=["Cc", "Cs"], blacklist_characters="\"'`"), min_size=1, max_size=20
).filter(lambda name: name == name.strip())
values = st.one_of(
    st.booleans(),
    st.none(),
    st.integers(-(2**70), 2**70),
    st.floats(allow_nan=False, allow_infinity=False),
    names,
    st.lists(st.integers() | names | st.booleans(), max_size=3),
)


@given(names)
def test_any_name_reads_back(name: str) -> None:
    for scope in ("param", "value", "label"):
        found = parse_subject(source_text(Key(scope, name)))  # type: ignore[arg-type]
        assert found.name == name
        assert found.scope == {"param": "param", "value": "metric", "label": "label"}[scope]
    aggregated = parse_subject(source_text(Key("value", name, "min")))
    assert (aggregated.name, aggregated.aggregate, aggregated.scope) == (name, "min", "metric")


@given(values)
def test_any_value_reads_back(value: object) -> None:
    parsed = parse_query(f"param:x = {value_text(value)}")  # type: ignore[arg-type]
    assert isinstance(parsed, Compare)
    from kinetrum.core.query.reading import readings

    number, text, special = readings(parsed.value)
    assert value in [number, text, *special]


def test_what_a_group_asks() -> None:
    learner = Key("param", "learner")
    assert written_test(learner, "forest", True) == "param:learner = forest"
    assert written_test(learner, None, False) == "not has param:learner"
    assert written_test(Key("value", "loss"), math.nan, True) == "metric:loss is nan"
    assert written_test(Field("status"), "failed", True) == "status = failed"
    assert settle("metric:loss is nan", Orchard())[0] == Nan(Key("value", "loss"))
    assert settle("not has param:learner", Orchard())[0] == Negation(Present(learner))
    assert settle(written_test(Key("label", "purpose"), "two words", True), Orchard())[0] == Equals(
        Key("label", "purpose"), ("two words",)
    )


def test_tests_are_joined_without_changing_what_was_asked() -> None:
    assert both("", "depth = 3") == "depth = 3"
    assert both("recall > 0.9", "depth = 3") == "recall > 0.9 and depth = 3"
    assert both("recall > 0.9 or depth = 2", "depth = 3") == "(recall > 0.9 or depth = 2) and depth = 3"


@pytest.mark.parametrize(
    ("query", "settled"),
    [
        ("recall >= 0.9 and depth in 4..8", "metric:recall >= 0.9 and param:depth in 4..8"),
        ("not (depth = 3 or purpose = x)", "not (param:depth = 3 or label:purpose = x)"),
        ("status = failed and has recall", "status = failed and has metric:recall"),
        ('"two words" = 3\nand min(loss) < 1', 'param:"two words" = 3 and min(loss) < 1'),
        ("param:loss = hinge and used nights@3", "param:loss = hinge and used nights@3"),
        ("", ""),
    ],
)
def test_names_are_settled(query: str, settled: str) -> None:
    assert resolved_query(query, Orchard()) == settled
    assert settle(settled, Orchard())[0] == settle(query, Orchard())[0]


def test_names_in_a_list_are_settled() -> None:
    found = resolved_names('recall:asc, depth,min(loss),"two words",started:desc,later', Orchard())
    assert found == [
        "metric:recall:asc",
        "param:depth",
        "min(metric:loss)",
        'param:"two words"',
        "started:desc",
        "later",
    ]
    assert all(Settling(Orchard()).source(parse_subject(name)) for name in ("metric:recall", "min(metric:loss)"))


@pytest.mark.parametrize("name", ["and", "in", "IS", "has", "a b", "a.b", "a..b", "x:y", "[x]", "a,b", "=", "nan"])
def test_words_that_need_quotes(name: str) -> None:
    quoted = word(name)
    assert quoted.startswith('"') is (name != "a.b")
    assert parse_subject(quoted).name == name


@given(names, st.text(st.characters(blacklist_categories=["Cc", "Cs"]), max_size=40), st.lists(names, max_size=3))
def test_lines_of_code_are_valid_whatever_they_hold(name: str, query: str, columns: list[str]) -> None:
    line = in_python("orchard", name, query, columns, "recall", "replicates")
    call = ast.parse(line, mode="eval").body
    assert isinstance(call, ast.Call)
    inner = call.func.value.keywords  # type: ignore[attr-defined]
    assert {key.arg: ast.literal_eval(key.value) for key in inner}["experiment"] == name
    parts = shlex.split(in_shell("orchard", name, query, columns, "recall", "depth"))
    assert parts[:2] == ["kinetrum", "runs"]
    assert parts[parts.index("-e") + 1] == name
    assert parts[2] == (query if query and not query.startswith("-") else "-e")
