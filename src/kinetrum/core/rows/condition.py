"""One condition on the rows of a table, such as `recall >= 0.9` or `learner = forest`."""

from __future__ import annotations

import re
from dataclasses import dataclass

from kinetrum.core.base.errors import InvalidInput
from kinetrum.core.base.values import Value

RUN_FIELDS = ("number", "name", "status", "author", "host", "id")
SCOPES = ("metric", "param", "run")
_SHAPE = re.compile(
    r"""\s*(?:(?P<scope>[a-z]+):)?
        (?P<name>"[^"]*"|'[^']*'|[^\s=!<>"']+)\s*
        (?P<operator><=|>=|!=|=|<|>)\s*
        (?P<value>"[^"]*"|'[^']*'|[^\s"']+)\s*\Z""",
    re.VERBOSE,
)


@dataclass(frozen=True)
class Condition:
    """`name operator value`; `scope` is metric, param, run, or None where the name decides."""

    name: str
    operator: str
    value: Value
    text: str
    scope: str | None = None


def parse_condition(text: str) -> Condition | None:
    """Read one condition; an empty text is None. Raises InvalidInput with the column where reading stopped."""
    if not text.strip():
        return None
    match = _SHAPE.match(text)
    if not match:
        raise InvalidInput(
            f"Column {_column(text)}: one condition is expected, like recall >= 0.9 or learner = forest.",
            field="query",
        )
    scope, name, raw = match["scope"], _unquote(match["name"]), match["value"]
    if scope is not None and scope not in SCOPES:
        raise InvalidInput(
            f"Column {match.start('scope') + 1}: Unknown scope {scope!r}. Choose one of: {', '.join(SCOPES)}.",
            field="query",
        )
    value = _unquote(raw) if raw[0] in "\"'" else _typed(raw)
    operator = match["operator"]
    if operator not in {"=", "!="} and (isinstance(value, str | bool) or value is None):
        raise InvalidInput(
            f"Column {match.start('value') + 1}: {operator} compares numbers; {raw!r} is none.", field="query"
        )
    return Condition(name, operator, value, _unquote(raw), scope)


def _typed(raw: str) -> Value:
    if raw in {"true", "false"}:
        return raw == "true"
    if raw == "null":
        return None
    for read in (int, float):
        try:
            number = read(raw)
        except ValueError:
            continue
        return number if number == number else raw
    return raw


def _unquote(raw: str) -> str:
    return raw[1:-1] if raw[0] in "\"'" else raw


def _column(text: str) -> int:
    for size in range(len(text), 0, -1):
        if re.match(r"\s*[^\s=!<>\"']+\s*(?:<=|>=|!=|=|<|>)?\s*[^\s\"'=!<>]*\Z", text[:size]):
            return size + 1
    return 1
