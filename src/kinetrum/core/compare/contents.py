"""Two contents of one file side by side: columns of tables by their numbers, texts by their lines."""

from __future__ import annotations

import csv
import io
import math
from collections.abc import Sequence
from dataclasses import dataclass

from kinetrum.core.compare.environment import text_difference

CONTENT_LIMIT = 4 * 1024 * 1024
LINES_LIMIT = 2_000


@dataclass(frozen=True)
class ColumnChange:
    """How a column of a table differs: in how many rows, and for numbers by how much on average, least and most."""

    name: str
    rows: int
    mean: float | None
    least: float | None
    most: float | None


@dataclass(frozen=True)
class ContentDifference:
    """`columns` are those that differ, of tables with the same columns and rows; `text` is a unified difference."""

    sentence: str
    columns: tuple[ColumnChange, ...] = ()
    text: str = ""


def compare_contents(path: str, left: bytes, right: bytes) -> ContentDifference:
    """Compare two contents of a file, as tables where both are tables of one shape, else as texts."""
    try:
        ours, theirs = left.decode("utf-8-sig"), right.decode("utf-8-sig")
    except UnicodeDecodeError:
        return ContentDifference(f"{path} is not text; it has {len(left):,} bytes left and {len(right):,} right.")
    lines = text_difference(ours, theirs, "left", "right")
    if lines is None:
        same = ours == theirs
        return ContentDifference(
            f"{path} holds the same left and right." if same else f"{path} differs in too many lines to show them."
        )
    every = lines.split("\n")
    more = [f"… {len(every) - LINES_LIMIT:,} more lines"] if len(every) > LINES_LIMIT else []
    shown = "\n".join([*every[:LINES_LIMIT], *more])
    if path.lower().endswith((".csv", ".tsv")):
        difference = _tables(path, ours, theirs)
        if difference is not None:
            return ContentDifference(difference.sentence, difference.columns, shown)
    added = sum(line.startswith("+") and not line.startswith("+++") for line in lines.split("\n"))
    gone = sum(line.startswith("-") and not line.startswith("---") for line in lines.split("\n"))
    sentence = f"{gone:,} line{'s'[: gone != 1]} only left, {added:,} only right"
    return ContentDifference(f"{path} differs: {sentence}.", (), shown)


def _tables(path: str, left: str, right: str) -> ContentDifference | None:
    separator = "\t" if path.lower().endswith(".tsv") else max(",;", key=left.split("\n", 1)[0].count)
    try:
        ours, theirs = (list(csv.reader(io.StringIO(text), delimiter=separator)) for text in (left, right))
    except csv.Error:
        return None
    if len(ours) != len(theirs) or len(ours) < 2 or ours[0] != theirs[0]:
        return None
    rows = list(zip(ours[1:], theirs[1:], strict=True))
    if any(len(one) != len(ours[0]) or len(other) != len(ours[0]) for one, other in rows):
        return None
    columns = tuple(
        change
        for at, name in enumerate(ours[0])
        if (change := _column(name, [(one[at], other[at]) for one, other in rows])).rows
    )
    if not columns:
        return ContentDifference(f"The tables hold the same; only their writing differs in {path}.")
    names = ", ".join(_told(column, len(rows)) for column in columns[:4])
    more = f" and {len(columns) - 4} more columns" if len(columns) > 4 else ""
    return ContentDifference(f"{path} differs in {len(columns)} of {len(ours[0])} columns: {names}{more}.", columns)


def _column(name: str, pairs: Sequence[tuple[str, str]]) -> ColumnChange:
    differing = [(one, other) for one, other in pairs if one != other]
    try:
        changes = [float(other) - float(one) for one, other in differing]
    except ValueError:
        changes = []
    if not changes or not all(math.isfinite(change) for change in changes):
        return ColumnChange(name, len(differing), None, None, None)
    return ColumnChange(name, len(differing), math.fsum(changes) / len(changes), min(changes), max(changes))


def _told(column: ColumnChange, rows: int) -> str:
    where = f"all {rows:,} rows" if column.rows == rows else f"{column.rows:,} of {rows:,} rows"
    if column.mean is None:
        return f"{column.name} in {where}"
    alike = math.isclose(column.most or 0.0, column.least or 0.0, rel_tol=1e-6, abs_tol=1e-9)
    by = f"by {column.mean:+.3g}" if alike else f"by {column.mean:+.3g} on average"
    return f"{column.name} {by} in {where}"
