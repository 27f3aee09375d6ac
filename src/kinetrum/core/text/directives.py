"""Lines by which a program that prints can record: `kinetrum: measure step=3 loss=0.31`.

The words are those of the command line. A value is read as JSON where it is JSON (numbers, true, null, lists),
else it is text; quotes hold together what has spaces.

    kinetrum: set depth=6 learner=forest
    kinetrum: measure step=3 loss=0.31 val/loss=0.4
    kinetrum: result recall=0.913 verdict="ready for review"
    kinetrum: progress 12/40
    kinetrum: used data/nights.csv name=nights role=train
    kinetrum: generated out/frost.onnx name=frost-net kind=model
"""

from __future__ import annotations

import re
import shlex
from dataclasses import dataclass, field

from kinetrum.core.base.errors import InvalidInput
from kinetrum.core.base.values import Value, read_typed

MARK = b"kinetrum:"
_LINE = re.compile(r"^\s*kinetrum:\s+(?P<word>[a-z]+)\b\s*(?P<rest>.*)$")
WORDS = ("set", "measure", "result", "progress", "used", "generated")
_OPTIONS = {"used": {"name", "role", "kind"}, "generated": {"name", "kind", "step"}}


@dataclass(frozen=True)
class Directive:
    """What a line records: the word, keys with values, and what stands without a key (a path, or 12/40)."""

    word: str
    values: dict[str, Value] = field(default_factory=dict)
    subject: str | None = None
    step: int | None = None


def read_directive(line: str) -> Directive | None:
    """Read one line, None where it is not meant for us; raises InvalidInput that says what is wrong in it."""
    match = _LINE.match(line)
    if match is None:
        return None
    word = match["word"]
    if word not in WORDS:
        raise InvalidInput(f"{line.strip()!r}: unknown word {word!r}. Choose one of: {', '.join(WORDS)}.", field="line")
    try:
        parts = shlex.split(match["rest"])
    except ValueError as error:
        raise InvalidInput(f"{line.strip()!r}: {error}.", field="line") from None
    try:
        return _read(word, parts)
    except InvalidInput as error:
        raise InvalidInput(f"{line.strip()!r}: {error}", field="line") from None


def read_pairs(parts: list[str]) -> dict[str, Value]:
    """Read KEY=VALUE words; raises InvalidInput for one without a key or a sign."""
    values: dict[str, Value] = {}
    for part in parts:
        key, sign, text = part.partition("=")
        if not sign or not key:
            raise InvalidInput(f"{part!r} is not of the form KEY=VALUE.", field="value")
        if key in values:
            raise InvalidInput(f"{key!r} is given twice.", field=key)
        values[key] = read_typed(text)
    return values


def _read(word: str, parts: list[str]) -> Directive:
    if word == "progress":
        if len(parts) != 1 or not re.fullmatch(r"\d+(/\d+)?", parts[0]):
            raise InvalidInput("write progress DONE/TOTAL, or progress DONE.", field="progress")
        return Directive(word, subject=parts[0])
    subject = None
    if word in _OPTIONS:
        if not parts or "=" in parts[0]:
            raise InvalidInput(f"{word} needs a path first.", field="path")
        subject, *parts = parts
    values = read_pairs(parts)
    step = _step(values) if word in {"measure", "generated"} else None
    if word in _OPTIONS and not values.keys() <= _OPTIONS[word]:
        raise InvalidInput(f"{word} takes {', '.join(sorted(_OPTIONS[word]))}.", field=word)
    if word not in _OPTIONS and not values:
        raise InvalidInput(f"{word} needs KEY=VALUE.", field=word)
    return Directive(word, values, subject, step)


def _step(values: dict[str, Value]) -> int | None:
    step = values.pop("step", None)
    if step is not None and (isinstance(step, bool) or not isinstance(step, int)):
        raise InvalidInput(f"the step is {step!r}; a whole number is needed.", field="step")
    return step
