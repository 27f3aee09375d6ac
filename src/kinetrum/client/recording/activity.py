"""Activities: named pieces of work in a run, with their own time, metrics, inputs and outputs."""

from __future__ import annotations

import os
import time
from collections.abc import Iterator
from contextlib import contextmanager
from types import TracebackType
from typing import TYPE_CHECKING, Any

from kinetrum.client.spool.complete_segment import new_id
from kinetrum.core.base.errors import Conflict
from kinetrum.core.base.values import check_name

if TYPE_CHECKING:
    from kinetrum.client.recording.run import Run


class Activity:
    """A piece of work: `with run.activity("training") as training:`. Its metrics are `training/loss` and so on."""

    def __init__(self, run: Run, name: str) -> None:
        self.run, self.name, self.id = run, check_name(name, "activity"), new_id()
        self._started_at = run._recorder.writer.now()
        self._ended = False
        self._write(None, False)

    def __repr__(self) -> str:
        return f"<Activity {self.name} of {self.run!r}>"

    def _write(self, ended_at: int | None, failed: bool) -> None:
        self.run._recorder.write(
            "activity", id=self.id, name=self.name, started_at=self._started_at, ended_at=ended_at, failed=failed
        )

    def _within(self, values: dict[str, object]) -> dict[str, object]:
        if self._ended:
            raise Conflict(f"The activity {self.name} has ended; begin another.")
        return {f"{self.name}/{key}": value for key, value in values.items()}

    def measure(self, values: dict[str, object] | None = None, /, step: int | None = None, **metrics: object) -> None:
        """Record one point of each metric, under the activity's name; as `Run.measure`."""
        self.run.measure(self._within({**(values or {}), **metrics}), step=step)

    def result(self, values: dict[str, object] | None = None, /, **results: object) -> None:
        """Record final values under the activity's name; as `Run.result`."""
        self.run.result(self._within({**(values or {}), **results}))

    @contextmanager
    def timed(self, key: str) -> Iterator[None]:
        """Record how many seconds the block took as a result under the activity's name."""
        started = time.perf_counter()
        yield
        self.result({key: time.perf_counter() - started})

    def used(self, what: str | os.PathLike[str], **options: Any) -> None:
        """Record an input of this activity; as `Run.used`."""
        self.run.used(what, activity=self.name, **options)

    def generated(self, path: str | os.PathLike[str], **options: Any) -> None:
        """Record an output of this activity; as `Run.generated`."""
        self.run.generated(path, activity=self.name, **options)

    def end(self, failed: bool = False) -> None:
        """End it; a second call changes nothing."""
        if not self._ended:
            self._ended = True
            self._write(self.run._recorder.writer.now(), failed)

    def __enter__(self) -> Activity:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.end(failed=error is not None)
