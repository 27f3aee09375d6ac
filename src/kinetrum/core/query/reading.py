"""How the words of a query become values: numbers, times, spans of time, lists."""

from __future__ import annotations

import json
import re

import numpy as np

from kinetrum.core.base.values import Value
from kinetrum.core.query.parse import QueryError
from kinetrum.core.query.syntax import ListValue, Operand, Word

_NUMBER = re.compile(r"[+-]?(\d+(_\d+)*\.?\d*([eE][+-]?\d+)?|\.\d+([eE][+-]?\d+)?|inf|Infinity)\Z")
_SPAN = re.compile(r"(\d+(?:\.\d+)?)(s|m|h|d|w)\Z")
_SECONDS = {"s": 1, "m": 60, "h": 3_600, "d": 86_400, "w": 604_800}
_TIME = re.compile(r"(\d{4}-\d\d(?:-\d\d(?:[T ]\d\d:\d\d(?::\d\d(?:\.\d{1,6})?)?)?)?)(Z|[+-]\d\d:?\d\d)?\Z")
_LONGEST_S = 100 * 366 * 86_400
_MINUTE = 60_000_000


def read_number(text: str) -> float | int | None:
    """Return a number, or None where the text is none; whole numbers stay exact."""
    if not _NUMBER.match(text):
        return None
    try:
        return int(text)
    except ValueError:
        return float(text)


def number_of(word: Word, what: str) -> float | int:
    """Return a number; raises QueryError where the word is none."""
    number = read_number(word.text)
    if number is None:
        raise QueryError(f"{what} is compared with numbers here; {word.text!r} is none.", word.at)
    return number


def readings(operand: Operand) -> tuple[float | int | None, str | None, list[Value]]:
    """Return how an operand reads as a number, as a text, and as true, false, null or a list."""
    if isinstance(operand, ListValue):
        return None, None, [[_plain(item) for item in operand.items]]
    special = [] if operand.quoted or operand.text not in {"true", "false", "null"} else [json.loads(operand.text)]
    return read_number(operand.text), operand.text, special


def _plain(operand: Operand) -> Value:
    number, text, special = readings(operand)
    return special[0] if special else text if number is None or _quoted(operand) else number


def _quoted(operand: Operand) -> bool:
    return isinstance(operand, Word) and operand.quoted


def seconds_of(word: Word) -> float:
    """Return a span of time in seconds: `30m`, `6h`, `7d`, `2w`, or a number of seconds."""
    match = _SPAN.match(word.text)
    number = read_number(word.text)
    seconds = float(match[1]) * _SECONDS[match[2]] if match else number
    if seconds is None or not 0 <= seconds <= _LONGEST_S:
        raise QueryError(f"{word.text!r} is not a span of time; write 90s, 30m, 6h, 7d or 2w.", word.at)
    return float(seconds)


def moment_of(word: Word) -> tuple[int, int]:
    """Return the first microsecond since 1970 that a time names and the first after it.

    `2026-10-01` names a day, `2026-10` a month, `2026-10-01T09:30` a minute; UTC unless an offset stands behind.
    """
    match = _TIME.match(word.text)
    try:
        if not match:
            raise ValueError(word.text)
        first = np.datetime64(match[1].replace(" ", "T"))
        begin, end = (int(at.astype("datetime64[us]").astype(np.int64)) for at in (first, first + 1))
    except (ValueError, OverflowError):
        raise QueryError(
            f"{word.text!r} is not a time; write 2026-10-01 or 2026-10-01T09:30 (UTC), or within 7d.", word.at
        ) from None
    zone = match[2]
    if zone and zone != "Z":
        digits = zone[1:].replace(":", "")
        shift = (int(digits[:2]) * 60 + int(digits[2:])) * _MINUTE * (-1 if zone[0] == "+" else 1)
        begin, end = begin + shift, end + shift
    return begin, end
