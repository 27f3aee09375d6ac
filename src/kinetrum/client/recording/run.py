"""A run: what a training script talks to while it records."""

from __future__ import annotations

import contextvars
import os
import sys
import time
from collections.abc import Iterable, Iterator, Mapping
from contextlib import contextmanager
from types import MappingProxyType, TracebackType
from typing import TYPE_CHECKING, Any, TypeVar

from kinetrum.client.capture import standard_streams
from kinetrum.client.recording import exit_hooks
from kinetrum.client.recording.activity import Activity
from kinetrum.client.recording.progress_bars import make_bar
from kinetrum.client.recording.recorder import as_step, by_name
from kinetrum.client.recording.run_state import RunState
from kinetrum.client.sender.launch import start_sender
from kinetrum.client.spool.complete_segment import new_id
from kinetrum.client.spool.destinations import destination_of, keep_destination
from kinetrum.client.spool.spool import current_writer
from kinetrum.client.transport.connection import find_connection
from kinetrum.core.base.errors import Conflict, InvalidInput
from kinetrum.core.base.values import JsonObject, Value, from_json, same, show, to_json

if TYPE_CHECKING:
    from kinetrum.client.media.media import Media
    from kinetrum.client.media.plots import Plotting
    from kinetrum.client.registry.models import ModelVersion

T = TypeVar("T")
PROGRESS_EVERY_S = 2.0
# By run, the number of the item that a loop of this thread or coroutine is at.
_steps: contextvars.ContextVar[Mapping[str, int]] = contextvars.ContextVar("steps", default=MappingProxyType({}))


