"""The way of one run's records into the spool; the only code between a training loop and the mapped file."""

from __future__ import annotations

import functools
import os
import struct
import sys
import threading
import weakref
from collections.abc import Callable, Mapping
from time import time_ns
from typing import TYPE_CHECKING, SupportsFloat, cast

from kinetrum.client.spool.layout import SEAL_MASK, packed_points, points_head
from kinetrum.client.spool.segments import Segment
from kinetrum.client.spool.spool import NoRoom, Writer, current_writer
from kinetrum.core.base.errors import InvalidInput
from kinetrum.core.base.values import JsonObject, check_key

if TYPE_CHECKING:
    from mmap import mmap

STEP_LIMIT = 2**62
OUTPUT_PIECE = 256 * 1024


class Metric:
    """What this process knows of one metric: the step after its last, and the shapes it is measured in."""

    __slots__ = ("next_step", "shapes")

    def __init__(self) -> None:
        self.next_step = 0
        self.shapes: list[Shape] = []


class Shape:
    """Metrics measured together: the layout of their records, declared in one segment.

    While none of its metrics is measured in another shape, it is `alone`, and `next_step` holds for all of them.
    """

    __slots__ = ("alone", "head", "keys", "metrics", "next_step", "number", "pack_into", "place", "segment", "size")

    def __init__(self, keys: tuple[str, ...], number: int, metrics: list[Metric]) -> None:
        layout = packed_points(len(keys))
        self.keys = keys
        self.size: int = layout.size
        self.pack_into: Callable[..., None] = layout.pack_into
        self.number = number
        self.head = points_head(layout.size, number)
        self.metrics = metrics
        self.segment: Segment | None = None
        self.next_step = 0
        # Where its latest record lies; the numbers themselves are read from there when somebody asks.
        self.place: tuple[Segment, int] | None = None
        self.alone = not any(metric.shapes for metric in metrics)
        for metric in metrics:
            for other in metric.shapes:
                other.share()
            metric.shapes.append(self)

    def share(self) -> None:
        """From now on every metric counts its steps for itself."""
        if self.alone:
            self.alone = False
            for metric in self.metrics:
                metric.next_step = self.next_step

    def common_step(self) -> int | None:
        """Return the step that comes next for all of its metrics, None where they differ."""
        steps = {metric.next_step for metric in self.metrics}
        return steps.pop() if len(steps) == 1 else None

    def went_to(self, step: int) -> None:
        """Note the step after the last for metrics that are shared."""
        for metric in self.metrics:
            metric.next_step = step


# Stands for metrics that are nested: they are measured under other names, each of which counts for itself.
_NESTED = Shape((), 0, [])
_NESTED.alone = False


def _locked(append: Callable[..., None]) -> Callable[..., None]:
    """For interpreters without a global lock, where one line may be interrupted like any other."""

    def points(self: Recorder, values: dict[str, object], step: int | None, before: int | None = None) -> None:
        with self.writer.lock:
            append(self, values, step, before)

    return points


