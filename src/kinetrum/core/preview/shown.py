"""What a preview shows."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

Kind = Literal["text", "markdown", "table", "image", "model", "archive", "bytes"]
Fact = tuple[str, str]
Row = tuple[str, ...]

ROWS_LIMIT, COLUMNS_LIMIT, CELL_LIMIT = 200, 60, 200


@dataclass(frozen=True)
class Preview:
    """`kind` says how to show it: a text, rows under `columns`, a picture (which is fetched), or plain bytes.

    `facts` are labels and values; `note` says what was left out, or why nothing is shown.
    """

    kind: Kind
    text: str = ""
    language: str = ""
    columns: Row = ()
    rows: tuple[Row, ...] = ()
    facts: tuple[Fact, ...] = ()
    note: str = ""


def cell(value: object) -> str:
    """Write a value into a cell: bounded, in one line."""
    text = "" if value is None else str(value)
    text = text if len(text) <= CELL_LIMIT else text[: CELL_LIMIT - 1] + "…"
    return "".join(c if c.isprintable() else " " for c in text)


def left_out(rows: int = 0, columns: int = 0, of: str = "rows") -> str:
    """Return a sentence on what of a table is not shown, empty where all is: its rows and columns are counted here."""
    shown = [
        f"{limit} {what}"
        for count, limit, what in ((rows, ROWS_LIMIT, of), (columns, COLUMNS_LIMIT, "columns"))
        if count > limit
    ]
    return f"The first {' and '.join(shown)}." if shown else ""
