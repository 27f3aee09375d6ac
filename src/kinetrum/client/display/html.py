"""How records show themselves to people: tables for notebooks, moments in local time."""

from __future__ import annotations

import re
from collections.abc import Sequence

_NUMBER = re.compile(r"[+−-]?\d[\d.,]*(e[+-]?\d+)?( |$)|–$")


def html_table(head: Sequence[str], rows: Sequence[Sequence[str]]) -> str:
    """Return a table for a notebook: numbers stand to the right, texts to the left."""
    sides = ["right" if any(_NUMBER.match(row[at]) for row in rows) else "left" for at in range(len(head))]
    return f"<table>{_row('th', head, sides)}{''.join(_row('td', row, sides) for row in rows)}</table>"


def _row(tag: str, cells: Sequence[str], sides: Sequence[str]) -> str:
    import html

    made = (
        f'<{tag} style="text-align: {side}">{html.escape(cell)}</{tag}>'
        for cell, side in zip(cells, sides, strict=True)
    )
    return f"<tr>{''.join(made)}</tr>"


_WIDTH, _CELL = 100, 24


def text_table(title: str, head: Sequence[str], rows: Sequence[Sequence[str]], more: int = 0) -> str:
    """Return a table of up to 100 columns of text for an interpreter, beneath a title; `more` rows are left out.

    Long cells are cut, and columns that do not fit are counted.
    """
    columns = [[_cut(cell) for cell in column] for column in zip(head, *rows, strict=True)]
    widths, shown = [max(map(len, column)) for column in columns], len(columns)
    while shown > 1 and sum(widths[:shown]) + 2 * (shown - 1) > _WIDTH:
        shown -= 1
    lines = [
        "  ".join(column[at].ljust(width) for column, width in zip(columns[:shown], widths, strict=False)).rstrip()
        for at in range(len(rows) + 1)
    ]
    left = [f"{len(columns) - shown} more columns"] if shown < len(columns) else []
    left += [f"{more:,} more rows"] if more else []
    return "\n".join([title, *lines, *([f"({', '.join(left)})"] if left else [])])


def _cut(cell: str) -> str:
    line = " ".join(cell.split())
    return line if len(line) <= _CELL else f"{line[: _CELL - 1]}…"


def moment(text: str | None) -> str:
    """Write a moment (ISO 8601) in local time: the clock of today, else day and clock; nothing for None."""
    from datetime import datetime

    if text is None:
        return ""
    at = datetime.fromisoformat(text).astimezone()
    today = datetime.now().astimezone()
    if at.date() == today.date():
        return f"today {at:%H:%M}"
    return f"{at.day} {at:%b %H:%M}" if at.year == today.year else f"{at.day} {at:%b %Y}"
