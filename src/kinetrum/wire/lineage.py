"""Lineage: a graph of versions, runs and files."""

from __future__ import annotations

from typing import Literal

from kinetrum.wire.base import Out


class LineageNode(Out):
    """`steps` from the start: below zero it came before, above zero after. A group has `members` instead. A hidden
    one stands for what the asker may not see."""

    id: str
    kind: Literal["file", "artifact", "run", "model", "group", "hidden"]
    reference: str
    family: str
    detail: str
    gone: bool
    stages: list[str]
    members: list[str]
    at: str
    person: str
    steps: int


class LineageEdge(Out):
    """From what was there first to what came of it."""

    source: str
    target: str
    relation: Literal["used", "generated", "registered", "began"]
    role: str | None
    activity: str | None
    step: int | None


class Lineage(Out):
    """`count` is the number of nodes before alike ones were folded; `cut` tells that there is more still."""

    start: str
    sentence: str
    nodes: list[LineageNode]
    edges: list[LineageEdge]
    count: int
    cut: bool
