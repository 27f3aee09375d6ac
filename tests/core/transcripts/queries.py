"""The query language: what texts are read as, what they mean over some runs, how they are written, what completes them."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator
from itertools import product
from typing import Any

from kinetrum.core.base.goals import Direction, Goal
from kinetrum.core.base.refs import is_id_tail, parse_ref
from kinetrum.core.query.check import settle
from kinetrum.core.query.completing import expected
from kinetrum.core.query.matching import holds
from kinetrum.core.query.parse import parse_query, parse_subject, partial_parse, subjects_of, tests_of
from kinetrum.core.query.reading import moment_of, number_of, read_number, readings, seconds_of
from kinetrum.core.query.settled import Equals, Field, Hexed, Inside, Key, Kinds, Matches, Nan, Ordered, Present
from kinetrum.core.query.sorting import read_front, read_sort
from kinetrum.core.query.syntax import ListValue, Word
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
from tests.core.test_completing_queries import CASES
from tests.core.test_query import READ, WRONG, Orchard

Asked = Iterator[tuple[str, Callable[[], Any]]]

MORE = [
    "", " ", "depth", "depth=5", "depth = -5", "depth=+5", "depth = 5_000", "depth = 1e3", "depth = .5", "depth = 5.", "depth = inf", "depth = -inf", "depth = nan",
    "not not depth = 5", "not (depth = 5)", "(((depth = 5)))", "depth = 5 and depth = 6 and depth = 7", "depth = 5 or depth = 6 or depth = 7",
    "(depth = 5 or depth = 6) and (recall > 1 or recall < 0)", "depth = 5 and not depth = 6 or recall > 1", "depth != 5", "depth < 5", "depth <= 5", "depth > 5",
    "depth in 4 .. 8", "depth in 4..4", "depth in {4}", "depth in {4, 5, 6}", "depth in {4 5}", "depth in {4,}", "depth in {,4}", "depth in 4", "depth in", "depth in ..8",
    "learner in {forest, boost}", "learner in {'a', \"b\"}", "learner != forest", "learner = ''", 'learner = ""', "learner = 'it''s'", 'learner = "say ""so"""',
    "learner like ''", "learner like *", "learner like '**'", "learner like a?", "mixed in {1, two}", "mixed > 3", "mixed = true", "mixed != 3", "mixed like 3*",
    "early != true", "early = false", "early in {true, null}", "early > 1", "early like t*", "early = 'true'", "early is nan", "loss != 1", "loss is nan and not loss > 3",
    "learner is nan", "depth is nan", "recall is nan", "min(loss) is nan", "has loss", "has param:loss", "has metric:loss", "has label:purpose", "has min(loss)", "has purpose", "has run:note",
    "has status", "has plot:nothing", "has plot:", "has plot:'roc'", "has nothing", "has param:recall", "has 'two words'", "plot:roc", "label:purpose like b*", "label:purpose > 3", "label:other = 3",
    "label:purpose is nan", "label:purpose in {a, b}", "label:purpose in 1..2", "host = vm", "host like v*", "host in {a, b}", "host > a", "author = ilse", "author != ilse", "author like i*",
    "experiment = frost-alarm", "experiment like f*", "project = orchard", "problem like *late*", "problem = x", "has problem", "note like '*hail*'", "note = x", "note is nan", "name = deep", "name != deep",
    "name in {a, b}", "name > a", "number = 1", "number != 1", "number > 1", "number >= 1", "number in 1..3", "number like 1*", "number = 1.5", "number is nan", "number within 7d", "has number",
    "status in {failed, lost}", "status in {failed, gone}", "status like f*", "status in failed..lost", "status != lost", "id = 0123456789", "id != 0123456789ab", "id in {0123456789, abcdef0123}", "id = 12",
    "id in 1..2", "id > 3", "commit = 4f2a9c1", "commit = 4f2", "commit in {4f2a9c1, aaaa000}", "commit like 4f*", "commit = zzzzzzz", "has commit", "commit is nan",
    "started > 2026-10-01", "started < 2026-10-01", "started = 2026-10-01T09:30", "started != 2026-10-01", "started in 2026-10..2026-11", "started in 2026-11..2026-10", "started like 2026*", "started is nan",
    "started within 30m", "started within 1.5h", "started within 0s", "started within 2w", "started within 3600", "started within -1h", "ended within 7d", "ended = 2026", "ended >= 2026-10-01T09:30:15.5Z",
    "ended >= 2026-10-01T09:30+0530", "ended < 2026-10-01T09:30-03:00", "ended > 2026-02-30", "has ended", "duration = 60", "duration = 1m", "duration != 1m", "duration < 1d", "duration in 1m..2m", "duration in 2m..1m",
    "duration in {1m, 2m}", "duration like 1*", "duration is nan", "duration > -1m", "parent = frost-alarm/last", "parent = frost-alarm/best:recall", "parent != frost-alarm/3", "parent > frost-alarm/3",
    "parent in {frost-alarm/1}", "parent = 0190a1b2c3d4", "has parent", "parent is nan", "used nights@latest", "used orchard/nights@3", "used nights@3 and depth = 5", "used", "used and", "used 'nights'", "used nights@production",
    "used nights@best:loss", "used sha256:zz", "used sha256:0123ABCD", "not used nights", "first(loss) > 1", "last(loss) > 1", "max(loss) > 1", "mean(loss) > 1", "count(loss) > 1", "best(loss) > 1", "sum(loss) > 1",
    "min() > 1", "min(loss > 1", "min(min(loss)) > 1", "min(param:loss) > 1", "min(label:purpose) > 1", "metric:min(loss) > 1", "in in {3, 4}", "'in' = 3", "param:in = 3", "and = 3", "or", "and", "depth = 3 xor depth = 4",
    "depth == 5", "depth === 5", "depth =! 5", "depth => 5", "depth =< 5", "depth <> 5", "depth : 5", "depth is 5", "depth is not nan", "depth not in {1}", "depth not like x", "depth ~= 5", "depth has 3", "has has",
    "like x", "in 4..8", "is nan", "depth = 5;", "depth = 5 # note", "depth = $5", "depth = (5)", "depth = [5", "depth = [5]]", "early = []", "early = [null, 'a', 1.5, [true]]", "early = [1 2]", "early = [1,]",
    "depth = 5 AND depth = 6", "NOT depth = 5", "depth IN {5}", "HAS depth", "learner LIKE x", "loss IS NAN", "started WITHIN 7d", "USED nights", "foo = 1", "foo.bar = 1", "metrics:loss > 1", "params.depth > 1", "tag:x = 1",
    "depth = 'five'", "recall > '0.9'", "recall = 'x'", "metric:recall = x", "param:depth = x", "param:nothing = 1", "metric:nothing = 1", "label:nothing = 1", "run:nothing = 1", "run:status = running", "run:loss > 1",
    "\t depth\n=\r\n5 ", "depth = 5\u00a0", "d\u00e9pth = 5", "\U0001f600 = 1", "'", '"', "'a", "a'b", "a' = 1", "loss > 1 and loss < 2 and param:loss = x", "has depth and has depth",
    "learner in {[1], b}", "depth in {5, [1]}", "depth in [1]..3", "depth in 3..[1]", "depth in a..5", "depth in 5..b", "depth > [1]", "depth > b", "id = [1]", "status in {[1]}", "status = [1]", "status = fail", "status = finnished", "status = runing",
    "status = zzz", "status = e", "started = [1]", "started > [1]", "started > soon", "number in {[1]}", "number > [1]", "parent = [1]", "parent = 'a b/3'", "parent = 'a b/c/3'", "parent = a/b/c/d", "parent = @3", "parent = nights@3", "early in {false, null, [1]}", "recall in {null, true}",
    *(f"learner like '{'*a' * stars}'" for stars in (7, 9, 10, 11)), "nothing = 1", "nothing = x", "learner = 'a'b'c'd", "learner = 'a' 'b", "learner = 'a' 'b' 'c' 'd'", "depth = 5 " + "long" * 10, "depth (", "(", ")", "depth = (", "depth < { 3", "depth = 5 and", "depth =  ", "has", "not", "depth in {", "depth in {3", "depth = 5 }", "depth like", "? = 3", "depth ? 3", "depth = ?", "depth = 5 ?", "nothing in {1, x}", "nothing like x",
    "depth = 99999999999999999999", "depth = 1e400", "run:dept = 1", "metric:purpose = 1", "a:b:c = 1", "status = fa", "early in {true, 3}", "recall in {ull, true}", "depth = [5]",
    "ent = 'a b/c/3'", ".. min(", "'a' 'b' 'c", "de   pth <> 3", "early = [[],&& 'true']", "learner ) != forest",
]  # fmt: skip
TEXTS = [*READ, *WRONG, *MORE]


