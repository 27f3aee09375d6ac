"""Samples over time in columns, joined from pieces and thinned to what a chart can show."""

from __future__ import annotations

import math

Samples = dict[str, list[float | int | None]]


def joined(blocks: list[Samples]) -> Samples:
    """Put blocks of samples together by time; a column that a block lacks is empty (None) there."""
    names = list(dict.fromkeys(name for block in blocks for name in block))
    rows = [
        (block["at"][row] or 0, {name: block[name][row] for name in block})
        for block in blocks
        for row in range(len(block["at"]))
    ]
    rows.sort(key=lambda row: row[0])
    return {name: [row.get(name) for _, row in rows] for name in names}


def thinned(samples: Samples, width: int) -> Samples:
    """Return at most `width` samples: the highest of each stretch, so that no peak is lost; times are the last ones."""
    times = samples.get("at", [])
    if len(times) <= width:
        return samples
    size = math.ceil(len(times) / width)
    found: Samples = {}
    for name, column in samples.items():
        stretches = [column[start : start + size] for start in range(0, len(column), size)]
        if name == "at":
            found[name] = [stretch[-1] for stretch in stretches]
        else:
            found[name] = [
                max((value for value in stretch if value is not None), default=None) for stretch in stretches
            ]
    return found
