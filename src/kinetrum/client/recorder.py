"""The way of one run's records into the spool; the only code between a training loop and the mapped file."""

from __future__ import annotations

import struct
import threading
from collections.abc import Callable
from typing import Any

from kinetrum.client.segments import POINTS, SEAL_MASK, points_struct
from kinetrum.client.spool import Writer, current_writer
from kinetrum.core.errors import InvalidInput
from kinetrum.core.values import check_key

STEP_LIMIT = 2**62


class Metric:
    """What this process knows of one metric: the step after its last."""

    __slots__ = ("next_step",)

    def __init__(self) -> None:
        self.next_step = 0


class Shape:
    """Metrics measured together: the layout of their records, declared in one segment."""

    __slots__ = ("generation", "metrics", "number", "pack_into", "size", "tag")

    def __init__(self, keys: tuple[str, ...], number: int, metrics: list[Metric]) -> None:
        layout = points_struct(len(keys))
        self.size: int = layout.size
        self.pack_into: Callable[..., None] = layout.pack_into
        self.number = number
        self.tag = number << 8 | POINTS
        self.metrics = metrics
        self.generation = -1


class Recorder:
    """Writes the records of one run; after a fork the child goes on in a spool folder of its own."""

    def __init__(self, address: dict[str, str]) -> None:
        self.address = address
        self.metrics: dict[str, Metric] = {}
        self.shapes: dict[tuple[str, ...], Shape] = {}
        self.writer: Writer = current_writer()

    def after_fork(self) -> None:
        """Forget the parent's segment; the next record opens one of this process."""
        self.shapes.clear()
        self.writer = current_writer()

    def write(self, op: str, **fields: Any) -> None:
        """Append a record that is no point."""
        self.writer.write({"op": op, **self.address, **fields})

    def points(self, values: dict[str, Any], step: int | None) -> None:
        """Append one point for each key; without a step each metric goes on after its last one."""
        writer = self.writer
        with writer.lock:
            shape = self.shapes.get(tuple(values))
            if shape is None or shape.generation != writer.generation:
                shape = self._declare(tuple(values))
            if step is None:
                first, *others = shape.metrics
                step = first.next_step
                for metric in others:
                    if metric.next_step != step:
                        self._one_by_one(values)
                        return
            segment = writer.segment
            at = segment.at
            if at + shape.size > segment.limit:
                writer.make_room(shape.size)
                shape = self._declare(tuple(values))
                segment = writer.segment
                at = segment.at
            try:
                shape.pack_into(
                    segment.map,
                    at,
                    shape.size,
                    shape.tag,
                    step,
                    writer.now(),
                    *values.values(),
                    at ^ SEAL_MASK,
                )
            except (struct.error, TypeError, ValueError, OverflowError):
                segment.map[at : at + shape.size] = bytes(shape.size)
                self._packed_by_hand(values, step)
                return
            segment.at = at + shape.size
            step += 1
            for metric in shape.metrics:
                metric.next_step = step

    def _declare(self, keys: tuple[str, ...]) -> Shape:
        """Declare a shape in the segment at hand, and again in every later one that it is used in."""
        shape = self.shapes.get(keys)
        if shape is None:
            if not keys:
                raise InvalidInput("measure() was called without a metric.", field="metric")
            metrics = [self.metrics.setdefault(check_key(key, "metric"), Metric()) for key in keys]
            shape = Shape(keys, _next_shape_number(), metrics)
            self.shapes[keys] = shape
        self.write("shape", shape=shape.number, keys=list(keys))
        shape.generation = self.writer.generation
        return shape

    def _one_by_one(self, values: dict[str, Any]) -> None:
        checked = {key: as_number(value, key) for key, value in values.items()}
        for key, value in checked.items():
            self.points({key: value}, None)

    def _packed_by_hand(self, values: dict[str, Any], step: Any) -> None:
        """Say what was wrong, or convert what only the fast way does not take."""
        number = as_step(step)
        converted = {key: as_number(value, key) for key, value in values.items()}
        self.points(converted, number)


_shape_numbers = iter(range(1, 2**24))
_number_lock = threading.Lock()


def _next_shape_number() -> int:
    with _number_lock:
        return next(_shape_numbers)


def as_number(value: Any, key: str) -> float:
    """Return a metric's value as a float; NumPy scalars and 0-d tensors count as numbers."""
    if isinstance(value, str | bytes | None) or (hasattr(value, "__len__") and getattr(value, "ndim", 1) != 0):
        raise InvalidInput(
            f"The metric {key!r} was measured as {str(value)[:60]!r} ({type(value).__name__}); a number is needed. "
            "A text or a list is a result: run.result(...).",
            field=key,
        )
    try:
        return float(value)
    except (TypeError, ValueError, OverflowError):
        raise InvalidInput(
            f"The metric {key!r} was measured as {str(value)[:60]!r} ({type(value).__name__}); a number is needed.",
            field=key,
        ) from None


def as_step(step: Any) -> int:
    """Return a step as a whole number; 5.0 is one, 5.5 and True are none."""
    item = step.item() if hasattr(step, "item") and getattr(step, "ndim", 0) == 0 else step
    whole = isinstance(item, int) or (isinstance(item, float) and item.is_integer())
    if not whole or isinstance(item, bool) or abs(item) > STEP_LIMIT:
        raise InvalidInput(f"The step is {step!r}; a whole number is needed.", field="step")
    return int(item)