def read() -> Asked:
    for text in TEXTS:
        yield f"<{text}>", lambda text=text: parse_query(text)
    for text in (
        "loss",
        "min(loss)",
        "param:loss",
        "best(metric:loss)",
        "'two words'",
        "",
        "a b",
        "min(",
        "label:x",
        "run:status",
        "3",
        "loss > 1",
        "min(loss) x",
        "in",
        "plot:roc",
    ):
        yield f"subject <{text}>", lambda text=text: parse_subject(text)
    for text in TEXTS[:60]:
        yield f"tests of <{text}>", lambda text=text: list(tests_of(parse_query(text)))  # type: ignore[arg-type]
        yield f"subjects of <{text}>", lambda text=text: [(one.name, one.at) for one in subjects_of(parse_query(text))]  # type: ignore[arg-type]


def deep(depth: int, before: bool) -> str:
    """Return a query of so many levels, with a shallow part before or behind it."""
    text = "depth = 1"
    for level in range(depth):
        text = f"(depth = {level} {'and' if level % 2 else 'or'} {text})"
    return f"(recall > 1 or recall < 0) and {text}" if before else f"{text} and (recall > 1 or recall < 0)"


def meant() -> Asked:
    for text in TEXTS:
        yield f"<{text}>", lambda text=text: settle(text, Orchard())
    for text in (" and ".join(["depth = 1"] * 100), " and ".join(["depth = 1"] * 101), "not " * 29 + "depth = 1", "not " * 30 + "depth = 1", "not " * 31 + "depth = 1",
                 f"depth in {{{','.join(['1'] * 500)}}}", f"depth in {{{','.join(['1'] * 501)}}}", "depth = 1 " + " " * 3_989, "depth = 1 " + " " * 3_991, "a" * 251 + " = 1", "learner = " + "a" * 400,
                 *(deep(depth, before) for depth in (14, 15, 28, 29, 30) for before in (True, False)), "x" * 4_000, "x" * 4_001):  # fmt: skip
        yield f"{len(text)} characters: {text[:40]} …", lambda text=text: str(settle(text, Orchard()))[:300]


