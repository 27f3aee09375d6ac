"""From text to a query: `recall >= 0.9 and depth in 4..8`."""

from __future__ import annotations

import functools
import re
from collections.abc import Iterator
from typing import Any, cast

from lark import Lark, Token, Transformer, UnexpectedCharacters, UnexpectedInput, UnexpectedToken

from kinetrum.core.base.errors import InvalidInput
from kinetrum.core.query.grammar import GRAMMAR, SAID
from kinetrum.core.query.syntax import (
    And,
    Between,
    Compare,
    Has,
    IsNan,
    Like,
    ListValue,
    Not,
    OneOf,
    Or,
    Query,
    Subject,
    Test,
    Used,
    Within,
    Word,
)

TEXT_LIMIT, TEST_LIMIT, DEPTH_LIMIT, LIST_LIMIT = 4_000, 100, 30, 500
# Slips that people make who come from other languages, and what is meant here.
_SLIPS = (
    (re.compile(r"=="), "Write = for equal."),
    (re.compile(r"=>"), "Write >= for at least."),
    (re.compile(r"=<"), "Write <= for at most."),
    (re.compile(r"<>"), "Write != for different."),
    (re.compile(r"&&?"), "Write and."),
    (re.compile(r"\|\|?"), "Write or."),
    (re.compile(r"!(?!=)"), "Write not in front of a test, or != for different."),
    (re.compile(r"=~|~"), "Write like with * and ?, such as name like 'deep*'."),
)
_OTHER_WORDS = (
    (re.compile(r"\bis (not|null|true|false)\S*$", re.I), " Write = or !=, such as loss = null; is asks for nan."),
    (re.compile(r"\bbetween$", re.I), " Write in 4..8."),
    (re.compile(r"\bin \[\S*$", re.I), " Write in {4, 8} for any of these, in 4..8 for a range."),
    (re.compile(r"(?<!\S)[\w.]+ \(\S*$"), " Of a metric: best(…) last(…) first(…) min(…) max(…) mean(…) count(…)."),
    (re.compile(r"(^|\(|and |or |not )within \S+$", re.I), " Say what lies within it: started within 7d."),
    (re.compile(r"\b(contains|matches|startswith|glob|regex)$", re.I), " Write like with * and ?: name like 'deep*'."),
)


class QueryError(InvalidInput):
    """A query that cannot be read or answered; `column` is where, from 1."""

    def __init__(self, text: str, column: int) -> None:
        super().__init__(f"Column {column}: {text}", field="query", column=column)


def parse_query(text: str) -> Query | None:
    """Read a query; an empty text is None, which every run fits. Raises QueryError with the column."""
    if not text.strip():
        return None
    if len(text) > TEXT_LIMIT:
        raise QueryError(f"the query has {len(text):,} characters; at most {TEXT_LIMIT:,} are read.", TEXT_LIMIT + 1)
    try:
        query = cast(Query, _parser().parse(text, start="start"))
    except UnexpectedInput as error:
        raise _told(text, error) from None
    _check_size(query)
    return query


def parse_subject(text: str) -> Subject:
    """Read what a test or a column is about: `loss`, `param:loss`, `min(loss)`; raises QueryError."""
    try:
        subject = cast(Subject, _parser().parse(text, start="subject"))
    except UnexpectedInput as error:
        raise QueryError(
            f"{text!r} names nothing; write a name such as recall, param:depth or min(loss).",
            int(getattr(error, "column", 1) or 1),
        ) from None
    return subject


def partial_parse(text: str) -> tuple[set[str], list[object]]:
    """Read the beginning of a query; returns which terminals may follow and what was read so far.

    Raises Lark's UnexpectedInput where not even a beginning can be read.
    """
    going = _parser().parse_interactive(text, start="start")
    going.exhaust_lexer()
    accepted: set[str] = going.accepts()  # type: ignore[no-untyped-call]
    return accepted, list(going.parser_state.value_stack)


def tests_of(query: Query) -> Iterator[Test]:
    """Yield the tests of a query in the order in which they were written."""
    waiting = [query]
    while waiting:
        part = waiting.pop()
        if isinstance(part, And | Or):
            waiting += reversed(part.parts)
        elif isinstance(part, Not):
            waiting.append(part.part)
        else:
            yield part


def subjects_of(query: Query) -> Iterator[Subject]:
    """Yield what the tests of a query are about; `used` is about no subject."""
    for test in tests_of(query):
        if not isinstance(test, Used):
            yield test.subject


def _check_size(query: Query) -> None:
    waiting, tests = [(query, 1)], 0
    while waiting:
        part, depth = waiting.pop()
        if depth > DEPTH_LIMIT:
            raise QueryError(f"tests are nested over {DEPTH_LIMIT} deep; say it with fewer parentheses.", 1)
        if isinstance(part, And | Or):
            waiting += [(inner, depth + 1) for inner in part.parts]
        elif isinstance(part, Not):
            waiting.append((part.part, depth + 1))
        else:
            tests += 1
            if isinstance(part, OneOf) and len(part.values) > LIST_LIMIT:
                raise QueryError(
                    f"a list of {len(part.values)} values; at most {LIST_LIMIT} are taken.", part.subject.at
                )
    if tests > TEST_LIMIT:
        raise QueryError(
            f"the query has {tests} tests; at most {TEST_LIMIT} are asked at once. {{a, b, …}} asks for "
            "many values in one.",
            1,
        )