class Recorder:
    """Writes the records of one run; after a fork the child goes on in a spool folder of its own."""

    def __init__(self, address: dict[str, str]) -> None:
        self.address = address
        self.metrics: dict[str, Metric] = {}
        self.shapes: dict[tuple[str, ...], Shape] = {}
        self._writer: Writer | None = current_writer()
        self._prints_by: Writer | None = None
        _recorders.add(self)

    @property
    def writer(self) -> Writer:
        """The writer of this process; a forked child that records nothing never makes one."""
        if self._writer is None:
            self._writer = current_writer()
        return self._writer

    def after_fork(self) -> None:
        """Forget the parent's segment; the next record opens one of this process."""
        self.shapes.clear()
        self._writer = None

    def write(self, op: str, **fields: object) -> None:
        """Append a record that is no point."""
        self.writer.write({"op": op, **self.address, **fields})

    def output(self, stream: int, moment: int, text: bytes) -> None:
        """Append printed output, in pieces; what has no room is left out."""
        writer = self.writer
        if self._prints_by is not writer:
            # Whoever delivers has to know where this writer's output of the run belongs.
            self._prints_by = writer
            writer.write({"op": "prints", **self.address})
        run = bytes.fromhex(self.address["run"].replace("-", ""))
        start = 0
        while start < len(text):
            end = min(len(text), start + OUTPUT_PIECE)
            for _ in range(3):
                # Up to three bytes go back to the beginning of a character; garbage has none and is cut anywhere.
                if end < len(text) and text[end] & 0xC0 == 0x80:
                    end -= 1
            writer.write_output(run, stream, moment, text[start:end])
            start = end

    def points(self, values: JsonObject, step: int | None, before: int | None = None) -> None:
        """Append one point for each key; without a step each metric goes on after its last one.

        `before` is given where the step was counted already: what came next until then, for a call that fails after
        all. Takes no lock: room, step and time are each taken in one line without a call (see `segments`).
        """
        writer = self._writer or self.writer
        shape = self.shapes.get(tuple(values))
        if shape is None or shape.segment is not writer.segment:
            shape = self._declare(values)
        if before is None:
            if not shape.alone:
                self._points_shared(shape, values, step)
                return
            if step is None:
                before = step = shape.next_step; shape.next_step = step + 1  # fmt: skip # noqa: E702
            else:
                before = shape.next_step
                shape.next_step = step + 1
        moment = time_ns() // 1000
        last = writer.last_time; moment = moment if moment > last else last + 1; writer.last_time = moment  # fmt: skip # noqa: E702
        numbers, segment, size = values.values(), shape.segment, shape.size
        if segment is None:
            self._turn_over(writer, shape, values, step, before)
            return
        room = segment.map
        at = segment.at; end = at + size; fits = end <= segment.limit; segment.at = end if fits else at  # fmt: skip # noqa: E702
        if not fits:
            self._turn_over(writer, shape, values, step, before)
            return
        try:
            shape.pack_into(room, at, shape.head, step, moment, *numbers, at ^ SEAL_MASK)
            if room is not segment.map:
                # A segment that was held in memory moved to its file in this very moment.
                shape.pack_into(segment.map, at, shape.head, step, moment, *numbers, at ^ SEAL_MASK)
            shape.place = (segment, at)
        except (struct.error, TypeError, ValueError, OverflowError):
            segment.void(at, size)
            self._packed_by_hand(shape, values, step, before)
        except BaseException:
            segment.void(at, size)
            raise

    def latest(self) -> dict[str, float]:
        """Return the value of each metric that was measured last in this process."""
        measured = []
        for shape in self.shapes.values():
            if shape.place is not None:
                segment, at = shape.place
                _, _, moment, *values, _ = packed_points(len(shape.keys)).unpack_from(segment.map, at)
                measured.append((moment, dict(zip(shape.keys, values, strict=True))))
        last_values: dict[str, float] = {}
        for _, values_by_key in sorted(measured, key=lambda pair: pair[0]):
            last_values |= values_by_key
        return last_values

    def _turn_over(
        self, writer: Writer, shape: Shape, values: dict[str, object], step: int | None, before: int
    ) -> None:
        """Begin a new segment, declare the shape there and go on; what has no room anywhere is counted."""
        with writer.lock:
            try:
                writer.make_room(shape.size)
                fits = shape.segment is writer.segment or self._announce(shape)
            except NoRoom:
                fits = False
            if fits:
                self.points(values, step, before)
            else:
                writer.drop(self.address, points=len(shape.keys))

    def _points_shared(self, shape: Shape, values: dict[str, object], step: int | None) -> None:
        """Append points of metrics that are measured in other company too, each of which counts for itself."""
        if shape is _NESTED:
            self.points(as_numbers(values), step)
            return
        with self.writer.lock:
            if step is None:
                step = shape.common_step()
                if step is None:
                    self._one_by_one(values)
                    return
            number = as_step(step)
            self.points(values, number, number)
            shape.went_to(number + 1)

    def _declare(self, values: Mapping[str, object]) -> Shape:
        """Declare a shape in the segment at hand, and again in every later one that it is used in."""
        keys = tuple(values)
        if keys not in self.shapes and any(isinstance(value, Mapping) for value in values.values()):
            return _NESTED
        with self.writer.lock:
            shape = self.shapes.get(keys)
            if shape is None:
                if not keys:
                    raise InvalidInput("measure() was called without a metric.", field="metric")
                metrics = [self.metrics.setdefault(check_key(key, "metric"), Metric()) for key in keys]
                shape = Shape(keys, _next_shape_number(), metrics)
                self.shapes[keys] = shape
                if any(hasattr(value, "requires_grad") for value in values.values()):
                    shape.pack_into = functools.partial(_pack_detached, shape.pack_into)
            self._announce(shape)
            return shape

    def _announce(self, shape: Shape) -> bool:
        record = {"op": "shape", **self.address, "shape": shape.number, "keys": list(shape.keys)}
        segment = self.writer.write(record)
        if segment is not None:
            shape.segment = segment
        return segment is not None

    def _one_by_one(self, values: dict[str, object]) -> None:
        for key, value in as_numbers(values).items():
            self.points({key: value}, None)

    def _packed_by_hand(self, shape: Shape, values: dict[str, object], step: int | None, before: int) -> None:
        """Say what was wrong, or convert what only the fast way does not take."""
        if step is not None and shape.next_step == step + 1:
            # The step was counted for this call, which has still to be made, or will never be.
            shape.next_step = before
        try:
            number, numbers = as_step(step), as_numbers(values)
        except InvalidInput as error:
            # How the quicker way failed says nothing to whoever reads this.
            raise error from None
        self.points(numbers, number)


