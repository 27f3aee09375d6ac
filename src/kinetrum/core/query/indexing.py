"""How typed values stand in the index tables: a number, a text, or both, so that comparisons are never wrong.

A number goes into the number column; what DOUBLE or 120 characters cannot hold is marked in the text column:

    \\x01true, \\x01null, \\x01NaN …   values that are neither number nor text
    \\x02 and a SHA-256               long texts and lists, equal exactly where the texts are
    \\x03 and digits                  whole numbers from 2^53 on, next to their rounded number
"""

from __future__ import annotations

import hashlib
import json
import math

from kinetrum.core.base.values import Value, special_name, to_json

TEXT_WIDTH = 120
_EXACT = 2**53
_LARGEST = 1.7976931348623157e308


def index_forms(value: Value) -> tuple[float | None, str | None]:
    """Return (number, text) to index; either may be None."""
    if isinstance(value, bool) or value is None:
        return None, "\x01" + json.dumps(value)
    if isinstance(value, int):
        return _whole(value)
    if isinstance(value, float):
        if math.isnan(value):
            return None, "\x01NaN"
        if math.isinf(value):
            return math.copysign(_LARGEST, value), "\x01" + special_name(value)
        return _whole(int(value)) if value.is_integer() and abs(value) >= _EXACT else (value, None)
    text = value if isinstance(value, str) else "\x01" + json.dumps(to_json(value))
    marked = isinstance(value, str) and value[:1] in {"\x01", "\x02", "\x03"}
    if len(text) > TEXT_WIDTH or marked:
        return None, "\x02" + hashlib.sha256(text.encode()).hexdigest()
    return None, text


def _whole(value: int) -> tuple[float, str | None]:
    if abs(value) < _EXACT:
        return float(value), None
    try:
        rounded = float(value)
    except OverflowError:
        rounded = _LARGEST if value > 0 else -_LARGEST
    digits = str(value)
    return rounded, "\x03" + (digits if len(digits) < TEXT_WIDTH else hashlib.sha256(digits.encode()).hexdigest())