def completed() -> Asked:
    for text in [*CASES, *(text[:at] for text in MORE for at in range(0, len(text) + 1, 3) if len(text) < 34)]:
        yield f"<{text}>", lambda text=text: expected(text)
    for text in ("used metric:x", "metric:a:b", "depth has 3", "x" * 4_000, "x" * 4_001):
        yield f"<{text[:20]}> of {len(text)}", lambda text=text: str(expected(text))[:90]
    for text in TEXTS[::5]:
        yield f"so far <{text}>", lambda text=text: (sorted(partial_parse(text)[0]), len(partial_parse(text)[1]))


VALUES: list[Any] = [
    0, 1, -1, 5, 5.0, 0.1, -0.0, 1e300, math.nan, math.inf, -math.inf, True, False, None, "", "a", "forest", "Forest", "5", "5.0", "true", "false", "null", "nan", "two words", 'say "so"', "it's", "a.b", "a..b", "a:b", "in", "and",
    [], [1, "x", True], [[None]], "frost*", "a?b", "[x]", 10**30, "é", "a" * 30, "0x10", "1_000", "inf", "-3", "+4", ".5", "1e3",
]  # fmt: skip
DEPTH, LOSS = Key("param", "depth"), Key("value", "loss")
TESTS = [
    Equals(DEPTH, (5,)), Equals(DEPTH, (5, "5")), Equals(DEPTH, ("forest",)), Equals(DEPTH, (True,)), Equals(DEPTH, (None,)), Equals(DEPTH, ([1, "x", True],)), Equals(DEPTH, (5,), True), Equals(DEPTH, ("forest",), True),
    *(Ordered(DEPTH, sign, 1) for sign in ("<", "<=", ">", ">=")), Inside(DEPTH, 0, 5), Inside(DEPTH, 0.1, 0.1), Matches(DEPTH, "fo*"), Matches(DEPTH, "*"), Matches(DEPTH, "a?b"), Matches(DEPTH, "*o*t"), Matches(DEPTH, "[x]"),
    Nan(LOSS), Present(LOSS), Hexed(Field("id"), "3f2a"), Hexed(Field("commit"), "3f2a", True),
]  # fmt: skip


