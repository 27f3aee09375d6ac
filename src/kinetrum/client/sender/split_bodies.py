"""Bodies in parts: what a proxy refuses as too large is sent in halves, and those in halves again."""

from __future__ import annotations

import hashlib
import uuid

from kinetrum.core.base.values import JsonObject
from kinetrum.core.points.codec import Group

# A piece of output is known by its position, of which there are eight to a record.
_POSITIONS = 8


def halves(groups: list[Group]) -> list[list[Group]]:
    """Divide points into two parts, one where nothing can be divided any more.

    Groups are kept whole where there are several; one group is divided by its points, and one point by its metrics.
    """
    if len(groups) > 1:
        middle = len(groups) // 2
        return [groups[:middle], groups[middle:]]
    (group,) = groups
    if len(group.steps) > 1:
        middle = len(group.steps) // 2
        return [
            [Group(group.keys, group.steps[part], group.times[part], group.values[:, part])]
            for part in (slice(None, middle), slice(middle, None))
        ]
    if len(group.keys) > 1:
        middle = len(group.keys) // 2
        return [
            [Group(group.keys[part], group.steps, group.times, group.values[part])]
            for part in (slice(None, middle), slice(middle, None))
        ]
    return [groups]


def part_name(batch: str, number: int) -> str:
    """Return the id of a part of a batch, the same whenever it is sent."""
    return str(uuid.UUID(bytes=hashlib.sha256(f"{batch}/{number}".encode()).digest()[:16]))


def halves_of_output(pieces: list[JsonObject]) -> list[list[JsonObject]]:
    """Divide printed output into two parts, one where nothing can be divided any more.

    One piece becomes eight at most, at neighbouring positions that no other piece has.
    """
    if len(pieces) > 1:
        middle = len(pieces) // 2
        return [pieces[:middle], pieces[middle:]]
    (piece,) = pieces
    size = -(-len(piece["text"]) // _POSITIONS)
    if piece["position"] % _POSITIONS or size < 1 or len(piece["text"]) < _POSITIONS:
        return [pieces]
    texts = [piece["text"][start : start + size] for start in range(0, len(piece["text"]), size)]
    first = piece["position"] - len(texts) + 1
    return [[{**piece, "position": first + number, "text": text}] for number, text in enumerate(texts)]