@functools.cache
def _parser() -> Lark:
    return Lark(
        GRAMMAR,
        start=["start", "subject"],
        parser="lalr",
        lexer="contextual",
        transformer=_Reader(),
        propagate_positions=False,
    )


def _word(token: Token) -> Word:
    text = str(token)
    at = int(token.column or 1)
    if token.type == "QUOTED":
        return Word(text[1:-1].replace(text[0] * 2, text[0]), at, True)
    return Word(text, at)


def _value(part: Any) -> Any:
    return _word(part) if isinstance(part, Token) else part


class _Reader(Transformer[Token, Any]):
    """Makes a query of the grammar's parts as they are read; nothing here calls itself, however deep a text nests."""

    def either(self, parts: list[Any]) -> Query:
        kept_parts = tuple(part for part in parts if not isinstance(part, Token))
        return kept_parts[0] if len(kept_parts) == 1 else Or(kept_parts)

    def both(self, parts: list[Any]) -> Query:
        kept_parts = tuple(part for part in parts if not isinstance(part, Token))
        return kept_parts[0] if len(kept_parts) == 1 else And(kept_parts)

    def negated(self, parts: list[Any]) -> Query:
        return Not(parts[1])

    def plain(self, parts: list[Token]) -> Subject:
        word = _word(parts[0])
        return Subject(word.text, word.at)

    def scoped(self, parts: list[Token]) -> Subject:
        return Subject(_word(parts[1]).text, int(parts[0].column or 1), str(parts[0])[:-1])

    def aggregated(self, parts: list[Token]) -> Subject:
        scope = str(parts[1])[:-1] if len(parts) == 3 else None
        return Subject(_word(parts[-1]).text, int(parts[0].column or 1), scope, str(parts[0]))

    def compare(self, parts: list[Any]) -> Test:
        return Compare(parts[0], str(parts[1]), _value(parts[2]))

    def between(self, parts: list[Any]) -> Test:
        return Between(parts[0], _word(parts[2]), _word(parts[4]))

    def one_of(self, parts: list[Any]) -> Test:
        return OneOf(parts[0], tuple(_value(part) for part in parts[2:]))

    def like(self, parts: list[Any]) -> Test:
        return Like(parts[0], _word(parts[2]))

    def is_nan(self, parts: list[Any]) -> Test:
        return IsNan(parts[0])

    def within(self, parts: list[Any]) -> Test:
        return Within(parts[0], _word(parts[2]))

    def has(self, parts: list[Any]) -> Test:
        return Has(parts[1])

    def used(self, parts: list[Any]) -> Test:
        return Used(parts[1])

    def reference(self, parts: list[Token]) -> Word:
        return _word(parts[0])

    def list(self, parts: list[Any]) -> ListValue:
        return ListValue(tuple(_value(part) for part in parts if part is not None), 0)


def _told(text: str, error: UnexpectedInput) -> QueryError:
    column = int(getattr(error, "column", 1) or 1)
    at_end = isinstance(error, UnexpectedToken) and error.token.type == "$END"
    if at_end:
        column = len(text.rstrip()) + 1
    wanted = _wanted(error)
    rest = text[column - 1 :]
    if rest[:1] in {'"', "'"} and rest.count(rest[0]) % 2:
        # Those before it close one another.
        return QueryError(f"this {rest[0]} is never closed.", column + rest.rindex(rest[0]))
    for shape, hint in _SLIPS:
        match = shape.search(text, max(0, column - 2), column + 2)
        if match:
            return QueryError(f"{match.group()} is not read here. {hint}", match.start() + 1)
    if at_end:
        alone = "" if len(text.split()) > 1 else f" Runs with that word in their name: name like '*{text.strip()}*'."
        return QueryError(f"the query ends here, but {wanted} is expected.{alone}", column)
    there = rest.split()[0][:30] if rest.split() else ""
    return QueryError(f"{wanted} is expected, not {there!r}.{_hint(text, column, there)}", column)


def _hint(text: str, column: int, there: str) -> str:
    before = text[: column - 1].rstrip()
    for shape, hint in _OTHER_WORDS:
        if shape.search(f"{before[-200:]} {there}"):
            return hint
    if re.match(r"[\w.\-/@:]", there) and before and before[-1] not in "(=<>{,":
        return " Put a name or value of several words in quotes; join tests with “and” or “or”."
    return ""


def _wanted(error: UnexpectedInput) -> str:
    if isinstance(error, UnexpectedToken):
        names = set(error.accepts or error.expected)
    elif isinstance(error, UnexpectedCharacters):
        names = set(error.allowed or ())
    else:
        names = set()
    if {"HAS", "NOT"} <= names:
        return "a test, such as recall >= 0.9,"
    if "COMPARISON" in names:
        return "= != < <= > >= in like is nan or within"
    words = [SAID[name] for name in SAID if name in names]
    if "$END" in names and len(words) > 1:
        words.remove("the end")
    return f"{', '.join(words[:-1])} or {words[-1]}" if len(words) > 1 else (words or ["something else"])[0]