def matched() -> Asked:
    for test in TESTS:
        yield str(test), lambda test=test: [index for index, value in enumerate(VALUES) if holds(test, value)]


SOURCES = [
    DEPTH,
    LOSS,
    Key("value", "loss", "min"),
    Key("param", "two words"),
    Key("label", "a:b"),
    Field("status"),
    Key("param", "in"),
    Key("value", "val/loss", "best"),
]
GOALS = {
    "loss": Goal("loss", Direction.LOWER),
    "recall": Goal("recall", Direction.HIGHER),
    "later": Goal("later", Direction.LOWER),
}
SORTS = [
    "", "param:depth:asc,metric:loss", "recall", "loss", "recall:asc", "recall:desc", "loss:desc", "depth", "depth:asc", "min(loss)", "max(loss):asc", "last(loss)", "best(loss)", "mean(loss)", "first(loss)", "count(loss)", "later", "later:desc", "nothing", "started",
    "status", "note", "commit", "id", "parent", "problem", "name", "host", "author", "experiment", "project", "duration:asc", "number", "ended", "recall,loss,depth,number", "a,b,c,d,e", "recall,,loss", " recall , loss ", "'two words'",
    "depth:up", "a b", "label:purpose", "param:loss", "metric:loss", ":asc", "recall:", "recall,loss,depth", "a:b:asc", "recall:asc:desc", "recall:desc:asc,loss", "depth:desc,recall", "label:loss,recall", "param:recall,loss", "recall,fit", "recall,later", "recall,val/loss", "recall,val/loss:asc", "recall,depth:asc", "label:purpose,recall",
]  # fmt: skip


def ordered() -> Asked:
    for text in SORTS:
        yield f"sort <{text}>", lambda text=text: read_sort(text, Orchard(), GOALS)
        yield f"sort without goals <{text}>", lambda text=text: read_sort(text, Orchard(), {})
        yield f"trade-off <{text}>", lambda text=text: read_front(text, Orchard(), GOALS)


def words() -> Asked:
    for value in VALUES:
        yield (
            f"value {value!r}",
            lambda value=value: (value_text(value), [written_test(DEPTH, value), written_test(LOSS, value, False)]),
        )
        if isinstance(value, str):
            yield f"word {value!r}", lambda value=value: (word(value), read_number(value))
            for what in (seconds_of, moment_of):
                yield f"{what.__name__} {value!r}", lambda value=value, what=what: what(Word(value, 7))
            yield f"number_of {value!r}", lambda value=value: number_of(Word(value, 7), "depth")
            yield (
                f"readings {value!r}",
                lambda value=value: (
                    readings(Word(value, 1)),
                    readings(Word(value, 1, True)),
                    readings(ListValue((Word(value, 2), Word(value, 3, True)), 1)),
                ),
            )
    for text in ("90s", "30m", "6h", "7d", "2w", "1.5d", "100", "0", "-1", "5x", "3662400000", "3162240000", "3162240001s", "2026", "2026-10", "2026-10-01", "2026-10-01T09:30", "2026-10-01 09:30", "2026-10-01T09:30:15", "2026-10-01T09:30:15.25",
                 "2026-10-01T09:30Z", "2026-10-01T09:30+02:00", "2026-10-01T09:30-0330", "2026-13", "2026-02-30", "1970-01-01", "0001-01-01", "9999-12-31", "26-10-01", "2026-10-01T25:00", "2026-10-01T09:30:15.1234567"):  # fmt: skip
        for what in (seconds_of, moment_of):
            yield f"{what.__name__} {text}", lambda text=text, what=what: what(Word(text, 7))
    for source in SOURCES:
        yield str(source), lambda source=source: source_text(source)
    for query, test in product(
        ("", " ", "depth = 5", "depth = 5 or recall > 1", "learner = 'or'", "(a = 1 OR b = 2)"), ("has loss",)
    ):
        yield f"both <{query}>", lambda query=query, test=test: both(query, test)
    for text in TEXTS[:120]:
        yield f"with scopes <{text}>", lambda text=text: resolved_query(text, Orchard())
    for text in (*SORTS, "min(loss):asc,'two words',nothing:desc"):
        yield f"names <{text}>", lambda text=text: resolved_names(text, Orchard())
    for experiment, query, columns, sort, group, pareto in product(
        ("frost-alarm", None),
        ("", "depth = 5", "-x", "a = 'é'"),
        ([], ["recall", "two words"]),
        ("", "recall:asc"),
        (None, "replicates", "depth"),
        ("", "recall,loss"),
    ):
        yield (
            f"{experiment} <{query}> {columns} {sort} {group} {pareto}",
            lambda given=("orchard", experiment, query, columns, sort, group, pareto): (
                in_python(*given),
                in_shell(*given),
            ),
        )


