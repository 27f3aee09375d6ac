"""Forms of output: aligned tables, coloured on a terminal and plain in a pipe, and JSON."""

from __future__ import annotations

import os
import sys
from collections.abc import Sequence

from kinetrum.cli.terminal import beneath
from kinetrum.client.display.html import moment
from kinetrum.core.text.terminal import escaped_in_json, without_steering

__all__ = ["moment"]
_COLOURS = {"good": "36", "bad": "31", "quiet": "2", "strong": "1"}
# What a cut text keeps at least.
_LEAST_TEXT = 24
_STATUS_COLOURS = {
    "failed": "bad",
    "lost": "bad",
    "running": "good",
    "rejected": "bad",
    "approved": "good",
    "better": "good",
    "worse": "bad",
}


def coloured() -> bool:
    """Tell whether standard output takes colours."""
    return sys.stdout.isatty() and "NO_COLOR" not in os.environ and os.environ.get("TERM") != "dumb"


def paint(text: str, colour: str | None) -> str:
    """Colour a text where the terminal takes colours."""
    if colour is None or not text or not coloured():
        return text
    return f"\x1b[{_COLOURS[colour]}m{text}\x1b[0m"


def clean(text: str) -> str:
    """Take control characters out of recorded text, so that it cannot steer the terminal."""
    return "".join(c if c.isprintable() else " " for c in text)


def short(text: str, size: int) -> str:
    """Return a text for a cell: its beginning, and a mark where there is more."""
    whole = clean(text)
    return whole if len(whole) <= size else f"{whole[: size - 1].rstrip()}…"


def width_of(text: str) -> int:
    """Return how many columns a text takes."""
    import unicodedata

    return sum(2 if unicodedata.east_asian_width(c) in "WF" else 0 if unicodedata.combining(c) else 1 for c in text)


def print_json(data: object) -> None:
    """Print data as JSON."""
    import json

    print(escaped_in_json(json.dumps(data, indent=2, ensure_ascii=False)))


def print_json_line(data: object) -> None:
    """Print data as one line of JSON."""
    import json

    print(escaped_in_json(json.dumps(data, ensure_ascii=False)))


def number(value: object) -> str:
    """Write a typed value of the interface for people."""
    from kinetrum.core.base.values import from_json, show

    plain = from_json(value)
    if isinstance(plain, float) and plain == plain and abs(plain) != float("inf") and not plain.is_integer():
        return f"{plain:.4g}"
    return clean(show(plain))


def signed(value: float | None) -> str:
    """Write a difference with its sign; nothing where there is none."""
    return "" if value is None else f"{'+' if value > 0 else ''}{number(value)}"


def numbers(values: Sequence[object]) -> list[str]:
    """Write a column of values: decimals aligned so that its middle number has three significant digits."""
    from statistics import median

    fractions = [value for value in values if isinstance(value, float) and not value.is_integer()]
    sizes = [abs(value) for value in values if isinstance(value, int | float) and not isinstance(value, bool) and value]
    if not fractions or not sizes:
        return [number(value) for value in values]
    decimals = max(0, min(8, 3 - len(f"{int(median(sizes))}"))) if median(sizes) >= 1 else 3
    if median(sizes) < 0.1:
        return [number(value) for value in values]
    return [
        f"{value:.{decimals}f}" if isinstance(value, int | float) and not isinstance(value, bool) else number(value)
        for value in values
    ]


def size_text(size: int) -> str:
    """Write a number of bytes for people, as the console does: 812 B, 4.2 kB, 1.3 GB."""
    if size < 1000:
        return f"{size} B"
    amount, unit = float(size), "B"
    for larger in ("kB", "MB", "GB", "TB"):
        if amount < 999.95:
            break
        amount, unit = amount / 1000, larger
    return f"{amount:.1f} {unit}"


def print_styled(line: str) -> None:
    """Print a line of a program's output with its colours and styles, which are all that is kept of what steers."""
    sys.stdout.flush()
    print(without_steering(line, every_style=True), file=beneath(sys.stdout))


def print_section(title: str) -> None:
    """Print the title of a part."""
    print(f"\n{paint(title, 'strong')}")


def terminal_width() -> int:
    """Return the columns to fill: the terminal's, 100 in a pipe."""
    import shutil

    return shutil.get_terminal_size((100, 24)).columns if sys.stdout.isatty() else int(os.environ.get("COLUMNS", "100"))


def table_width() -> int | None:
    """Return the columns that a table is fitted to; None in a pipe, where whoever reads on gets all of it."""
    return terminal_width() if sys.stdout.isatty() or "COLUMNS" in os.environ else None


def fitted(widths: Sequence[int], texts: Sequence[int], room: int) -> list[int]:
    """Take from the widest of the columns of text, given by place, until a table fits or each is at its least."""
    fitting = list(widths)
    while (over := sum(fitting) + 2 * (len(fitting) - 1) - room) > 0:
        widest = max((at for at in texts if fitting[at] > _LEAST_TEXT), key=lambda at: fitting[at], default=None)
        if widest is None:
            break
        others = max((fitting[at] for at in texts if at != widest and fitting[at] < fitting[widest]), default=0)
        fitting[widest] = max(_LEAST_TEXT, fitting[widest] - over, min(others, fitting[widest] - 1))
    return fitting


