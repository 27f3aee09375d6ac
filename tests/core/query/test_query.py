"""The query language: what is read, what each name and value means, and what wrong queries are answered."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import ClassVar

import pytest
from hypothesis import given
from hypothesis import strategies as st

from kinetrum.core.base.errors import InvalidInput
from kinetrum.core.base.goals import Direction, Goal
from kinetrum.core.base.refs import NameRef, RunRef, VersionRef
from kinetrum.core.query.check import settle
from kinetrum.core.query.matching import holds
from kinetrum.core.query.parse import QueryError, parse_query
from kinetrum.core.query.settled import (
    All,
    Any,
    ChildOf,
    Equals,
    Field,
    HasPlot,
    Hexed,
    Inside,
    Key,
    Kinds,
    Matches,
    Nan,
    Negation,
    Ordered,
    Present,
    UsedContent,
)
from kinetrum.core.query.sorting import SortKey, read_sort

DAY = 86_400_000_000
NOW = 20_000 * DAY
RECALL, LOSS = Key("value", "recall"), Key("value", "loss")
DEPTH, LEARNER = Key("param", "depth"), Key("param", "learner")


class Orchard:
    """Some runs that know recall, loss, val/loss, depth, learner, early, mixed, and the label purpose."""

    HELD: ClassVar = {
        RECALL: Kinds.NUMBER,
        LOSS: Kinds.NUMBER | Kinds.SPECIAL,
        Key("value", "val/loss"): Kinds.NUMBER,
        DEPTH: Kinds.NUMBER,
        LEARNER: Kinds.TEXT,
        Key("param", "loss"): Kinds.TEXT,
        Key("param", "early"): Kinds.SPECIAL,
        Key("param", "mixed"): Kinds.NUMBER | Kinds.TEXT,
        Key("label", "purpose"): Kinds.TEXT,
        Key("param", "two words"): Kinds.NUMBER,
        Key("param", "in"): Kinds.NUMBER,
    }

    def kinds(self, key: Key) -> Kinds | None:
        if key.aggregate != "shown":
            return Kinds.NUMBER if self.is_metric(key.name) else None
        return self.HELD.get(key)

    def is_metric(self, name: str) -> bool:
        return name in {"loss", "val/loss"}

    def has_plot(self, name: str) -> bool:
        return name == "roc"

    def names(self) -> Sequence[str]:
        return [key.name for key in self.HELD]

    def now(self) -> int:
        return NOW


def plan(text: str) -> object:
    return settle(text, Orchard())[0]


READ = {
    "recall >= 0.9": Ordered(RECALL, ">=", 0.9),
    "recall>=.9": Ordered(RECALL, ">=", 0.9),
    "depth = 5": Equals(DEPTH, (5,)),
    "depth != 5.0": Equals(DEPTH, (5.0,), True),
    "depth in 4..8": Inside(DEPTH, 4, 8),
    "depth in -1e3..-0.5": Inside(DEPTH, -1000.0, -0.5),
    "learner = forest": Equals(LEARNER, ("forest",)),
    "learner = 5": Equals(LEARNER, ("5",)),
    "mixed = 5": Equals(Key("param", "mixed"), (5, "5")),
    "learner in {boost, 'rule of thumb'}": Equals(LEARNER, ("boost", "rule of thumb")),
    "early = true": Equals(Key("param", "early"), (True,)),
    "early = null": Equals(Key("param", "early"), (None,)),
    "early = [1, x, true]": Equals(Key("param", "early"), ([1, "x", True],)),
    "early = [[], 'true']": Equals(Key("param", "early"), ([[], "true"],)),
    "learner like 'fo?e*'": Matches(LEARNER, "fo?e*"),
    "learner like a***b": Matches(LEARNER, "a*b"),
    "loss is nan": Nan(LOSS),
    "param:loss = hinge": Equals(Key("param", "loss"), ("hinge",)),
    "metric:loss < 1": Ordered(LOSS, "<", 1),
    "label:purpose = baseline": Equals(Key("label", "purpose"), ("baseline",)),
    "purpose = baseline": Equals(Key("label", "purpose"), ("baseline",)),
    "min(loss) < 0.2": Ordered(Key("value", "loss", "min"), "<", 0.2),
    "last('val/loss') < 0.3": Ordered(Key("value", "val/loss", "last"), "<", 0.3),
    "val/loss < 0.3": Ordered(Key("value", "val/loss"), "<", 0.3),
    "best(metric:loss) < 1": Ordered(Key("value", "loss", "best"), "<", 1),
    "'two words' > 1": Ordered(Key("param", "two words"), ">", 1),
    'param:"two words" > 1': Ordered(Key("param", "two words"), ">", 1),
    "in = 3": Equals(Key("param", "in"), (3,)),
    "has recall": Present(RECALL),
    "has plot:roc": HasPlot("roc"),
    "has note": Present(Field("note")),
    "status = failed": Equals(Field("status"), ("failed",)),
    "run:status != failed": Equals(Field("status"), ("failed",), True),
    "number in {1, 2}": Equals(Field("number"), (1, 2)),
    "name like deep*": Matches(Field("name"), "deep*"),
    "id = 3F2a-9c1e": Hexed(Field("id"), "3f2a9c1e"),
    "commit != 4f2a9c1": Hexed(Field("commit"), "4f2a9c1", True),
    "started within 7d": Ordered(Field("started"), ">=", NOW - 7 * DAY),
    "started within 90s": Ordered(Field("started"), ">=", NOW - 90_000_000),
    "started = 1970-01-02": Inside(Field("started"), DAY, 2 * DAY - 1),
    "started > 1970-01-02": Ordered(Field("started"), ">=", 2 * DAY),
    "started >= 1970-01-02T00:00Z": Ordered(Field("started"), ">=", DAY),
    "started < 1970-01-02T02:00+02:00": Ordered(Field("started"), "<", DAY),
    "started <= 1970-01": Ordered(Field("started"), "<", 31 * DAY),
    "ended in 1970-01-02..1970-01-03": Inside(Field("ended"), DAY, 3 * DAY - 1),
    "duration > 5m": Ordered(Field("duration"), ">", 300.0),
    "duration in 1h..2h": Inside(Field("duration"), 3600.0, 7200.0),
    "parent = frost-alarm/42": ChildOf(RunRef("frost-alarm", "42")),
    "used nights@3": UsedContent(VersionRef("nights", "3"), None),
    "used nights": UsedContent(NameRef("nights"), None),
    "used sha256:0123abcd": UsedContent(None, "0123abcd"),
    "not recall > 1": Negation(Ordered(RECALL, ">", 1)),
    "recall > 1 and depth = 2 or depth = 3": Any(
        (All((Ordered(RECALL, ">", 1), Equals(DEPTH, (2,)))), Equals(DEPTH, (3,)))
    ),
    "recall > 1 AND (depth = 2 Or depth = 3)": All(
        (Ordered(RECALL, ">", 1), Any((Equals(DEPTH, (2,)), Equals(DEPTH, (3,)))))
    ),
}


@pytest.mark.parametrize("text", READ)
def test_what_is_read(text: str) -> None:
    assert plan(text) == READ[text]


def test_an_empty_query_is_every_run() -> None:
    assert plan("  ") is None


def test_where_a_name_is_several_things_the_answer_says_so() -> None:
    _, remarks = settle("loss > 1 and loss < 2", Orchard())
    assert remarks == [
        "loss is a result or metric and a parameter here; a result or metric is meant. Write param:loss for the other."
    ]
    assert settle("param:loss = x", Orchard())[1] == []


WRONG = {
    "recall >": (9, "a name or value"),
    "recall": (7, "name like '*recall*'"),
    "recall == 0.9": (8, "Write = for equal"),
    "depth = 1 depth = 2": (11, "“and”"),
    "depth = 1 && depth = 2": (11, "Write and"),
    "depth = 1 || depth = 2": (11, "Write or"),
    "depth <> 3": (7, "Write != for different"),
    "recall => 0.9": (8, "Write >= for at least"),
    "recall =< 0.9": (8, "Write <= for at most"),
    "metric:depth > 2": (1, "It is a parameter: write param:depth"),
    "param:recall > 2": (1, "It is a result or metric: write metric:recall"),
    "(depth = 1": (11, ") is expected"),
    "depth = 1)": (10, "the end is expected"),
    "depth in 4..": (13, "a name or value"),
    "depth in {1, 2": (15, "} or ,"),
    'learner = "x': (11, "never closed"),
    "learner = 'x": (11, "never closed"),
    "learner ~ x": (9, "Write like"),
    "not": (4, "a test"),
    "learner like": (13, "quoted text"),
    "learner is null": (12, "Write = or !="),
    "within 7d": (8, "started within 7d"),
    "learner = hail storm": (16, "in quotes"),
    ">= 3": (1, "a test"),
    "!has recall": (1, "Write not"),
    "depth = 1 and": (14, "a test"),
    "mode(depth) > 3": (5, "best(…)"),
    "depth in {}": (11, "a name or value"),
    "depth 8": (7, "= != <"),
    "depth in [4, 8]": (10, "Write in {4, 8}"),
    "depth between 4 and 8": (7, "Write in 4..8"),
    "depth = 1 or or depth = 2": (17, "= != <"),
    "learner contains x": (9, "like with"),
    "dept = 5": (1, "Nearest: depth"),
    "DEPTH = 5": (1, "Nearest: depth"),
    "foo:bar = 3": (1, "Unknown scope 'foo'"),
    "metric:depth = 5": (1, "not a result or metric"),
    "param:recall = 5": (1, "not a parameter"),
    "run:depth = 3": (1, "not a field"),
    "learner > 3": (1, "holds texts"),
    "depth = deep": (9, "holds numbers"),
    "depth > deep": (9, "'deep' is none"),
    "depth like 4*": (1, "like compares texts"),
    "depth in 8..4": (10, "lower end first"),
    "recall = nan": (10, "recall is nan"),
    "min(depth) > 3": (1, "is none here"),
    "min(recall) > 3": (1, "is of metrics"),
    "min(lozz) > 3": (1, "Nearest: loss"),
    "status = runing": (10, "Nearest: running"),
    "status > failed": (1, "is a text"),
    "name = [1]": (1, "a list is"),
    "number = x": (10, "is none"),
    "started = yesterday": (11, "is not a time"),
    "started > 2026-13-01": (11, "is not a time"),
    "started within week": (16, "not a span of time"),
    "started in {2026-10-01}": (1, "within 7d"),
    "depth within 7d": (1, "asked of started"),
    "duration within 7d": (1, "asked of started"),
    "duration > long": (12, "not a span"),
    "duration > 99999w": (12, "not a span"),
    "id = xyz": (6, "hexadecimal"),
    "id like 3f*": (1, "Ask with ="),
    "commit > 3f2a": (1, "= or !="),
    "parent = 3": (10, "names no run"),
    "parent = nights@3": (10, "names no run"),
    "parent like x*": (1, "Ask with ="),
    "status is nan": (1, "never NaN"),
    "used frost-alarm/3": (6, "names no artifact"),
    "used sha256:12": (6, "at least 8"),
    "used Nights": (6, "lowercase"),
    "used nights@3:a.csv": (6, "names no artifact"),
    "has plot:pie": (5, "no run searched keeps"),
    "plot:roc = 3": (1, "has plot:roc"),
    "has dept": (5, "Nearest: depth"),
    "learner like '*a*b*c*d*e*f*g*h*i*j*k*'": (14, "at most 10"),
}


@pytest.mark.parametrize("text", WRONG)
def test_wrong_queries_are_answered_with_column_and_help(text: str) -> None:
    column, part = WRONG[text]
    with pytest.raises(QueryError) as caught:
        plan(text)
    assert part in str(caught.value)
    assert (caught.value.column, caught.value.field) == (column, "query")
    assert str(caught.value).startswith(f"Column {column}: ")


@pytest.mark.parametrize(
    ("text", "part"),
    [
        (" and ".join(["depth = 1"] * 101), "at most 100"),
        ("not " * 31 + "depth = 1", "30 deep"),
        ("depth = 1 " * 500, "4,000"),
        (f"depth in {{{','.join(['1'] * 501)}}}", "at most 500"),
    ],
)
def test_hostile_queries_are_bounded_and_say_so(text: str, part: str) -> None:
    with pytest.raises(QueryError, match=part):
        plan(text)


def test_parentheses_alone_nest_nothing() -> None:
    assert plan("(" * 1_000 + "depth = 1" + ")" * 1_000) == Equals(DEPTH, (1,))


def assert_column_of(read: Callable[[], object], text: str) -> None:
    column = 1
    try:
        read()
    except QueryError as error:
        column = error.column or 0
    assert 1 <= column <= len(text) + 1


@given(st.text(max_size=60))
def test_any_text_is_read_or_refused_with_a_column(text: str) -> None:
    assert_column_of(lambda: parse_query(text), text)


WORDS = (
    "depth",
    "recall",
    "=",
    "!=",
    ">",
    "in",
    "{",
    "}",
    "(",
    ")",
    "and",
    "or",
    "not",
    "4..8",
    "3",
    "'x'",
    "has",
    "like",
    "is",
    "nan",
    "within",
    "7d",
    "used",
    "min(loss)",
    ",",
    "[",
    "]",
    "param:depth",
    "..",
    "started",
    "status",
)


@given(st.lists(st.sampled_from(WORDS), max_size=12).map(" ".join))
def test_any_words_are_settled_or_refused_with_a_column(text: str) -> None:
    assert_column_of(lambda: plan(text), text)


@pytest.mark.parametrize("size", [10, 200, 5_000])
def test_no_pattern_takes_long(size: int) -> None:
    assert not holds(Matches(LEARNER, "*a" * 9 + "*b"), "a" * size)
    assert holds(Matches(LEARNER, "*A" * 9 + "*[B"), "a" * size + "[b")


def test_sorting() -> None:
    goals = {"loss": Goal("loss", Direction.LOWER), "later": Goal("later", Direction.HIGHER)}
    assert read_sort("", Orchard(), goals) == [SortKey(Field("number"), True)]
    assert read_sort("recall,loss , depth:asc", Orchard(), goals) == [
        SortKey(RECALL, True),
        SortKey(LOSS, False),
        SortKey(DEPTH, False),
    ]
    assert read_sort("min(loss):desc,'two words':asc,started,later", Orchard(), goals) == [
        SortKey(Key("value", "loss", "min"), True),
        SortKey(Key("param", "two words"), False),
        SortKey(Field("started"), True),
        SortKey(Key("value", "later"), True),
    ]


@pytest.mark.parametrize(
    ("text", "part"),
    [
        ("dept", "Nearest: depth"),
        ("a,b,c,d,e", "at most 4"),
        ("mean(loss)", "best of a metric"),
        ("note", "not sorted by note"),
        ("a b", "names nothing"),
        ("depth:up", "none of the runs searched has"),
    ],
)
def test_wrong_sorting(text: str, part: str) -> None:
    with pytest.raises(InvalidInput, match=part):
        read_sort(text, Orchard(), {})
