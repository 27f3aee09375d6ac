"""Results to be seen: their names over runs, the items of a version, rows of tables."""

from __future__ import annotations

from typing import Any, Literal

from kinetrum.actions.data.media import KeptName
from kinetrum.core.media.items import Box, Mask
from kinetrum.wire.base import Out

MediaKind = Literal["image", "sound", "video", "text", "table"]
Outcome = Literal[
    "newly wrong",
    "newly right",
    "both wrong",
    "both right",
    "farther",
    "nearer",
    "as near",
    "changed",
    "same",
    "only left",
    "only right",
]


class Kept(Out):
    """The plots and the media of runs by name."""

    plots: list[KeptName]
    media: list[KeptName]


class ShownItem(Out):
    """A file that can be shown; `type` is the one under which a browser shows or plays it."""

    file: str
    kind: MediaKind | None
    type: str | None
    size: int
    sha256: str
    caption: str
    boxes: list[Box]
    masks: list[Mask]


class ShownVersion(Out):
    """What a version shows; `note` says what is left out or could not be read."""

    reference: str
    kind: str
    items: list[ShownItem]
    note: str


class Column(Out):
    name: str
    type: Literal["number", "true or false", "time", "text"]


class Rows(Out):
    """A page of rows: `total` fit of `of`. `judged`: the table has truths and predictions; `wrong` rows differ."""

    table: str
    path: str
    columns: list[Column]
    rows: list[list[Any]]
    total: int
    of: int
    judged: bool
    wrong: int | None


class JoinedRows(Out):
    """A page of the rows of two tables joined by `key`; `counts` has every outcome, also what is not shown."""

    left: str
    right: str
    key: str
    columns: list[Column]
    rows: list[list[Any]]
    total: int
    of: int
    judged: bool
    counts: dict[str, int]
