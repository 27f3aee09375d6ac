"""What a version achieved: a checkpoint's values are those at its step, not those that its run reached elsewhere."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field

from kinetrum.core.base.values import Value


@dataclass(frozen=True)
class VersionValues:
    """The values of a version by key, and what must be said about them.

    `step`: the step of the checkpoint that it was made from, None where it stands for the whole run. `earlier`: metrics
    without a point at that step, with the step of their latest point before it. `left_out`: keys of the run that say
    nothing of this checkpoint: results of the whole run where it went on after it, metrics that began later.
    """

    values: Mapping[str, Value]
    step: int | None = None
    earlier: Mapping[str, int] = field(default_factory=dict)
    left_out: tuple[str, ...] = ()

    def with_added(self, added: Mapping[str, Value]) -> VersionValues:
        """Return these values with those that were given when the version was registered, which come first."""
        return VersionValues(
            {**self.values, **added},
            self.step,
            {key: step for key, step in self.earlier.items() if key not in added},
            tuple(key for key in self.left_out if key not in added),
        )

    def step_of(self, key: str) -> int | None:
        """Return the step that a value was measured at; None where it is no metric of a checkpoint."""
        return self.earlier.get(key, self.step)


def checkpoint_values(
    step: int,
    points: Mapping[str, tuple[int, float]],
    metrics: Iterable[str],
    results: Mapping[str, Value],
    is_last: bool,
) -> VersionValues:
    """Return the values of a checkpoint.

    `points`: of each metric the latest point up to the step, as (step, value); `metrics`: all metrics of the run;
    `results`: those of the whole run, which are also the last checkpoint's (`is_last`).
    """
    values: dict[str, Value] = {key: value for key, (_, value) in points.items()}
    applied = dict(results) if is_last else {}
    earlier = {key: at for key, (at, _) in points.items() if at < step and key not in applied}
    missing = [key for key in metrics if key not in points] + [key for key in results if not is_last]
    known = values | applied
    return VersionValues(known, step, earlier, tuple(dict.fromkeys(key for key in missing if key not in known)))
