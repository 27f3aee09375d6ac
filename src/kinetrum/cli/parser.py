"""The parser of the command line: it says what was meant where a word is mistyped."""

from __future__ import annotations

import argparse
import re
import sys
from collections.abc import Sequence
from typing import NoReturn, TypeAlias

_CHOICE = re.compile(r"argument (?P<what>.+?): invalid choice: '?(?P<word>.*?)'? \(choose from (?P<choices>.*)\)", re.S)
_UNKNOWN = "unrecognized arguments: "


class Parser(argparse.ArgumentParser):
    """A parser whose errors name the nearest word that it knows."""

    def error(self, message: str) -> NoReturn:
        """Say what is wrong and what would be right; leaves with status 2."""
        match = _CHOICE.match(message)
        if match:
            choices = [choice.strip().strip("'") for choice in match["choices"].split(",")]
            message = self._about_choice(match["what"], match["word"], choices)
        elif message.startswith(_UNKNOWN):
            message = self._about_unknown(message.removeprefix(_UNKNOWN).split())
        else:
            message = f"{message[0].upper()}{message[1:]}."
        self.exit(2, f"{self.prog}: {message} See '{self.prog} --help'.\n")

    @staticmethod
    def _about_choice(what: str, word: str, choices: Sequence[str]) -> str:
        if what == "COMMAND":
            near = _nearest(word, choices, 0.5)
            hint = f" Did you mean {_either(near)}?" if near else ""
            return f"Unknown command {word!r}.{hint}"
        return f"Unknown {what.rsplit('/', maxsplit=1)[-1].lstrip('-')} {word!r}. Choose one of: {', '.join(choices)}."

    def _about_unknown(self, words: Sequence[str]) -> str:
        options = [option for below in self._commands_given() for option in below._option_string_actions]
        word = words[0].partition("=")[0]
        near = _nearest(word, options, 0.6) if word.startswith("-") else []
        hint = f" Did you mean {_either(near)}?" if near else ""
        return f"{'Unknown option' if word.startswith('-') else 'One word too many:'} {words[0]!r}.{hint}"

    def _commands_given(self) -> list[argparse.ArgumentParser]:
        """Return the parsers of the commands that were named, the whole line's first."""
        parsers: list[argparse.ArgumentParser] = [self]
        for word in sys.argv[1:]:
            for action in parsers[-1]._actions:
                if isinstance(action, argparse._SubParsersAction) and word in action.choices:
                    parsers.append(action.choices[word])
        return parsers


def _nearest(word: str, choices: Sequence[str], least: float) -> list[str]:
    """Return what is nearest to a word, and what is nearly as near, up to three."""
    # Only for what is mistyped; every command would pay for it.
    import difflib

    likeness = {choice: difflib.SequenceMatcher(None, word, choice).ratio() for choice in choices}
    best = max(likeness.values(), default=0.0)
    near = [choice for choice in choices if likeness[choice] >= max(least, best - 0.1)]
    return sorted(near, key=lambda choice: -likeness[choice])[:3]


def _either(words: Sequence[str]) -> str:
    quoted = [repr(word) for word in words]
    return quoted[0] if len(quoted) == 1 else f"{', '.join(quoted[:-1])} or {quoted[-1]}"


Commands: TypeAlias = "argparse._SubParsersAction[Parser]"
"""Where a group of commands adds its own."""
