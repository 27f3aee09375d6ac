"""Settings as people have them, flattened to dotted typed keys.

Taken are dictionaries, dataclasses, Pydantic models, argparse namespaces, estimators, and files in TOML, YAML 1.2 or
JSON; nested in any way. Lists of plain values stay lists; a list that holds mappings is flattened by position
(`layers.0.units`). Paths become texts, enumerations their values, dates ISO 8601, bytes their digest; the names of
classes and functions stand for them. Nothing is refused because of its type.
"""

from __future__ import annotations

import json
import os
import warnings
from collections.abc import Mapping, Sequence
from pathlib import Path

from kinetrum.client.recording.plain_values import OwnSettings, PlainValues, fields_of
from kinetrum.client.recording.recorder import one_element
from kinetrum.core.base.errors import InvalidInput, NotFound
from kinetrum.core.base.values import Value, check_key, check_value, flatten

_SIZE_LIMIT = 4 * 1024 * 1024


def as_settings(source: object, without_form: list[str] | None = None) -> dict[str, Value]:
    """Return settings by dotted key, in their order.

    `source` is a mapping, a dataclass, a Pydantic model, an `argparse.Namespace`, an estimator with `get_params`, the
    path of a file that ends in .toml, .yaml, .yml or .json, or None. Keys whose values have no plain form, so that a
    short text stands for them, are added to `without_form`.

    Raises InvalidInput that names the key or the place in the file, NotFound for a file that is not there.
    """
    if source is None:
        return {}
    if isinstance(source, str | os.PathLike):
        source = read_file(Path(source))
    if fields_of(source) is None:
        raise InvalidInput(
            "Parameters are a dictionary, a dataclass, a Pydantic model, a namespace, an estimator or a file, not a "
            f"{type(source).__name__}.",
            field="params",
        )
    values = PlainValues()
    plain = values.of(source)
    if isinstance(plain, OwnSettings):
        plain = {"class": plain.class_name, **plain}
    if without_form is not None:
        without_form += values.without_form
    return flatten(plain) if isinstance(plain, dict) else {}


def as_results(values: Mapping[str, object], above: str = "") -> dict[str, Value]:
    """Return final values: nested ones below their name (`holdout/auc`), arrays as numbers or short lists.

    Raises InvalidInput for what is no number, text or short list of them.
    """
    results: dict[str, Value] = {}
    for name, value in values.items():
        key = f"{above}{check_key(name, 'result')}"
        if isinstance(value, Mapping):
            results |= as_results(value, f"{key}/")
        else:
            plain = one_element(value)
            if hasattr(plain, "tolist") and hasattr(plain, "shape") and len(plain.shape) > 0:
                plain = plain.tolist()
            results[key] = check_value(plain, key)
    return results


def warn_without_form(keys: Sequence[str]) -> None:
    """Say in one line which settings only a short text stands for."""
    if not keys:
        return
    named = ", ".join(map(repr, keys[:5])) + (f" and {len(keys) - 5} more" if len(keys) > 5 else "")
    value = "value of" if len(keys) == 1 else "values of"
    warnings.warn(
        f"The {value} {named} {'has' if len(keys) == 1 else 'have'} no plain form; a short text is recorded. Give "
        "numbers, texts or lists for what runs are compared by.",
        stacklevel=4,
    )


def read_file(path: Path) -> object:
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
        settings = reader(text)
    except ValueError as error:
        raise InvalidInput(f"{path}: {error}", field="params") from None
    if not isinstance(settings, dict):
        raise InvalidInput(
            f"{path} holds something of type {type(settings).__name__}; a table of settings is needed.", field="params"
        )
    return settings


def _toml(text: str) -> object:
    import tomllib

    return tomllib.loads(text)


def _json(text: str) -> object:
    return json.loads(text)


def _yaml(text: str) -> object:
    # YAML 1.2: `no` is a text and 1e-3 a number, which version 1.1 reads the other way round.
    from ruamel.yaml import YAML
    from ruamel.yaml.error import YAMLError

    try:
        return YAML(typ="safe", pure=True).load(text)
    except YAMLError as error:
        mark = getattr(error, "problem_mark", None)
        where = f"line {mark.line + 1}, column {mark.column + 1}: " if mark else ""
        raise ValueError(f"{where}{getattr(error, 'problem', None) or error}") from None
