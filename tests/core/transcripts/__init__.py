"""What the rules of the core say, word by word and number by number: each topic is a text that people read in a review.

`python -m tests.core.transcripts` writes the texts anew; whoever does so reads what changed before it is committed.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import fields, is_dataclass
from enum import Enum
from pathlib import Path
from typing import Any
from zlib import crc32

import numpy as np

from kinetrum.core.base.errors import KinetrumError

FOLDER = Path(__file__).parent
LENGTH = 400


def written(value: Any) -> str:
    """Write a value: numbers to eight digits, records with their fields, whatever the order of a set."""
    if isinstance(value, Enum) and not isinstance(value, bool):
        return str(value)
    if is_dataclass(value) and not isinstance(value, type):
        held = ", ".join(f"{field.name}={written(getattr(value, field.name))}" for field in fields(value))
        return f"{type(value).__name__}({held})"
    if isinstance(value, float | np.floating):
        # What is left of a difference of numbers near one has few digits that every processor gives alike.
        return "0.0" if value == 0 else f"{float(value):.3g}" if abs(value) < 1e-6 else f"{float(value):.8g}"
    if isinstance(value, np.ndarray):
        return written(value.tolist())
    if isinstance(value, dict):
        return "{" + ", ".join(f"{written(key)}: {written(held)}" for key, held in value.items()) + "}"
    if isinstance(value, list | tuple):
        ends = "[]" if isinstance(value, list) else "()"
        return ends[0] + ", ".join(map(written, value)) + ends[1]
    if isinstance(value, bytes):
        return value.hex()
    return repr(value)


def told(act: Callable[[], Any]) -> str:
    """Return what an act came to: its value, or its error with everything that the error says."""
    try:
        return written(act())
    except KinetrumError as error:
        where = f" [{error.field}{f', column {error.column}' if error.column else ''}]"
        return f"{type(error).__name__}: {error}{where}"
    except Exception as error:
        return f"{type(error).__name__}: {str(error).partition(chr(10))[0]}"


def on_a_line(text: str) -> str:
    """Write ends of lines as people write them in a program."""
    return text.replace("\n", "\\n").replace("\r", "\\r")


def lines_of(asked: Iterable[tuple[str, Callable[[], Any]]]) -> Iterator[str]:
    """Return a line for each question and its answer."""
    for question, act in asked:
        answer = on_a_line(told(act))
        if len(answer) > LENGTH:
            # The rest is held to by its checksum: a curve of hundreds of points is nothing to read.
            answer = f"{answer[:LENGTH]} … {crc32(answer.encode()):08x}"
        yield f"{on_a_line(question)}\n    {answer}"
