"""Values of programs as plain settings: numbers, texts, lists and dictionaries of them.

An estimator becomes its class's qualified name with its own settings below it; what has no plain form becomes a short
text, without the addresses that differ from run to run, and is noted.
"""

from __future__ import annotations

import dataclasses
import enum
import functools
import hashlib
import os
import re
import sys
from collections.abc import Callable, Iterable, Mapping
from typing import TYPE_CHECKING, Protocol, SupportsFloat, cast

from kinetrum.core.base.values import LIST_LIMIT

if TYPE_CHECKING:
    from datetime import date, timedelta

_TEXT_LIMIT, _DEPTH_LIMIT = 200, 20
_ADDRESS = re.compile(r" at 0x[0-9a-fA-F]+")
_UNFIT_IN_KEY = str.maketrans("", "", "\"'`")


class Array(Protocol):
    """What is read of an array or a tensor of any library."""

    shape: tuple[int, ...]
    dtype: object

    def item(self) -> object:
        """Return the number of an array of one element."""

    def tolist(self) -> object:
        """Return the numbers as nested lists."""


class Estimator(Protocol):
    """What says its own settings, as estimators of the usual libraries do."""

    def get_params(self, deep: bool) -> object:
        """Return the settings by name."""


class OwnSettings(dict[str, object]):
    """The settings of an estimator, below the name of its class."""

    def __init__(self, class_name: str) -> None:
        super().__init__()
        self.class_name = class_name


def _spread(fields: dict[str, object], name: str, plain: object) -> None:
    """Put a value under its name; of an estimator the class stands there, and its settings below."""
    if isinstance(plain, OwnSettings):
        fields[name] = plain.class_name
        fields.update({f"{name}.{own}": value for own, value in plain.items()})
    else:
        fields[name] = plain


class PlainValues:
    """Converts values; `without_form` are the dotted keys of those that only a short text stands for."""

    def __init__(self) -> None:
        self.without_form: list[str] = []
        self._open: set[int] = set()

    def of(self, value: object, key: str = "") -> object:
        """Return a value in plain form; `key` is where it stands."""
        fields = fields_of(value)
        if fields is None and not isinstance(value, list | tuple | set | frozenset):
            return self._leaf(value, key)
        if id(value) in self._open or len(self._open) >= _DEPTH_LIMIT:
            # It holds itself, or is nested beyond what anybody would read.
            return self._text(value, key)
        self._open.add(id(value))
        try:
            return (
                self._of_fields(value, fields, key)
                if fields is not None
                else self._of_items(cast("Iterable[object]", value), key)
            )
        finally:
            self._open.discard(id(value))

    def _of_fields(self, source: object, fields: Mapping[object, object], key: str) -> object:
        names = {key_text(name): value for name, value in fields.items()}
        plain_fields: dict[str, object] = OwnSettings(qualified_name(type(source))) if is_estimator(source) else {}
        for name, value in names.items():
            below = _below(key, name)
            plain = self._beside(name, value, names, below) if isinstance(source, Mapping) else self.of(value, below)
            _spread(plain_fields, name, plain)
        return plain_fields if plain_fields or isinstance(plain_fields, OwnSettings) else "{}"

    def _beside(self, name: str, value: object, names: Mapping[str, object], key: str) -> object:
        """Return a mapping's value: of an estimator whose settings stand beside it (`net__units`), its class alone."""
        if is_estimator(value) and any(other.startswith(f"{name}__") for other in names):
            return qualified_name(type(value))
        steps = named_steps(value)
        if steps is not None:
            beside = all(step in names for step in steps)
            return list(steps) if beside else self.of(steps, key)
        return self.of(value, key)

    def _of_items(self, items_given: Iterable[object], key: str) -> object:
        steps = named_steps(items_given)
        if steps is not None:
            return self.of(steps, key)
        ordered = sorted(items_given, key=repr) if isinstance(items_given, set | frozenset) else list(items_given)
        items = [self.of(item, _below(key, str(at))) for at, item in enumerate(ordered)]
        if not _holds_mapping(items):
            return items
        by_place: dict[str, object] = {}
        for at, item in enumerate(items):
            _spread(by_place, str(at), item)
        return by_place

    def _leaf(self, value: object, key: str) -> object:
        if value is None or (isinstance(value, bool | int | float | str) and not isinstance(value, enum.Enum)):
            return value
        known = _known_form(value)
        if known is not None:
            return known
        if isinstance(value, functools.partial):
            return self._leaf(value.func, key)
        if isinstance(value, type) or (callable(value) and hasattr(value, "__qualname__")):
            # A namespace's `func`, an optimiser given as a class: by their names they can be compared.
            return qualified_name(value)
        if hasattr(value, "shape") and hasattr(value, "dtype"):
            return self._array(cast("Array", value), key)
        return self._text(value, key)

    def _array(self, array: Array, key: str) -> object:
        shape = tuple(array.shape)
        if not shape:
            return array.item() if isinstance(array.item(), bool | int | float | str) else self._text(array, key)
        if max(shape) <= LIST_LIMIT and hasattr(array, "tolist"):
            numbers = array.tolist()
            return self.of(numbers, key) if isinstance(numbers, list) else numbers
        self.without_form.append(key)
        return f"array of {' × '.join(map(str, shape))} {array.dtype}"

    def _text(self, value: object, key: str) -> str:
        self.without_form.append(key)
        return short_text(value)


