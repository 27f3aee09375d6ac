"""What a table is sorted by: `recall`, `fit_seconds:asc`, `min(loss)`, the strongest key first."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass

from kinetrum.core.base.errors import InvalidInput
from kinetrum.core.base.goals import Goal
from kinetrum.core.points.aggregates import INDEXED
from kinetrum.core.query.check import Catalogue, Settling
from kinetrum.core.query.parse import QueryError, parse_subject
from kinetrum.core.query.settled import Field, Key, Source

KEYS_LIMIT = 4
SORTED_FIELDS = (
    "number",
    "name",
    "status",
    "host",
    "started",
    "ended",
    "duration",
    "author",
    "experiment",
)
_SORTED_AGGREGATES = ("shown", *INDEXED, "best")
_PARTS = re.compile(r"""(?:[^,"']|"[^"]*"|'[^']*')+""")


@dataclass(frozen=True)
class SortKey:
    """One key to sort by."""

    source: Source
    descending: bool


def read_sort(text: str, catalogue: Catalogue, goals: Mapping[str, Goal]) -> list[SortKey]:
    """Read what to sort by: better first by a key's goal, else the higher first; `:asc` and `:desc` say it outright.

    An empty text is the latest run first. Raises InvalidInput for what no run has and for over four keys.
    """
    parts = [part.strip() for part in _PARTS.findall(text) if part.strip()]
    if len(parts) > KEYS_LIMIT:
        raise InvalidInput(f"{len(parts)} keys to sort by; at most {KEYS_LIMIT} are taken.", field="sort")
    return [_sort_key(part, catalogue, goals) for part in parts] or [SortKey(Field("number"), True)]


def _sort_key(part: str, catalogue: Catalogue, goals: Mapping[str, Goal]) -> SortKey:
    name, _, way = part.rpartition(":")
    if way not in {"asc", "desc"}:
        name, way = part, ""
    try:
        source = Settling(catalogue).source(parse_subject(name))
    except QueryError as error:
        # A key with a goal may be sorted by before the first run has it.
        if name not in goals:
            raise InvalidInput(f"To sort by: {str(error).partition(': ')[2]}", field="sort") from None
        source = Key("value", name)
    if isinstance(source, Field) and source.name not in SORTED_FIELDS:
        raise InvalidInput(
            f"Runs are not sorted by {source.name}; by {', '.join(SORTED_FIELDS)} they are.", field="sort"
        )
    if isinstance(source, Key) and source.aggregate not in _SORTED_AGGREGATES:
        raise InvalidInput(
            f"Runs are not sorted by {part}; by last, min, max and best of a metric they are.", field="sort"
        )
    by_goal = isinstance(source, Key) and source.scope == "value" and name in goals and not goals[name].higher
    return SortKey(source, way == "desc" if way else not by_goal)


def read_front(text: str, catalogue: Catalogue, goals: Mapping[str, Goal]) -> list[SortKey]:
    """Read the goals of a trade-off, such as `recall,fit_seconds`: two or three values, the better way by their goals.

    Without a goal the way is said: `fit_seconds:asc` for lower. It is never guessed. Raises InvalidInput otherwise.
    """
    keys = read_sort(text, catalogue, goals)
    parts = [part.strip() for part in _PARTS.findall(text) if part.strip()]
    if not 2 <= len(parts) <= 3:
        raise InvalidInput(
            f"A trade-off is between two or three values, not {len(parts)}: recall,fit_seconds.", field="pareto"
        )
    for part, key in zip(parts, keys, strict=True):
        has_direction = part.rpartition(":")[2] in {"asc", "desc"}
        name = key.source.name
        if not has_direction and not (isinstance(key.source, Key) and key.source.scope == "value" and name in goals):
            raise InvalidInput(
                f"No goal says which way {name} is better; write {name}:desc where higher is, "
                f"{name}:asc where lower is.",
                field="pareto",
            )
    return keys