def cut(text: str, width: int) -> str:
    """Return a text in so many columns: whole, or its beginning and a mark."""
    if width_of(text) <= width:
        return text
    shortened = text[: width - 1]
    while width_of(shortened) > width - 1:
        shortened = shortened[:-1]
    return f"{shortened.rstrip()}…"


def is_numeric(cells: Sequence[str]) -> bool:
    """Tell whether a column is to be aligned to the right."""
    filled = [cell for cell in cells if cell and cell != "–"]
    return bool(filled) and all(cell[0] in "+-−±0123456789" or cell in {"NaN", "Infinity"} for cell in filled)


def wrapped(text: str, indent: str = "") -> str:
    """Return a text with its lines broken between words where a terminal would break them anywhere; whole in a pipe."""
    room = table_width()
    if room is None or len(text) <= room:
        return text
    import textwrap

    return textwrap.fill(text, max(20, room), subsequent_indent=indent, break_long_words=False, break_on_hyphens=False)


def say(text: str, tone: str | None = None, indent: str = "") -> None:
    """Print a sentence in the width of the terminal."""
    print(paint(wrapped(text, indent), tone))


def print_table(
    heads: Sequence[str], rows: Sequence[Sequence[str]], *, keep: int = 1, fit: bool = True, spare: int = 0
) -> None:
    """Print an aligned table.

    Where it does not fit, long texts are cut first; then columns are left out from the right, and counted. The `spare`
    columns after the first are left out before that, so that the one behind them, a first value, is shown.
    """
    columns = [[head, *(row[at] for row in rows)] for at, head in enumerate(heads)]
    if fit and spare:
        columns = _without_spare(columns, spare)
    widths = [max(width_of(cell) for cell in column) for column in columns]
    right = [is_numeric(column[1:]) for column in columns]
    room, shown = table_width() if fit else None, len(columns)
    if room is not None:
        least = [width if right[at] else min(width, _LEAST_TEXT) for at, width in enumerate(widths)]
        while shown > keep and sum(least[:shown]) + 2 * (shown - 1) > room:
            shown -= 1
        widths = fitted(widths[:shown], [at for at in range(shown) if not right[at]], room)
    for line in range(len(rows) + 1):
        cells = []
        for at in range(shown):
            text = cut(columns[at][line], widths[at])
            gap = " " * (widths[at] - width_of(text))
            colour = "quiet" if line == 0 else _STATUS_COLOURS.get(text)
            cells.append(gap + paint(text, colour) if right[at] else paint(text, colour) + gap)
        print("  ".join(cells).rstrip())
    shown_heads = [column[0] for column in columns[:shown]]
    # A column without a head says something of the one before it.
    hidden = [head for head in heads if head and head not in shown_heads]
    if hidden:
        left = f"{', '.join(hidden[:6])}{' …' if len(hidden) > 6 else ''}"
        say(f"{len(hidden)} column{'s' if len(hidden) > 1 else ''} hidden for width: {left}", "quiet")


def _without_spare(columns: list[list[str]], spare: int) -> list[list[str]]:
    """Leave out columns after the first, from the right, until the one behind them fits."""
    room, remaining = table_width(), list(columns)
    if room is None or len(remaining) <= 1 + spare:
        return remaining
    for at in range(spare, 0, -1):
        least = [max(width_of(cell) for cell in column) for column in remaining[: at + 2]]
        texts = [
            min(width, _LEAST_TEXT) if not is_numeric(column[1:]) else width
            for width, column in zip(least, remaining, strict=False)
        ]
        if sum(texts) + 2 * (len(texts) - 1) <= room:
            break
        del remaining[at]
    return remaining


def counted_things(references: Sequence[str]) -> str:
    """Say how many runs and versions references name: `3 runs and 1 version`."""
    versions = sum("@" in reference for reference in references)
    models = sum(reference.startswith("model:") for reference in references)
    kinds = ((len(references) - versions - models, "run"), (versions, "version"), (models, "model"))
    counts = [(count, word) for count, word in kinds if count]
    return " and ".join(f"{count:,} {word}{'' if count == 1 else 's'}" for count, word in counts) or "nothing"


def origin_of_note(imported_from: str | None) -> str:
    """Say where a note came from with an archive, and who is said to have written it; nothing of one written here."""
    return f", imported from {clean(imported_from)}" if imported_from else ""


def note(text: str) -> None:
    """Say something beside the output."""
    print(text, file=sys.stderr)


def confirmed(question: str) -> bool:
    """Ask on the terminal; where nobody can answer, the answer is no."""
    if not sys.stdin.isatty():
        return False
    return input(f"{question} [y/N] ").strip().lower() in {"y", "yes"}
