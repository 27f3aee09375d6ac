"""What is asked of rows, and what is answered."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

PAGE_LIMIT = 5_000
# Changes whenever the same tables would be judged otherwise: what was kept under an earlier one is judged anew.
JUDGED_BY = "2"


@dataclass(frozen=True)
class RowQuery:
    """Which rows: `where` holds conditions that all hold; `find` a text in any cell; `wrong` only what was predicted
    wrong (of numbers: the largest errors first); `sort` a column, `:desc` behind it for the other way."""

    where: Sequence[str] = ()
    find: str = ""
    wrong: bool = False
    sort: str = ""
    offset: int = 0
    limit: int = 100


@dataclass(frozen=True)
class Page:
    """Some of the rows that fit: `total` fit of `of`; `judged` tells that truths and predictions are there."""

    columns: list[tuple[str, str]]
    rows: list[list[Any]]
    total: int
    of: int
    judged: bool
    wrong: int | None = None
    counts: dict[str, int] = field(default_factory=dict)
    key: str | None = None
