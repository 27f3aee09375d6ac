"""Samples over time in columns, joined from pieces and thinned to what a chart can show."""

from __future__ import annotations

import math
from typing import Any, cast

from kinetrum.core.base.errors import InvalidInput, TooLarge

Samples = dict[str, list[float | int | None]]
SAMPLES_LIMIT, COLUMNS_LIMIT = 5_000, 60
_MICROS = 2**55


def check_samples(samples: Any) -> Samples:
    """Return samples that are columns of equal length with times in one of them; raises InvalidInput or TooLarge."""
    if not isinstance(samples, dict) or not all(isinstance(column, list) for column in samples.values()):
        raise InvalidInput("Samples are columns: lists of numbers by name.", field="samples")
    times = samples.get("at")
    if not times or any(type(at) is not int or not 0 <= at < _MICROS for at in times):
        raise InvalidInput("The column 'at' holds microseconds since 1970, one for each sample.", field="samples.at")
    if len(times) > SAMPLES_LIMIT or len(samples) > COLUMNS_LIMIT:
        raise TooLarge(f"Up to {SAMPLES_LIMIT} samples in {COLUMNS_LIMIT} columns are kept at once.")
    for name, column in samples.items():
        if len(column) != len(times):
            raise InvalidInput(f"{name!r} has {len(column)} samples, 'at' has {len(times)}.", field=f"samples.{name}")
        if any(value is not None and type(value) not in {int, float} for value in column):
            raise InvalidInput(f"{name!r} holds something that is not a number.", field=f"samples.{name}")
    return cast("Samples", samples)


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
    samples_kept: Samples = {}
    for name, column in samples.items():
        stretches = [column[start : start + size] for start in range(0, len(column), size)]
        if name == "at":
            samples_kept[name] = [stretch[-1] for stretch in stretches]
        else:
            samples_kept[name] = [
                max((value for value in stretch if value is not None), default=None) for stretch in stretches
            ]
    return samples_kept


def used(samples: Samples) -> dict[str, float]:
    """Return what a run used of its machine at the most and on average: peak memory in MB, its processor in percent."""
    memory = [value for value in samples.get("memory (bytes)", []) if value is not None]
    processor = [value for value in samples.get("cpu (%)", []) if value is not None]
    figures = {"peak memory (MB)": max(memory) / 1e6} if memory else {}
    return figures | ({"mean processor (%)": sum(processor) / len(processor)} if processor else {})
