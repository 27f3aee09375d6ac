"""Whether one value fits a settled test: what the index cannot tell is told from the value itself."""

from __future__ import annotations

import fnmatch
import functools
import math
import operator
import re
from collections.abc import Callable
from typing import Any

from kinetrum.core.base.values import Value
from kinetrum.core.query.indexing import index_forms
from kinetrum.core.query.settled import Equals, Inside, Matches, Nan, Ordered, Present, Settled

_ORDER: dict[str, Callable[[Any, Any], bool]] = {
    "<": operator.lt,
    "<=": operator.le,
    ">": operator.gt,
    ">=": operator.ge,
}


def holds(test: Settled, value: Value) -> bool:
    """Tell whether a value that a run has fits a test on its source."""
    if isinstance(test, Present):
        return True
    nan = isinstance(value, float) and math.isnan(value)
    if isinstance(test, Nan):
        return nan
    if nan:
        return False
    if isinstance(test, Equals):
        equal = any(index_forms(value) == index_forms(reading) for reading in test.readings)
        return equal is not test.negated
    if isinstance(test, Matches):
        return isinstance(value, str) and bool(_pattern(test.pattern).match(value))
    number = value if isinstance(value, int | float) and not isinstance(value, bool) else None
    if isinstance(test, Ordered):
        return number is not None and _ORDER[test.operator](number, test.number)
    if isinstance(test, Inside):
        return (number is not None and test.low <= number <= test.high) is not test.negated
    raise TypeError(f"{type(test).__name__} is not asked of values")


@functools.lru_cache(maxsize=64)
def _pattern(pattern: str) -> re.Pattern[str]:
    # The translation never tries a star twice, so that no pattern takes long.
    return re.compile(fnmatch.translate(pattern.replace("[", "[[]")), re.IGNORECASE | re.DOTALL)