class Run(RunState):
    """One run being recorded. Use it as a context manager, or call `end()` or `fail()`.

    Handed to another process (forked, spawned, or pickled in any other way) it goes on there as a run that is
    joined: the process writes to a spool folder of its own, gives every step, and does not end the run.
    """

    def __reduce__(self) -> tuple[object, ...]:
        return _joined, (self._address, self._params)

    def set(self, **params: object) -> None:
        """Set `params` by key, each once. The same value again is fine, another raises Conflict in this line."""
        self.set_params(params)

    def set_params(self, params: object = None, /, **more: object) -> None:
        """Set parameters given in any of the forms that `begin` takes, or by name; what is nested becomes dotted keys.

        Each once. The same value again is fine, another raises Conflict in this line.
        `params` is such an object or file, `more` are values by key.
        """
        from kinetrum.client.recording.parameters import as_settings

        self._check_open()
        without_form: list[str] = []
        settings = as_settings(params, without_form) | as_settings(more, without_form)
        for key, value in settings.items():
            if key in self._params and not same(self._params[key], value):
                raise Conflict(
                    f"The parameter {key!r} is {show(self._params[key])} already; it cannot become {show(value)}.",
                    field=key,
                )
        fresh = {key: value for key, value in settings.items() if key not in self._params}
        if fresh:
            self._recorder.write("params", params={key: to_json(value) for key, value in fresh.items()})
            self._params.update(fresh)
            self._note_without_form([key for key in without_form if key in fresh])

    def measure(self, values: JsonObject | None = None, /, step: int | None = None, **metrics: object) -> None:
        """Record one point of each metric: `measure(loss=0.3)` or `measure({"val/loss": 0.4}, step=3)`.

        Without a step, and outside `progress`, each metric goes on after its last step, from 0 on.
        A repeated step keeps both points; the later is shown. NaN and infinities are kept. What is nested stands below
        its name (`val/loss`); arrays and tensors of one element count as numbers.
        Raises InvalidInput for what is no number or no whole step, Conflict after the run's end.
        `values` and `metrics` are numbers by key, in the metric's own unit; `step` is a whole number.
        """
        if values is not None:
            metrics = {**(values if type(values) is dict else by_name(values, step)), **metrics}
        if self._special:
            step = self._special_step(step)
        elif step is not None and type(step) is not int:
            step = as_step(step)
        self._points(metrics, step)

    def _special_step(self, step: int | None) -> int | None:
        """Find the step where more than the plain rule holds: inside `progress`, attached, or after the end."""
        self._check_open()
        if step is not None:
            return as_step(step)
        here = _steps.get().get(self.id)
        if here is not None:
            return here
        if self._needs_steps:
            raise InvalidInput(
                "A process that joins a run or takes it up again gives the step: measure(loss=0.3, step=7).",
                field="step",
            )
        return None

    def progress(self, items: Iterable[T], **options: object) -> Iterator[T]:
        """Go through `items` with a progress bar; inside, `measure` takes the item's number (from 0) as its step.

        `options` go to the bar (tqdm). Leaving the loop by `break` or an exception ends the counting. Loops that run at
        the same time, in threads or coroutines, count each for itself.
        """
        bar = make_bar(items, options)
        since = self._recorder.writer.now()
        next_note = time.monotonic() + PROGRESS_EVERY_S
        number, above = -1, _steps.get().get(self.id)
        self._loops += 1
        self._special = True
        try:
            for number, item in enumerate(bar):
                _steps.set({**_steps.get(), self.id: number})
                if time.monotonic() >= next_note:
                    self._note_progress(number, bar.total, since)
                    next_note = time.monotonic() + PROGRESS_EVERY_S
                yield item
        finally:
            self._loops -= 1
            # The loop around this one counts on.
            _steps.set({run: step for run, step in {**_steps.get(), self.id: above}.items() if step is not None})
            self._special = self._needs_steps or self._ended is not None or self._loops > 0
            bar.close()
            if self._ended is None:
                self._note_progress(number + 1, bar.total, since)

    def _note_progress(self, done: int, total: float | None, since: int) -> None:
        whole = None if total is None else int(total)
        self._recorder.write("progress", done=done, total=whole, since=since, at=self._recorder.writer.now())

    def activity(self, name: str) -> Activity:
        """Begin a named piece of work: `with run.activity("training") as training: training.measure(loss=0.3)`.

        It has its own time; its metrics and results stand under its name (`training/loss`), its inputs and outputs
        are shown with it. Raises InvalidInput for a bad name.
        """
        self._check_open()
        return Activity(self, name)

    def result(self, values: JsonObject | None = None, /, **results: object) -> None:
        """Record final values: numbers, texts, or short lists and arrays of them.

        What is nested stands below its name (`holdout/auc`). Recorded again: the later is shown, both are kept.
        `values` and `results` are by key. Raises InvalidInput for what has no such form, Conflict after the
        run's end.
        """
        from kinetrum.client.recording.parameters import as_results

        self._check_open()
        checked = {key: to_json(value) for key, value in as_results({**(values or {}), **results}).items()}
        if not checked:
            raise InvalidInput("result() was called without a value.", field="result")
        moment = self._recorder.writer.now()
        self._recorder.write(
            "results",
            results=[{"id": new_id(), "key": key, "value": value, "at": moment} for key, value in checked.items()],
        )
        self._results.update((key, from_json(value)) for key, value in checked.items())

    def evaluate(  # noqa: PLR0913
        self,
        y_true: object,
        y_score: object,
        *,
        on: str | None = None,
        rows: object = None,
        task: str | None = None,
        classes: object = None,
        positive: object = None,
        threshold: float | None = None,
        weights: object = None,
        groups: object = None,
    ) -> dict[str, object]:
        """Evaluate predictions and record the results, as `accuracy`, or `holdout/accuracy` with on="holdout".

        The plots of such a task are kept beside them (`holdout/roc`, `holdout/confusion`, …).

        `y_true`: n labels or numbers, or n x k zeros and ones where a row may have several labels. `y_score`: n labels,
        n scores of the positive class, n x k scores with a column per class, or n numbers; tensors are taken. `task`
        is classification, multilabel, regression or ranking; without it that is found out, with a warning where it is
        a guess. `groups` makes a ranking of the rows that share one. `rows`: n keys, or True for row
        numbers, under which every row's truth and prediction is kept as a table. The other arguments are as
        in `kinetrum.core.evaluation.evaluate`. Returns the results. Raises InvalidInput for what does not fit.
        `weights` has a number a row, `threshold` is the score from which a row counts as positive, `classes`
        the labels in the order of the columns of scores.
        """
        self._check_open()
        from kinetrum.client.recording.evaluation import evaluate_run

        return evaluate_run(
            self,
            y_true,
            y_score,
            on,
            rows,
            task=task,
            classes=classes,
            positive=positive,
            threshold=threshold,
            weights=weights,
            groups=groups,
        )

    @property
    def plot(self) -> Plotting:
        """Plots kept as data: `run.plot.roc("holdout", y_true, y_score)`, one method a kind."""
        from kinetrum.client.media.plots import Plotting

        return Plotting(self)

    @property
    def media(self) -> Media:
        """Images, sounds, videos, texts and tables: `run.media.images("worst nights", pictures, captions=texts)`."""
        from kinetrum.client.media.media import Media

        return Media(self)

    @contextmanager
    def timed(self, key: str) -> Iterator[None]:
        """Record how many seconds the block took as the result `key`."""
        started = time.perf_counter()
        yield
        self.result({key: time.perf_counter() - started})

    def used(  # noqa: PLR0913
        self,
        what: str | os.PathLike[str],
        *,
        name: str | None = None,
        role: str | None = None,
        kind: str = "data",
        activity: str | None = None,
        upload: bool = False,
        about: Mapping[str, object] | None = None,
        labels: Mapping[str, str] | None = None,
    ) -> None:
        """Record an input: a file or folder, fingerprinted where it lies and not copied, or a version (`nights@3`).

        `what` may also be an HTTP address, or objects in an object store (`s3://readings/2026`). The call returns
        at once; the files are read in the background, every byte of them, and sent to the service too with
        `upload=True`. `about` is metadata of the version, in words of your own.
        Raises NotFound for a path that is not there, InvalidInput for bad names.
        `name` is the artifact's (by default the file's), `role` what the run used it for (train, held-out),
        `kind` what it is in a word, `activity` the activity that used it, `labels` the version's labels.
        """
        from kinetrum.client.recording.inputs_outputs import described, record_used

        self._check_open()
        description = described(kind, role=role, activity=activity, about=about, labels=labels)
        record_used(self._recorder, what, name, description, upload)

    def generated(  # noqa: PLR0913
        self,
        path: str | os.PathLike[str],
        *,
        name: str | None = None,
        kind: str = "file",
        step: int | None = None,
        activity: str | None = None,
        keep: int | str | None = None,
        about: Mapping[str, object] | None = None,
        labels: Mapping[str, str] | None = None,
    ) -> None:
        """Record an output: a file or folder, copied at this call and uploaded in the background.

        Overwriting the file afterwards does no harm. Content equal to the newest version makes no new one. Over
        1 GiB, where the file system cannot share blocks, nothing is copied: the call waits until it is uploaded.

        `keep=3` keeps the checkpoints of this name with the three highest steps, `keep="best"` the one whose step
        had the best value of the experiment's first goal (`keep="best:recall"` names it); the run's others go to the
        bin, unless something rests on them. Inside `progress` the step is the item's number.
        Raises NotFound for a path that is not there, InvalidInput for bad names.
        `kind` says what it is in a word (model, table, image), `activity` names the activity that made it;
        `about` is metadata of the version and `labels` its labels, in words of your own.
        """
        from kinetrum.client.recording.inputs_outputs import described, record_generated

        self._check_open()
        number = self._here if step is None else as_step(step)
        description = described(kind, step=number, activity=activity, keep=keep, about=about, labels=labels)
        if description.keep is not None and number is None:
            raise InvalidInput("keep chooses among steps; give the step: generated(…, keep=3, step=7).", field="step")
        record_generated(self._recorder, path, name, description)

    @property
    def _here(self) -> int | None:
        """The step inside `progress`, in its own thread."""
        return _steps.get().get(self.id)

    def child(self, **options: Any) -> Run:
        """Begin a run under this one, in the same experiment unless told otherwise; `options` are those of `begin`."""
        options.setdefault("project", self.project)
        import kinetrum

        return kinetrum.begin(options.pop("experiment", self.experiment), parent=self, **options)

    def register(  # noqa: PLR0913
        self,
        artifact: str,
        *,
        as_model: str,
        step: int | None = None,
        best: str | None = None,
        comment: str = "",
        labels: Mapping[str, str] | None = None,
        metrics: Mapping[str, object] | None = None,
        sample: object = None,
        sample_output: object = None,
    ) -> ModelVersion:
        """Register what this run generated under `artifact` as a model's next version.

        Of several checkpoints `step` chooses the one of a step, `best` the one at which a metric with a goal was best.
        `metrics` are values added to those of the run; from `sample`, an input, the signature is inferred. Waits for
        the spool to be delivered first. Raises Unavailable where that takes over a minute.
        `as_model` is the model's name, made by its first version. `comment` and `labels` are the version's;
        `sample_output` is what the model answers to `sample`.
        """
        from kinetrum.client.registry.registration import register_from_run, told

        body = {"step": step, "best": best, **told(comment, labels, metrics, sample, sample_output)}
        return register_from_run(self._address, artifact, as_model, body)

    def flush(self, timeout_s: float = 60.0) -> None:
        """Wait until everything recorded so far is acknowledged.

        Raises Unavailable after `timeout_s` seconds, NotSignedIn where no token is valid, with what stands in the way.
        """
        from kinetrum.client.spool.draining import drain

        drain(self._recorder.writer.root, timeout_s, self.id)

    def end(self, status: str = "finished", reason: str | None = None) -> None:
        """End the run; a second call changes nothing, and neither does one in a forked child.

        A child that leaves the `with` block, or falls to the end of the program, ends nothing of its parent's.
        `status` is finished, failed or stopped, `reason` a sentence that is shown beside it.
        """
        if self._ended is not None or self.owner_pid not in {-1, os.getpid()}:
            return
        if self._looking is not None:
            self._looking.finish()
        if self._cell is not None:
            from kinetrum.client.capture.figures.notebooks import keep_before_end

            keep_before_end(self)
        standard_streams.release(self.id)
        self._recorder.write("end", status=status, reason=reason, ended_at=self._recorder.writer.now())
        self._ended = status
        self._special = True
        exit_hooks.forget(self)
        start_sender(self._recorder.writer.root)
        self._warn_of_refused()

    def fail(self, reason: str) -> None:
        """End the run as failed; `reason` is a sentence that is shown beside it."""
        self.end("failed", reason)

    def __enter__(self) -> Run:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        if error is None:
            self.end()
        elif isinstance(error, KeyboardInterrupt):
            self.end("stopped", "interrupted from the keyboard")
        elif isinstance(error, SystemExit) and error.code in (None, 0):
            self.end()
        else:
            self.end("failed", exit_hooks.told(error))

    def __del__(self) -> None:
        if not sys.is_finalizing() and self._ended is None and self.owner_pid == os.getpid():
            self.end("stopped", "nothing refers to it any more")


def _joined(address: dict[str, str], params: dict[str, Value]) -> Run:
    """Make a run that came from another process one of this process."""
    root = current_writer().root
    if not (root / "destinations" / f"{address['to']}.json").exists():
        # Another machine, or another spool: the token did not travel along, this place has its own.
        connection = find_connection(None, address["project"], address["experiment"], needs_service=False)
        address = {**address, "to": keep_destination(root, destination_of(connection))}
    run = Run(address, dict(params), attached=True)
    start_sender(root)
    return run