def fields_of(value: object) -> Mapping[object, object] | None:
    """Return the fields of anything that has named fields, else None."""
    if isinstance(value, Mapping):
        return dict(value)
    if dataclasses.is_dataclass(value) and not isinstance(value, type):
        return {field.name: getattr(value, field.name) for field in dataclasses.fields(value)}
    kind = type(value)
    if kind.__module__ == "argparse" and kind.__name__ == "Namespace":
        return cast("dict[object, object]", vars(value)).copy()
    if hasattr(kind, "model_fields") and hasattr(kind, "model_dump"):
        return {name: getattr(value, name) for name in kind.model_fields}
    if isinstance(value, tuple) and hasattr(value, "_asdict"):
        return dict(value._asdict())
    if is_estimator(value):
        settings = _tried(lambda: cast("Estimator", value).get_params(deep=False))
        return dict(settings) if isinstance(settings, Mapping) else None
    return None


def is_estimator(value: object) -> bool:
    """Tell whether something is an object that says its own settings by `get_params`."""
    return not isinstance(value, type) and callable(getattr(value, "get_params", None))


def named_steps(steps: object) -> dict[str, object] | None:
    """Return the steps of a pipeline, a list of names with estimators, by name; None for anything else."""
    if not isinstance(steps, list | tuple) or not steps:
        return None
    if not all(isinstance(item, tuple) and len(item) >= 2 and isinstance(item[0], str) for item in steps):
        return None
    names = [item[0] for item in steps]
    if len(set(names)) < len(names) or not any(is_estimator(item[1]) for item in steps):
        return None
    return {item[0]: item[1] if len(item) == 2 else dict(enumerate(item[1:])) for item in steps}


def _is_of(value: object, module: str, *names: str) -> bool:
    """Tell whether a value is of one of a module's types; where the module was never loaded there is none such."""
    loaded = sys.modules.get(module)
    return loaded is not None and isinstance(value, tuple(getattr(loaded, name) for name in names))


def _known_form(value: object) -> object:
    """Return the plain form of types that have one; None of others."""
    if isinstance(value, enum.Enum):
        plain = isinstance(value.value, bool | int | float | str)
        return value.value if plain else f"{type(value).__name__}.{value.name}"
    if isinstance(value, os.PathLike):
        return os.fspath(value)
    if _is_of(value, "datetime", "date", "time"):
        return cast("date", value).isoformat()
    if _is_of(value, "datetime", "timedelta"):
        return cast("timedelta", value).total_seconds()
    if _is_of(value, "decimal", "Decimal") or _is_of(value, "fractions", "Fraction"):
        return float(cast("SupportsFloat", value))
    if isinstance(value, bytes | bytearray | memoryview):
        return f"sha256:{hashlib.sha256(value).hexdigest()}"
    if isinstance(value, range | slice | complex) or _is_of(value, "uuid", "UUID"):
        return str(value)
    if type(value).__name__.endswith(("dtype", "DType")) or type(value).__module__ == "numpy.dtypes":
        return str(value)
    if type(value).__module__ == "numpy" and type(value).__name__ in {"datetime64", "timedelta64"}:
        return str(value)
    return None


def qualified_name(thing: object) -> str:
    """Return where a class or function is found, such as `sklearn.svm._classes.SVC`."""
    return f"{getattr(thing, '__module__', None) or 'builtins'}.{getattr(thing, '__qualname__', thing)}"


def short_text(value: object) -> str:
    """Return an object's text in one line, without memory addresses, 200 characters at most."""
    text = _tried(lambda: repr(value))
    if not isinstance(text, str):
        text = f"<{qualified_name(type(value))}>"
    text = " ".join(_ADDRESS.sub("", text).encode(errors="replace").decode().replace("\x00", "").split())
    return text if len(text) <= _TEXT_LIMIT else f"{text[: _TEXT_LIMIT - 1]}…"


def key_text(name: object) -> str:
    """Return a mapping's name as text: numbers and whatever else a program uses, without quotes."""
    return name if isinstance(name, str) else short_text(name).translate(_UNFIT_IN_KEY)


def _below(key: str, name: str) -> str:
    return f"{key}.{name}" if key else name


def _holds_mapping(items: list[object]) -> bool:
    return any(isinstance(item, dict) or (isinstance(item, list) and _holds_mapping(item)) for item in items)


def _tried(ask: Callable[[], object]) -> object:
    """Return what somebody's own method answers; None where it fails, which is no matter of the training."""
    try:
        return ask()
    except Exception:
        return None