REFS = [
    "p/a/1:x:y", "nights@NEWEST", "", " ", " a", "a ", "frost-alarm", "Frost", "frost-alarm/42", "frost-alarm/0", "frost-alarm/last", "frost-alarm/best:recall", "frost-alarm/best:", "frost-alarm/best:val/loss", "frost-alarm/best:recall:net/a.onnx", "frost-alarm/first",
    "orchard/frost-alarm/42", "orchard/frost-alarm", "orchard/frost-alarm/last", "orchard/frost-alarm/what", "a/b/c/d", "/", "a/", "/a", "frost-alarm/42:net/a.onnx", "frost-alarm/42:", "frost-alarm:net", "0190a1b2-c3d4", "3f2a9c1e77", "3f2a9c1e7",
    "abcdefabcdef", "0190a1b2c3d4:net", "orchard/0190a1b2c3d4", "orchard/0190a1b2c3d4:net", "nights@3", "nights@", "@3", "nights@03", "nights@latest", "nights@lead", "nights@newest", "nights@production", "nights@Prod", "nights@best",
    "nights@best:", "nights@best:loss", "nights@best:val/loss", "nights@best:loss:a/b.csv", "nights@best:loss:", "nights@3:a/b.csv", "nights@3:", "nights@sha256:0123abcd", "nights@sha256:0123abcd:a.csv", "nights@sha256:0123", "nights@sha256:zz",
    "orchard/nights@3", "a/b/nights@3", "/nights@3", "nights@3@4", "nights@last", "nights@first", "nights@3/4", "n" * 101, "n" * 100, "a b", "a\nb", "1", "1/2", "x/1", "x/01", "x/-1", "x/1.5",
    "a b/0190a1b2c3d4", "a b/frost-alarm", "a b/frost-alarm/3", "orchard/a b/3", "orchard/frost-alarm/42:net/a.onnx", "orchard/frost-alarm:net", "nights@3:a:b", "nights@lead:a", "nights@newest:a", "nights@best:loss:a:b", "a b/nights@3",
    "nights@Newest", "nights@Lead", "nights@LATEST",
]  # fmt: skip


def references() -> Asked:
    for text in REFS:
        yield f"<{text}>", lambda text=text: (parse_ref(text), str(parse_ref(text)))
    for odd in (None, 3, b"a"):
        yield f"{odd!r}", lambda odd=odd: parse_ref(odd)  # type: ignore[arg-type]
    for text in (
        "3f2a9c1e77",
        "3f2a9c1e7",
        "abcdefabcdef",
        "0190a1b2-c3d4-7e5f-8a9b-0c1d2e3f4a5b",
        "-123456789a",
        "123456789-",
        "12345678-9",
        "1234567890" * 4,
        "g123456789",
    ):
        yield f"an id? {text}", lambda text=text: is_id_tail(text)
    for kinds in (
        Kinds.NUMBER,
        Kinds.TEXT,
        Kinds.SPECIAL,
        Kinds.NUMBER | Kinds.TEXT,
        Kinds.NUMBER | Kinds.TEXT | Kinds.SPECIAL,
    ):
        yield f"kinds {kinds!r}", lambda kinds=kinds: kinds.said


TOPICS = {
    "queries-read": read, "queries-meant": meant, "queries-completed": completed, "queries-matched": matched, "queries-ordered": ordered, "queries-written": words, "references": references,
}  # fmt: skip
