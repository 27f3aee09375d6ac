"""Which checkpoints of a run stay: the last few, or the best by a goal at their step."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

from kinetrum.core.base.errors import InvalidInput

KEEP_LIMIT = 10_000
_RULE = "keep is a whole number from 1 on, 'best', or 'best:KEY'"


@dataclass(frozen=True)
class Checkpoint:
    """A version that a run generated at a step; `value` is the goal's metric there, None where it was not measured."""

    version_id: int
    step: int
    value: float | None = None


def check_keep(keep: object) -> str | None:
    """Return which checkpoints are to be kept as text: '3', 'best' or 'best:recall'; raises InvalidInput."""
    if keep is None:
        return None
    if isinstance(keep, int) and not isinstance(keep, bool):
        keep = str(keep)
    if isinstance(keep, str):
        if keep == "best" or (keep.startswith("best:") and 5 < len(keep) <= 255):
            return keep
        if keep.isascii() and keep.isdigit() and 1 <= int(keep[:9]) <= KEEP_LIMIT:
            return keep
    raise InvalidInput(f"keep is {keep!r}; {_RULE}.", field="keep")


def to_release(
    checkpoints: Sequence[Checkpoint],
    keep: str,
    higher: bool = True,
    final: bool = True,
    measured_to: int | None = None,
) -> list[Checkpoint]:
    """Return the checkpoints that go to the bin, by step.

    With a number, those with the highest steps stay. With `best`, the one whose value is best stays, the earlier
    of two equals; one without a value or with NaN stays only while none has a value, and then the latest does.
    Unless `final`, those without a value behind the last step that was measured (`measured_to`) stay as well:
    files may arrive before the points, and what is best among them is not known yet.
    """
    ordered = sorted(checkpoints, key=lambda checkpoint: (checkpoint.step, checkpoint.version_id))
    if not ordered:
        return []
    if keep.isdigit():
        return ordered[: -int(keep)]
    valued = [checkpoint for checkpoint in ordered if checkpoint.value is not None and not math.isnan(checkpoint.value)]
    if valued:
        # max() and min() take the first of equals, which is the earlier one.
        chosen = (max if higher else min)(valued, key=lambda checkpoint: checkpoint.value or 0.0)
    else:
        chosen = ordered[-1]
    kept_ids = {chosen.version_id}
    if not final:
        kept_ids |= {
            checkpoint.version_id
            for checkpoint in ordered
            if checkpoint.value is None and (measured_to is None or checkpoint.step > measured_to)
        }
    return [checkpoint for checkpoint in ordered if checkpoint.version_id not in kept_ids]