if not getattr(sys, "_is_gil_enabled", lambda: True)():
    Recorder.points = _locked(Recorder.points)  # type: ignore[method-assign]


_shape_numbers = iter(range(1, 2**24))
_number_lock = threading.Lock()


def _next_shape_number() -> int:
    with _number_lock:
        return next(_shape_numbers)


_recorders: weakref.WeakSet[Recorder] = weakref.WeakSet()


def _after_fork() -> None:
    """In a forked child, nobody is left who could give back what was taken here.

    Every recorder starts anew, also of a run that is only being begun: segments and locks are the parent's.
    """
    global _number_lock
    _number_lock = threading.Lock()
    for recorder in list(_recorders):
        recorder.after_fork()


os.register_at_fork(after_in_child=_after_fork)


def as_numbers(values: Mapping[str, object], above: str = "") -> dict[str, float]:
    """Return metrics as numbers; what is nested stands below its name (`val/loss`)."""
    numbers: dict[str, float] = {}
    for name, value in values.items():
        key = f"{above}{check_key(name, 'metric')}"
        if isinstance(value, Mapping) and len(value) > 0:
            below = as_numbers(value, f"{key}/")
        else:
            below = {key: as_number(value, key)}
        twice = numbers.keys() & below.keys()
        if twice:
            raise InvalidInput(f"The metric {min(twice)!r} is given twice.", field=min(twice))
        numbers |= below
    return numbers


def as_number(value: object, key: str) -> float:
    """Return a metric's value as a float; NumPy scalars, and arrays and tensors of one element, count as numbers."""
    value = one_element(value)
    if isinstance(value, str | bytes | None) or (hasattr(value, "__len__") and getattr(value, "ndim", 1) != 0):
        raise InvalidInput(
            f"The metric {key!r} was measured as {str(value)[:60]!r} ({type(value).__name__}); a number is needed. "
            "A text or a list is a result: run.result(...).",
            field=key,
        )
    try:
        return float(cast("SupportsFloat", value))
    except (TypeError, ValueError, OverflowError):
        raise InvalidInput(
            f"The metric {key!r} was measured as {str(value)[:60]!r} ({type(value).__name__}); a number is needed.",
            field=key,
        ) from None


def one_element(value: object) -> object:
    """Return the number in an array or a tensor of one element, without its gradient; anything else as it is."""
    if not hasattr(value, "item") or not hasattr(value, "shape"):
        return value
    size = 1
    for length in value.shape:
        size *= length
    return value.item() if size == 1 else value


def _pack_detached(pack_into: Callable[..., None], room: mmap, at: int, head: int, *numbers: object) -> None:
    """Pack values among which are tensors: each warns of its gradient where it is taken for a number as it is."""
    pack_into(room, at, head, *(one_element(number) for number in numbers))


def by_name(values: object, step: object) -> Mapping[str, object]:
    """Return what `measure` was given in its first place.

    Raises InvalidInput that shows the right call where that is no mapping of names to numbers; the commonest slip is
    `measure("loss", 0.5)`.
    """
    if isinstance(values, Mapping):
        return values
    if isinstance(values, str) and step is not None:
        written = f"{values}={step!r}" if values.isidentifier() else f"{{{values!r}: {step!r}}}"
    else:
        written = f"loss={values!r}" if isinstance(values, int | float) else "loss=0.3"
    raise InvalidInput(f"measure() takes metrics by name: measure({written}).", field="metric")


def as_step(step: object) -> int:
    """Return a step as a whole number; 5.0 is one, 5.5 and True are none."""
    item = step.item() if hasattr(step, "item") and getattr(step, "ndim", 0) == 0 else step
    is_whole = isinstance(item, int) or (isinstance(item, float) and item.is_integer())
    number = cast("float", item)
    if not is_whole or isinstance(item, bool) or abs(number) > STEP_LIMIT:
        raise InvalidInput(f"The step is {step!r}; a whole number is needed.", field="step")
    return int(number)
