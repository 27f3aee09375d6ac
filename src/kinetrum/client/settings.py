"""Settings as people have them, flattened to dotted typed keys.

Taken are dictionaries, dataclasses, Pydantic models, argparse namespaces, and files in TOML, YAML 1.2 or
JSON; nested in any way. Lists of plain values stay lists; a list that holds mappings is flattened by
position (`layers.0.units`). Paths become texts, enumerations their values, dates ISO 8601.
"""

from __future__ import annotations

import argparse
import dataclasses
import datetime
import decimal
import enum
import functools
import json
import os
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from kinetrum.core.errors import InvalidInput, NotFound
from kinetrum.core.values import Value, flatten

_SIZE_LIMIT = 4 * 1024 * 1024


def as_settings(given: Any) -> dict[str, Value]:
    """Return settings by dotted key, in their order.

    `given` is a mapping, a dataclass, a Pydantic model, an `argparse.Namespace`, the path of a file that ends
    in .toml, .yaml, .yml or .json, or None. Raises InvalidInput that names the key or the place in the file,
    NotFound for a file that is not there.
    """
    if given is None:
        return {}
    if isinstance(given, str | os.PathLike):
        given = read_file(Path(given))
    plain = _plain(given)
    if not isinstance(plain, dict):
        raise InvalidInput(
            f"Parameters are a dictionary, a dataclass, a Pydantic model, a namespace or a file, not a "
            f"{type(given).__name__}.",
            field="params",
        )
    return flatten(plain)


def _fields(given: Any) -> dict[Any, Any] | None:
    """Return the fields of anything that has named fields, else None."""
    if isinstance(given, Mapping):
        return dict(given)
    if isinstance(given, argparse.Namespace):
        return vars(given)
    if dataclasses.is_dataclass(given) and not isinstance(given, type):
        return {field.name: getattr(given, field.name) for field in dataclasses.fields(given)}
    kind = type(given)
    if hasattr(kind, "model_fields") and hasattr(kind, "model_dump"):
        return {name: getattr(given, name) for name in kind.model_fields}
    if isinstance(given, tuple) and hasattr(given, "_asdict"):
        return dict(given._asdict())
    return None


def _plain(given: Any) -> Any:
    fields = _fields(given)
    if fields is not None:
        return {name if isinstance(name, str) else _key(name): _plain(value) for name, value in fields.items()}
    if isinstance(given, list | tuple | set | frozenset):
        items = [_plain(item) for item in (sorted(given, key=repr) if isinstance(given, set | frozenset) else given)]
        if any(isinstance(item, dict) or (isinstance(item, list) and _holds_mapping(item)) for item in items):
            return {str(at): item for at, item in enumerate(items)}
        return items
    return _leaf(given)


def _holds_mapping(items: list[Any]) -> bool:
    return any(isinstance(item, dict) or (isinstance(item, list) and _holds_mapping(item)) for item in items)


def _key(name: Any) -> Any:
    """Mappings in YAML may have numbers as names; what else there may be is refused by its name later."""
    return str(name) if isinstance(name, int | float) and not isinstance(name, bool) else name


def _leaf(given: Any) -> Any:
    if isinstance(given, enum.Enum):
        return _leaf(given.value)
    if isinstance(given, os.PathLike):
        return os.fspath(given)
    if isinstance(given, datetime.date | datetime.time):
        return given.isoformat()
    if isinstance(given, datetime.timedelta):
        return given.total_seconds()
    if isinstance(given, decimal.Decimal):
        return float(given)
    if isinstance(given, functools.partial):
        return _leaf(given.func)
    if callable(given) and hasattr(given, "__qualname__"):
        # A namespace's `func`, an optimiser given as a class: by their names they can be compared.
        return f"{given.__module__}.{given.__qualname__}"
    if hasattr(given, "tolist") and getattr(given, "ndim", 0) > 0:
        return given.tolist()
    return given


def read_file(path: Path) -> Any:
    """Read settings from a TOML, YAML 1.2 or JSON file; raises InvalidInput with the place that is wrong."""
    try:
        if path.stat().st_size > _SIZE_LIMIT:
            raise InvalidInput(f"{path} has over {_SIZE_LIMIT} bytes; settings are shorter.", field="params")
        text = path.read_text(encoding="utf-8")
    except FileNotFoundError:
        raise NotFound(f"{path} is not there; give settings as a dictionary or a file.", field="params") from None
    except (OSError, UnicodeDecodeError) as error:
        raise InvalidInput(f"{path} cannot be read ({error}).", field="params") from None
    reader = {".toml": _toml, ".yaml": _yaml, ".yml": _yaml, ".json": _json}.get(path.suffix.lower())
    if reader is None:
        raise InvalidInput(f"{path} ends in none of .toml, .yaml, .yml, .json.", field="params")
    try:
        found = reader(text)
    except ValueError as error:
        raise InvalidInput(f"{path}: {error}", field="params") from None
    if not isinstance(found, dict):
        raise InvalidInput(
            f"{path} holds something of type {type(found).__name__}; a table of settings is needed.", field="params"
        )
    return found


def _toml(text: str) -> Any:
    import tomllib

    return tomllib.loads(text)


def _json(text: str) -> Any:
    return json.loads(text)


def _yaml(text: str) -> Any:
    # YAML 1.2: `no` is a text and 1e-3 a number, which version 1.1 reads the other way round.
    from ruamel.yaml import YAML
    from ruamel.yaml.error import YAMLError

    try:
        return YAML(typ="safe", pure=True).load(text)
    except YAMLError as error:
        mark = getattr(error, "problem_mark", None)
        where = f"line {mark.line + 1}, column {mark.column + 1}: " if mark else ""
        raise ValueError(f"{where}{getattr(error, 'problem', None) or error}") from None
