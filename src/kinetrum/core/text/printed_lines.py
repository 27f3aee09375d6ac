"""Printed output as lines: progress bars folded to their last state, colours kept, everything else taken out.

A program that prints for a terminal moves about in the lines it wrote last: it returns to the beginning of the
line, goes up a few lines, erases. `Fold` follows these moves as a terminal would, so that of a bar that was
drawn ten thousand times one line remains. Colours and styles (SGR sequences, ECMA-48 8.3.117) stay in the text.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from typing import Any

LINE_LIMIT = 8_000
STREAMS = ("stdout", "stderr", "kinetrum")
# How many lines of bars a program can reach from below.
_REACH = 16
_SGR = re.compile(r"\x1b\[[0-9;:]*m")
_MOVES = re.compile(
    r"(?P<newline>\r*\n)|(?P<back>\r+)|(?P<up>\x1b\[(\d*)A)|(?P<down>\x1b\[(\d*)B)|(?P<erase>\x1b\[[02]?K)"
    r"|(?P<clear>\x1b\[[12]K)|(?P<rub>\x08+)"
)
_OTHER_ESCAPES = re.compile(
    r"\x1b(?:\][^\x07\x1b]*(?:\x07|\x1b\\)|\[[0-?]*[ -/]*(?:(?![ABKm])[@-~]|(?=\x1b))|[PX^_][^\x1b]*\x1b\\"
    # One escape sign right before another takes its place, as on a terminal.
    r"|[@-OQ-WYZ\\=>78]|(?=\x1b))"
)
_UNFINISHED = re.compile(r"\x1b(?:\[[0-?]*[ -/]*|\][^\x07\x1b]{0,200})?\Z")
_CONTROLS = re.compile(r"[\x00-\x07\x0b\x0c\x0e-\x1a\x1c-\x1f\x7f]")
_OVERWRITTEN = re.compile(
    r"(?:^|(?<=[\n\r]))(?:(?:[^\n\r\x1b]|\x1b\[[0-9;]*[mK])*+\r)+(?=(?:\x1b\[[0-9;]*m)*+[^\r\n\x1b\x08])"
)
# What a simple text has none of: every control sign but line ends and tabs.
_ANY_MOVE = re.compile(r"[\x00-\x08\x0b-\x1f\x7f]")
_STRAY = re.compile(r"\x1b(?!\[[0-9;:]*m)")


def without_overwritten(text: str) -> str:
    """Drop, within each line, what a later return to its beginning overwrote; folding the rest gives the same."""
    return _OVERWRITTEN.sub("\r", text) if "\r" in text else text


def plain(text: str) -> str:
    """Take colours and styles out of a line."""
    return _SGR.sub("", text)


@dataclass
class Line:
    """A line of printed output: when its text began (microseconds since 1970), its stream, its text."""

    at: int
    stream: str
    text: str


@dataclass
class Open:
    """A line that may still change; `over` counts characters beyond the limit, `drawn` tells a bar from plain text."""

    at: int
    text: str = ""
    over: int = 0
    drawn: bool = False


@dataclass
class Fold:
    """The last lines of one stream of one process.

    A line that was drawn from its start by a carriage return may be drawn again from below, as nested bars are: such
    lines stay open until plain text follows them.
    """

    stream: str
    rows: list[Open] = field(default_factory=list)
    row: int = 0
    at_start: bool = False
    rest: str = ""

    def feed(self, text: str, at: int) -> list[Line]:
        """Take more text, printed at a time; returns the lines that cannot change any more."""
        if self._is_simple(text):
            return self._feed_simple(text, at)
        text = _OTHER_ESCAPES.sub("", self.rest + text) if "\x1b" in text or self.rest else text
        self.rest = ""
        if "\x1b" in text[-250:]:
            cut = _UNFINISHED.search(text)
            if cut:
                self.rest, text = cut[0], text[: cut.start()]
        done: list[Line] = []
        start = 0
        for move in _MOVES.finditer(text):
            self._write(text[start : move.start()], at)
            start = move.end()
            self._move(move, at, done)
        self._write(text[start:], at)
        return done

    def _is_simple(self, text: str) -> bool:
        """Tell whether a text moves nowhere but to the next line, as nearly all do."""
        drawn = len(self.rows) > 1 or (self.rows and self.rows[0].drawn)
        return not (self.rest or self.at_start or self.row or drawn or _ANY_MOVE.search(text))

    def _feed_simple(self, text: str, at: int) -> list[Line]:
        first, *others = text.split("\n")
        self._write(first, at)
        if not others:
            return []
        self._here(at)
        done = [self._line(self.rows.pop())]
        for line in others[:-1]:
            short = len(line) <= LINE_LIMIT
            done.append(
                Line(at, self.stream, line.rstrip(" ") if short else cleaned(line[:LINE_LIMIT], len(line) - LINE_LIMIT))
            )
        self.rows.clear()
        self._write(others[-1], at)
        return done

    def finish(self) -> list[Line]:
        """Return what remains as lines; below bars that were cleared nothing is left."""
        while self.rows and not self.rows[-1].text.strip(" "):
            self.rows.pop()
        done = [self._line(row) for row in self.rows]
        self.rows, self.row, self.at_start, self.rest = [], 0, False, ""
        return done

    def _here(self, at: int) -> Open:
        while len(self.rows) <= self.row:
            self.rows.append(Open(at))
        return self.rows[self.row]

    def _write(self, text: str, at: int) -> None:
        if not text:
            return
        here = self._here(at)
        if self.at_start:
            here.text, here.over, here.drawn, self.at_start = "", 0, True, False
        if not here.text:
            here.at = at
        fitting = text[: max(0, LINE_LIMIT - len(here.text))]
        here.text += fitting
        here.over += len(text) - len(fitting)

    def _move(self, move: re.Match[str], at: int, done: list[Line]) -> None:
        kind = move.lastgroup
        if kind == "newline":
            self._newline(at, done)
        elif kind == "back":
            self.at_start = True
        elif kind in {"up", "down"}:
            count = min(int(move[0][2:-1] or 1), 1_000)
            self.row = max(0, self.row - count) if kind == "up" else min(len(self.rows), self.row + count)
            self.at_start = True
        elif kind == "rub":
            here = self._here(at)
            here.text = here.text[: -len(move[0])]
        elif kind == "clear" or self.at_start:
            here = self._here(at)
            here.text, here.over = "", 0

    def _newline(self, at: int, done: list[Line]) -> None:
        self._here(at)
        self.row += 1
        # On a line that stands there already new text begins at its start.
        self.at_start = self.row < len(self.rows)
        bars = all(row.drawn or not row.text for row in self.rows) and any(row.drawn for row in self.rows)
        while self.row > (_REACH if bars else 0):
            done.append(self._line(self.rows.pop(0)))
            self.row -= 1

    def _line(self, row: Open) -> Line:
        return Line(row.at, self.stream, cleaned(row.text, row.over))

    def pending(self) -> list[Line]:
        """Return the lines that may still change, as they stand."""
        return [self._line(row) for row in self.rows if row.text]

    def state(self) -> dict[str, Any]:
        """Return what `from_state` goes on from."""
        rows = [[row.at, row.text, row.over, row.drawn] for row in self.rows]
        return {"stream": self.stream, "rows": rows, "row": self.row, "at_start": self.at_start, "rest": self.rest}

    @classmethod
    def from_state(cls, state: dict[str, Any]) -> Fold:
        """Undo `state`."""
        return cls(**{**state, "rows": [Open(*row) for row in state["rows"]]})


def cleaned(text: str, over: int = 0) -> str:
    """Return a line as it is kept: controls shown as the replacement sign, and how much of it was cut off."""
    text = _STRAY.sub("�", _CONTROLS.sub("�", text))
    if over:
        text = f"{text}\x1b[0m … {over:,} more characters"
    return text.rstrip(" ")
