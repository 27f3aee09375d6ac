"""A command's options read as parameters: `python train.py --max-iter 500` sets `arg.max-iter` to 500."""

from __future__ import annotations

import re
from collections.abc import Sequence

from kinetrum.core.base.errors import InvalidInput
from kinetrum.core.base.values import KEY_LIMIT, TEXT_LIMIT, Value, check_value, read_typed
from kinetrum.core.text.secrets import HIDDEN, hide_in_command

PREFIX = "arg."
_INTERPRETER = re.compile(r"(?:python|pypy)[\d.]*w?(?:\.exe)?", re.IGNORECASE)
# Options of the interpreter itself that take the next word.
_WITH_WORD = frozenset({"-W", "-X", "--check-hash-based-pycs"})
_OPTION = re.compile(r"--?[A-Za-z][\w.-]*")


def options_of(words: Sequence[str]) -> dict[str, Value]:
    """Return what reads as options in a command, by key (`arg.max-iter`), in the order in which they stand.

    `--key value` and `--key=value` give the value, an option that no value follows gives true, one that stands
    several times a list. A word that follows an option is its value unless it begins like an option itself; a negative
    number is a value. What stands after a lone `--`, what belongs to the Python interpreter, and what looks like a
    secret is left out. Nothing is refused, since a command that runs by itself has to run: a value that cannot be kept
    as it is becomes a text, cut where it is too long, and a name over the limit of keys is left out.
    """
    options: dict[str, list[Value]] = {}
    rest = list(hide_in_command(words[_program_words(words) :]))
    while rest and rest[0] != "--":
        word = rest.pop(0)
        name, sign, text = word.partition("=")
        if not _OPTION.fullmatch(name):
            continue
        if not sign and rest and rest[0] != "--" and not _OPTION.match(rest[0]):
            text, sign = rest.pop(0), "="
        key = PREFIX + name.lstrip("-")
        if text != HIDDEN and len(key) <= KEY_LIMIT:
            options.setdefault(key, []).append(_typed(text) if sign else True)
    return {key: values[0] if len(values) == 1 else _listed(values) for key, values in options.items()}


def _typed(text: str) -> Value:
    try:
        return check_value(read_typed(text), "value")
    except InvalidInput:
        return _cut(text)


def _cut(text: str) -> str:
    return text if len(text) <= TEXT_LIMIT else f"{text[: TEXT_LIMIT - 1]}…"


def _program_words(words: Sequence[str]) -> int:
    """Return how many words name the program: the first, and after a Python interpreter the script or module too."""
    if not words or not _INTERPRETER.fullmatch(words[0].rpartition("/")[2]):
        return 1
    at = 1
    while at < len(words) and words[at].startswith("-") and words[at] != "-":
        if words[at] in {"-m", "-c"}:
            return at + 2
        at += 2 if words[at] in _WITH_WORD else 1
    return at + 1


def _listed(values: list[Value]) -> Value:
    try:
        return check_value(values, "value")
    except InvalidInput:
        return _cut(" ".join(map(str, values)))
