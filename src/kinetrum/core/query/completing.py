"""What may stand where somebody is writing a query: names, comparisons, values, words that join."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Literal

from lark import UnexpectedInput

from kinetrum.core.query.parse import TEXT_LIMIT, partial_parse
from kinetrum.core.query.syntax import SCOPES, Subject

What = Literal["test", "name", "metric", "comparison", "value", "span", "pattern", "artifact", "joint", "nothing"]
_WORD = re.compile(r"""[^\s()\[\]{},=!<>"']*\Z""")
_QUOTED = re.compile(r"""[^"']*("(?:[^"]|"")*"|'(?:[^']|'')*')""")
_ASKS = re.compile(r"(?<![^\s()])(has|used)\s+\Z", re.I)
COMPARISONS = ("=", "!=", "<", "<=", ">", ">=")


@dataclass(frozen=True)
class Expected:
    """What is expected from a column on (from 0): the kind, the beginning that stands there, its scope and subject.

    `subject` is what a comparison or value belongs to.
    """

    what: What
    at: int
    begun: str
    scope: str | None = None
    subject: Subject | None = None


def expected(text: str) -> Expected:
    """Tell what may stand at the end of an unfinished query."""
    if len(text) > TEXT_LIMIT:
        return Expected("nothing", len(text), "")
    at = _start_of_unfinished(text)
    head, begun = text[:at], text[at:]
    asks = _ASKS.search(head)
    if asks:
        head = head[: asks.start()]
    try:
        accepts, standing = partial_parse(head)
    except UnexpectedInput:
        return Expected("nothing", at, begun)
    if asks:
        what: What = "artifact" if asks[1].lower() == "used" else "name"
        return _named(what, at, begun) if "HAS" in accepts else Expected("nothing", at, begun)
    return _expected(accepts, standing, at, begun)


def _start_of_unfinished(text: str) -> int:
    """Return where the word or quoted text begins that is being written."""
    after = 0
    while closed := _QUOTED.match(text, after):
        after = closed.end()
    rest = text[after:]
    opened = min((at for at in (rest.find('"'), rest.find("'")) if at >= 0), default=-1)
    if opened >= 0:
        return after + opened
    word = _WORD.search(rest)
    return after + (word.start() if word else len(rest))


def _expected(accepts: set[str], standing: list[object], at: int, begun: str) -> Expected:
    subject = next((part for part in reversed(standing) if isinstance(part, Subject)), None)
    last = str(standing[-1]).lower() if standing else ""
    if "HAS" in accepts:
        return _named("test", at, begun)
    if "COMPARISON" in accepts:
        word = standing[-1] if standing else None
        named = subject if isinstance(word, Subject) else Subject(str(word).strip("\"'"), 1)
        return Expected("comparison", at, begun, subject=named)
    if "AND" in accepts:
        return Expected("joint", at, begun)
    if "SCOPE" in accepts:
        return _named("metric", at, begun)
    if accepts & {"WORD", "QUOTED"} and subject is not None:
        kinds: dict[str, What] = {"within": "span", "like": "pattern"}
        return Expected(kinds.get(last, "value"), at, begun.strip("\"'"), subject=subject)
    return Expected("nothing", at, begun)


def _named(what: What, at: int, begun: str) -> Expected:
    scope, colon, rest = begun.partition(":")
    if colon and scope in SCOPES and what != "artifact":
        return Expected(what, at, rest.strip("\"'"), scope=scope)
    return Expected(what, at, begun.strip("\"'"))
