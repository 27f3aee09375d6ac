"""Names, keys and typed values: what is allowed, when two are equal, how they are written as JSON."""

from __future__ import annotations

import json
import math
import re
import unicodedata
from collections.abc import Mapping
from typing import Annotated, Any

from kinetrum.core.base.errors import InvalidInput
from kinetrum.core.base.names import NAME_LIMIT, RESERVED

Value = float | int | str | bool | None | list[Any]


JsonObject = dict[str, Any]
"""An object of JSON whose keys depend on what it is: a record of the spool, settings as they came."""


class _AsJson:
    """Tells a serialiser (by Pydantic's hook, a plain description) to write a typed value as `to_json` does."""

    def __get_pydantic_core_schema__(self, _source: Any, _handler: Any) -> dict[str, Any]:
        return {"type": "any", "serialization": {"type": "function-plain", "function": to_json}}


class _NullUnlessFinite:
    """Tells a serialiser to write a number that is not finite as null."""

    def __get_pydantic_core_schema__(self, _source: Any, _handler: Any) -> dict[str, Any]:
        number = {"type": "nullable", "schema": {"type": "float"}}
        return number | {"serialization": {"type": "function-plain", "function": _finite, "return_schema": number}}


def _finite(number: float | None) -> float | None:
    return None if number is None or not math.isfinite(number) else number


JsonValue = Annotated[Value, _AsJson()]
"""A typed value; where it is sent, NaN and infinities are written as `{"float": "NaN"}`."""

Finite = Annotated[float, _NullUnlessFinite()]
"""A number; where it is sent, NaN and infinities are written as null."""

FiniteOrNull = Annotated[float | None, _NullUnlessFinite()]
"""A number or none; where it is sent, NaN and infinities are written as null."""

KEY_LIMIT = 250
TEXT_LIMIT = 16_384
LIST_LIMIT = 1_000
RUN_NAME_LIMIT, LABEL_LIMIT, LABELS_LIMIT, NOTE_LIMIT = 200, 500, 100, 50_000
_NAME = re.compile(r"[a-z][a-z0-9._-]*\Z")
_FORBIDDEN_IN_KEY = frozenset("\"'`")
_SPECIAL = {"NaN": math.nan, "Infinity": math.inf, "-Infinity": -math.inf}


def check_name(name: object, what: str) -> str:
    """Return `name` if it may name a `what` (project, experiment, artifact, model, stage).

    Raises InvalidInput with the rule, and with the lowercase form where only the case is wrong.
    """
    if not isinstance(name, str):
        raise InvalidInput(f"The name of {_article(what)} is text, not {type(name).__name__}.", field=what)
    if len(name) > NAME_LIMIT:
        raise InvalidInput(
            f"The {what} name {name[:40]!r}… has {len(name)} characters; at most {NAME_LIMIT} are allowed.",
            field=what,
        )
    if _NAME.match(name):
        if name in RESERVED:
            raise InvalidInput(f"{name!r} is a word of the references and cannot name {_article(what)}.", field=what)
        return name
    hint = f" Write {name.lower()!r}." if _NAME.match(name.lower()) else ""
    raise InvalidInput(
        f"{name!r} cannot name {_article(what)}: lowercase letters, digits, '.', '_' and '-', "
        f"beginning with a letter.{hint}",
        field=what,
    )


def _article(noun: str) -> str:
    return f"an {noun}" if noun[0] in "aeiou" else f"a {noun}"


def check_key(key: object, what: str = "key") -> str:
    """Return `key` if it may name a parameter, metric or result; raises InvalidInput otherwise."""
    if not isinstance(key, str):
        raise InvalidInput(f"A {what} is named by text, not by {type(key).__name__} ({key!r}).", field=what)
    if not key:
        raise InvalidInput(f"A {what} needs a name; an empty one was given.", field=what)
    if len(key) > KEY_LIMIT:
        raise InvalidInput(
            f"The {what} {key[:40]!r}… has {len(key)} characters; at most {KEY_LIMIT} are allowed.",
            field=what,
        )
    if key != key.strip():
        raise InvalidInput(f"The {what} {key!r} begins or ends with a space; leave it out.", field=what)
    for character in key:
        if character in _FORBIDDEN_IN_KEY or unicodedata.category(character) in {"Cc", "Cs"}:
            raise InvalidInput(
                f"The {what} {key!r} contains {character!r}; quotes and control characters are not allowed.",
                field=what,
            )
    return key


def check_run_name(name: str | None) -> str | None:
    """Return a run's name without outer spaces; raises InvalidInput for what cannot be one."""
    if name is None:
        return None
    if not name.strip() or len(name) > RUN_NAME_LIMIT or not name.isprintable():
        raise InvalidInput(f"A run's name has 1 to {RUN_NAME_LIMIT} printable characters.", field="name")
    return name.strip()


def check_label(key: str, text: object) -> str:
    """Return a label's text; raises InvalidInput for a bad key or text."""
    check_key(key, "label")
    if not isinstance(text, str) or len(text) > LABEL_LIMIT:
        raise InvalidInput(f"The label {key!r} is a text of up to {LABEL_LIMIT} characters.", field=key)
    return text


def merged_labels(standing: Mapping[str, str], labels: Mapping[str, str | None], subject: str = "It") -> dict[str, str]:
    """Return labels with others set over them; None takes one away. Raises InvalidInput for bad ones or too many."""
    for key, text in labels.items():
        check_label(key, text or "")
    fresh = {key: text for key, text in {**standing, **labels}.items() if text is not None}
    if len(fresh) > LABELS_LIMIT:
        raise InvalidInput(f"{subject} would have over {LABELS_LIMIT} labels.", field="labels")
    return fresh


