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


def _spread(found: dict[str, object], name: str, plain: object) -> None:
    """Put a value under its name; of an estimator the class stands there, and its settings below."""
    if isinstance(plain, OwnSettings):
        found[name] = plain.class_name
        found.update({f"{name}.{own}": value for own, value in plain.items()})
    else:
        found[name] = plain


class PlainValues:
    """Converts values; `without_form` are the dotted keys of those that only a short text stands for."""

    def __init__(self) -> None:
        self.without_form: list[str] = []
        self._open: set[int] = set()

    def of(self, given: object, key: str = "") -> object:
        """Return a value in plain form; `key` is where it stands."""
        fields = fields_of(given)
        if fields is None and not isinstance(given, list | tuple | set | frozenset):
            return self._leaf(given, key)
        if id(given) in self._open or len(self._open) >= _DEPTH_LIMIT:
            # It holds itself, or is nested beyond what anybody would read.
            return self._text(given, key)
        self._open.add(id(given))
        try:
            return (
                self._of_fields(given, fields, key)
                if fields is not None
                else self._of_items(cast("Iterable[object]", given), key)
            )
        finally:
            self._open.discard(id(given))

    def _of_fields(self, given: object, fields: Mapping[object, object], key: str) -> object:
        names = {key_text(name): value for name, value in fields.items()}
        found: dict[str, object] = OwnSettings(qualified_name(type(given))) if is_estimator(given) else {}
        for name, value in names.items():
            below = _below(key, name)
            plain = self._beside(name, value, names, below) if isinstance(given, Mapping) else self.of(value, below)
            _spread(found, name, plain)
        return found if found or isinstance(found, OwnSettings) else "{}"

    def _beside(self, name: str, value: object, names: Mapping[str, object], key: str) -> object:
        """Return a mapping's value: of an estimator whose settings stand beside it (`net__units`), its class alone."""
        if is_estimator(value) and any(other.startswith(f"{name}__") for other in names):
            return qualified_name(type(value))
        steps = named_steps(value)
        if steps is not None:
            beside = all(step in names for step in steps)
            return list(steps) if beside else self.of(steps, key)
        return self.of(value, key)

    def _of_items(self, given: Iterable[object], key: str) -> object:
        steps = named_steps(given)
        if steps is not None:
            return self.of(steps, key)
        ordered = sorted(given, key=repr) if isinstance(given, set | frozenset) else list(given)
        items = [self.of(item, _below(key, str(at))) for at, item in enumerate(ordered)]
        if not _holds_mapping(items):
            return items
        found: dict[str, object] = {}
        for at, item in enumerate(items):
            _spread(found, str(at), item)
        return found

    def _leaf(self, given: object, key: str) -> object:
        if given is None or (isinstance(given, bool | int | float | str) and not isinstance(given, enum.Enum)):
            return given
        known = _known_form(given)
        if known is not None:
            return known
        if isinstance(given, functools.partial):
            return self._leaf(given.func, key)
        if isinstance(given, type) or (callable(given) and hasattr(given, "__qualname__")):
            # A namespace's `func`, an optimiser given as a class: by their names they can be compared.
            return qualified_name(given)
        if hasattr(given, "shape") and hasattr(given, "dtype"):
            return self._array(cast("Array", given), key)
        return self._text(given, key)

    def _array(self, given: Array, key: str) -> object:
        shape = tuple(given.shape)
        if not shape:
            return given.item() if isinstance(given.item(), bool | int | float | str) else self._text(given, key)
        if max(shape) <= LIST_LIMIT and hasattr(given, "tolist"):
            found = given.tolist()
            return self.of(found, key) if isinstance(found, list) else found
        self.without_form.append(key)
        return f"array of {' × '.join(map(str, shape))} {given.dtype}"

    def _text(self, given: object, key: str) -> str:
        self.without_form.append(key)
        return short_text(given)


def fields_of(given: object) -> Mapping[object, object] | None:
    """Return the fields of anything that has named fields, else None."""
    if isinstance(given, Mapping):
        return dict(given)
    if dataclasses.is_dataclass(given) and not isinstance(given, type):
        return {field.name: getattr(given, field.name) for field in dataclasses.fields(given)}
    kind = type(given)
    if kind.__module__ == "argparse" and kind.__name__ == "Namespace":
        return cast("dict[object, object]", vars(given)).copy()
    if hasattr(kind, "model_fields") and hasattr(kind, "model_dump"):
        return {name: getattr(given, name) for name in kind.model_fields}
    if isinstance(given, tuple) and hasattr(given, "_asdict"):
        return dict(given._asdict())
    if is_estimator(given):
        found = _tried(lambda: cast("Estimator", given).get_params(deep=False))
        return dict(found) if isinstance(found, Mapping) else None
    return None


def is_estimator(given: object) -> bool:
    """Tell whether something is an object that says its own settings by `get_params`."""
    return not isinstance(given, type) and callable(getattr(given, "get_params", None))


def named_steps(given: object) -> dict[str, object] | None:
    """Return the steps of a pipeline, a list of names with estimators, by name; None for anything else."""
    if not isinstance(given, list | tuple) or not given:
        return None
    if not all(isinstance(item, tuple) and len(item) >= 2 and isinstance(item[0], str) for item in given):
        return None
    names = [item[0] for item in given]
    if len(set(names)) < len(names) or not any(is_estimator(item[1]) for item in given):
        return None
    return {item[0]: item[1] if len(item) == 2 else dict(enumerate(item[1:])) for item in given}


def _is_of(given: object, module: str, *names: str) -> bool:
    """Tell whether a value is of one of a module's types; where the module was never loaded there is none such."""
    loaded = sys.modules.get(module)
    return loaded is not None and isinstance(given, tuple(getattr(loaded, name) for name in names))


def _known_form(given: object) -> object:
    """Return the plain form of types that have one; None of others."""
    if isinstance(given, enum.Enum):
        plain = isinstance(given.value, bool | int | float | str)
        return given.value if plain else f"{type(given).__name__}.{given.name}"
    if isinstance(given, os.PathLike):
        return os.fspath(given)
    if _is_of(given, "datetime", "date", "time"):
        return cast("date", given).isoformat()
    if _is_of(given, "datetime", "timedelta"):
        return cast("timedelta", given).total_seconds()
    if _is_of(given, "decimal", "Decimal") or _is_of(given, "fractions", "Fraction"):
        return float(cast("SupportsFloat", given))
    if isinstance(given, bytes | bytearray | memoryview):
        return f"sha256:{hashlib.sha256(given).hexdigest()}"
    if isinstance(given, range | slice | complex) or _is_of(given, "uuid", "UUID"):
        return str(given)
    if type(given).__name__.endswith(("dtype", "DType")) or type(given).__module__ == "numpy.dtypes":
        return str(given)
    if type(given).__module__ == "numpy" and type(given).__name__ in {"datetime64", "timedelta64"}:
        return str(given)
    return None


def qualified_name(given: object) -> str:
    """Return where a class or function is found, such as `sklearn.svm._classes.SVC`."""
    return f"{getattr(given, '__module__', None) or 'builtins'}.{getattr(given, '__qualname__', given)}"


def short_text(given: object) -> str:
    """Return an object's text in one line, without memory addresses, 200 characters at most."""
    text = _tried(lambda: repr(given))
    if not isinstance(text, str):
        text = f"<{qualified_name(type(given))}>"
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
