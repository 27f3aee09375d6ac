"""Text that may be shown on a terminal: recorded text must not steer the terminal of whoever reads it.

What steers one: C0 and C1 control characters and the sequences that they begin (ECMA-48), and the characters of
Unicode that turn the direction of writing round (UAX #9), which make a text look like another one.
"""

from __future__ import annotations

import re

_STEERING = re.compile(r"[\x00-\x08\x0b\x0c\x0e-\x1f\x7f-\x9f\u061c\u200e\u200f\u202a-\u202e\u2066-\u2069]|\r(?!\n)")
# Strings that a terminal takes as a command, such as the clipboard's content, go as a whole.
_COMMANDS = re.compile(r"(?:\x1b[\]PX^_]|[\x90\x98\x9d-\x9f])[^\x07\x1b\x9c\n]*(?:\x07|\x1b\\|\x9c)?")
_OTHER_SEQUENCES = re.compile(r"(?:\x1b\[|\x9b)[0-?]*[ -/]*[@-~]?|\x1b[ -/]*[0-~]")
_STYLE = re.compile(r"\x1b\[[0-9;:]*m")
_OWN_STYLES = frozenset({"\x1b[0m", "\x1b[1m", "\x1b[2m", "\x1b[31m", "\x1b[36m"})
MARK = "\N{REPLACEMENT CHARACTER}"


def without_steering(text: str, every_style: bool = False) -> str:
    """Return a text as it may be printed on a terminal; each thing that would steer it is replaced by a mark.

    The styles that Kinetrum itself prints stay, with `every_style` every colour and style (SGR, ECMA-48 8.3.117); a
    style that is left on is ended.
    """
    if text.isprintable() or _is_plain(text):
        return text
    parts, at, styled = [], 0, False
    for style in _STYLE.finditer(text):
        if every_style or style[0] in _OWN_STYLES:
            parts += [_cleaned(text[at : style.start()]), style[0]]
            at, styled = style.end(), style[0] != "\x1b[0m"
    parts.append(_cleaned(text[at:]))
    return "".join(parts) + ("\x1b[0m" if styled else "")


def _is_plain(text: str) -> bool:
    return _STEERING.search(text) is None


def _cleaned(text: str) -> str:
    return _STEERING.sub(MARK, _OTHER_SEQUENCES.sub(MARK, _COMMANDS.sub(MARK, text)))


def escaped_in_json(text: str) -> str:
    """Return a JSON text in which everything that would steer a terminal is written as `\\uXXXX`: the same JSON."""
    return _STEERING.sub(lambda found: f"\\u{ord(found[0]):04x}", text)