def check_value(value: object, key: str) -> Value:
    """Return `value` as a plain parameter or result value.

    NumPy scalars and 0-d tensors (anything with `item()` and no length) become plain numbers.
    Raises InvalidInput for other types and for text or lists over the limits.
    """
    if value is None or isinstance(value, bool | int | float):
        return _plain(value)
    if isinstance(value, str):
        if len(value) > TEXT_LIMIT:
            raise InvalidInput(
                f"The text of {key!r} has {len(value)} characters; at most {TEXT_LIMIT} are kept. Record it as a file.",
                field=key,
            )
        if "\x00" in value or not _encodable(value):
            raise InvalidInput(f"The text of {key!r} contains characters that cannot be stored.", field=key)
        return str(value)
    if isinstance(value, list | tuple):
        if len(value) > LIST_LIMIT:
            raise InvalidInput(f"The list of {key!r} has {len(value)} items; at most {LIST_LIMIT} are kept.", field=key)
        return [check_value(item, key) for item in value]
    item = getattr(value, "item", None)
    if callable(item) and getattr(value, "ndim", 0) == 0:
        return check_value(item(), key)
    raise InvalidInput(
        f"The value of {key!r} is of type {type(value).__name__}; allowed are numbers, text, true, false, "
        "null and lists of them.",
        field=key,
    )


def _plain(value: bool | int | float | None) -> Value:
    if value is None or isinstance(value, bool):
        return value
    return int(value) if isinstance(value, int) else float(value)


def _encodable(text: str) -> bool:
    try:
        text.encode()
    except UnicodeEncodeError:
        return False
    return True


def same(left: Value, right: Value) -> bool:
    """Tell whether two values are one setting: 5 = 5.0, NaN = NaN, but true is not 1."""
    if isinstance(left, bool) or isinstance(right, bool):
        return left is right
    if isinstance(left, int | float) and isinstance(right, int | float):
        return left == right or (left != left and right != right)
    if isinstance(left, list) and isinstance(right, list):
        return len(left) == len(right) and all(map(same, left, right))
    return type(left) is type(right) and left == right


def to_json(value: Value) -> Any:
    """Return the JSON form: as is, except NaN and infinities, which become `{"float": "NaN"}`."""
    if isinstance(value, float) and not math.isfinite(value):
        return {"float": special_name(value)}
    if isinstance(value, list):
        return [to_json(item) for item in value]
    return value


def special_name(value: float) -> str:
    """Spell a float that JSON has no number for: NaN, Infinity or -Infinity."""
    if value != value:
        return "NaN"
    return "Infinity" if value > 0 else "-Infinity"


def from_json(data: Any, key: str = "value") -> Value:
    """Undo `to_json`; raises InvalidInput for anything that `to_json` never writes."""
    if isinstance(data, dict):
        if set(data) == {"float"} and data["float"] in _SPECIAL:
            return _SPECIAL[data["float"]]
        raise InvalidInput(
            f'The value of {key!r} is an object; only {{"float": "NaN"}}, "Infinity" and '
            '"-Infinity" are understood in that form.',
            field=key,
        )
    if isinstance(data, list):
        return [from_json(item, key) for item in data]
    return check_value(data, key)


def number_from_json(data: Any, key: str) -> float:
    """Read one metric value: a JSON number, or one of "NaN", "Infinity", "-Infinity"."""
    if isinstance(data, bool) or data is None:
        raise InvalidInput(f"A point of {key!r} is {data!r}; a number is needed.", field=key)
    if isinstance(data, int | float):
        return float(data)
    if isinstance(data, str) and data in _SPECIAL:
        return _SPECIAL[data]
    raise InvalidInput(f"A point of {key!r} is {data!r}; a number is needed.", field=key)


def read_typed(text: str) -> Value:
    """Read a value that was typed: JSON where it is JSON (numbers, true, false, null, lists), else the text itself.

    `NaN`, `Infinity` and `-Infinity` are numbers; a text that looks like a number stands in double quotes.
    """
    if text in _SPECIAL:
        return _SPECIAL[text]
    try:
        value = json.loads(text, parse_constant=lambda word: word)
    except ValueError:
        return text
    return text if isinstance(value, dict) else check_value(value, "value")


def show(value: Value) -> str:
    """Write a value for people: numbers short (six significant digits), text as it is."""
    if value is None:
        return "null"
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, float):
        if not math.isfinite(value):
            return special_name(value)
        return str(int(value)) if value == int(value) and abs(value) < 1e15 else f"{value:.6g}"
    if isinstance(value, list):
        return "[" + ", ".join(show(item) for item in value) + "]"
    return str(value)


def flatten(settings: Any, prefix: str = "") -> dict[str, Value]:
    """Flatten nested dictionaries to dotted keys: `{"a": {"b": 1}}` becomes `{"a.b": 1}`.

    An empty one within is the text `{}`: that it was given, and empty, is a setting too.
    Raises InvalidInput for bad keys or values and when two paths give the same dotted key.
    """
    flat: dict[str, Value] = {}
    if not isinstance(settings, dict):
        raise InvalidInput(f"Parameters are given as a dictionary, not as {type(settings).__name__}.")
    for name, value in settings.items():
        if not isinstance(name, str):
            raise InvalidInput(f"The parameter {name!r} is not named by text.", field="parameter")
        key = f"{prefix}{name}"
        if isinstance(value, dict):
            fields = flatten(value, f"{key}.") if value else {key: "{}"}
        else:
            fields = {key: check_value(value, key)}
        for flat_key, flat_value in fields.items():
            check_key(flat_key, "parameter")
            if flat_key in flat:
                raise InvalidInput(f"The parameter {flat_key!r} is given twice.", field=flat_key)
            flat[flat_key] = flat_value
    return flat
