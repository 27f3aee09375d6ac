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
