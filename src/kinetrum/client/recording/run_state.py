"""What a run that is being recorded is, and what was recorded in it so far."""

from __future__ import annotations

import os
import warnings
from typing import TYPE_CHECKING

from kinetrum.client.recording.recorder import Recorder
from kinetrum.client.spool.complete_segment import new_id
from kinetrum.client.spool.run_numbers import read_number
from kinetrum.core.base.errors import Conflict, InvalidInput
from kinetrum.core.base.values import NOTE_LIMIT, Value, check_label

if TYPE_CHECKING:
    from kinetrum.client.capture.environment import Looking
    from kinetrum.client.capture.notebook_cells import Cell


class RunState:
    """A run that is open or has ended, as this process knows it."""

    def __init__(
        self,
        address: dict[str, str],
        params: dict[str, Value],
        attached: bool = False,
        resumed: bool = False,
        name: str | None = None,
    ) -> None:
        self.owner_pid = -1 if attached else os.getpid()
        self._address = address
        self._recorder = Recorder(address)
        self._points = self._recorder.points
        self._params = params
        self._name = name
        self._results: dict[str, Value] = {}
        # Who did not see all that was measured cannot count on from the last step.
        self._needs_steps = attached or resumed
        self._ended: str | None = None
        self._loops = 0
        self._looking: Looking | None = None
        self._told_without_form = False
        # Number, reference and name, once they are known.
        self._known: tuple[int, str, str | None] | None = None
        self._cell: Cell | None = None
        # One look tells measure() that none of the rarer rules applies.
        self._special = self._needs_steps

    @property
    def id(self) -> str:
        """The run's identity, made here; the service gives it a number when it arrives."""
        return self._address["run"]

    @property
    def experiment(self) -> str:
        """Name of the experiment."""
        return self._address["experiment"]

    @property
    def project(self) -> str:
        """Name of the project."""
        return self._address["project"]

    @property
    def params(self) -> dict[str, Value]:
        """What was set by this process, by dotted key."""
        return dict(self._params)

    @property
    def name(self) -> str | None:
        """The name that the run was begun with, or the one that the service generated once it answered.

        None until then, and where it has none.
        """
        return self._name or (self._numbered[2] if self._numbered else None)

    @property
    def number(self) -> int | None:
        """The number that the service gave to it; None until this machine heard of it."""
        return self._numbered[0] if self._numbered else None

    @property
    def reference(self) -> str | None:
        """The reference by which people name it, such as `frost-alarm/42`; None until its number is known."""
        return self._numbered[1] if self._numbered else None

    @property
    def _numbered(self) -> tuple[int, str, str | None] | None:
        writer = self._recorder._writer
        if self._known is None and writer is not None:
            self._known = read_number(writer.folder, self.id)
        return self._known

    @property
    def status(self) -> str:
        """What this process knows of it: `running`, or how it ended here (`finished`, `failed`, `stopped`)."""
        return self._ended or "running"

    @property
    def results(self) -> dict[str, Value]:
        """The final values that this process recorded, the latest of each key."""
        return dict(self._results)

    @property
    def metrics(self) -> dict[str, float]:
        """The value of each metric that this process measured last, by key."""
        return self._recorder.latest()

    def __repr__(self) -> str:
        return f"<Run {self.reference or f'{self.experiment} {self.id[-10:]}'} {self.status}>"

    def after_fork(self) -> None:
        """Go on in a forked child: records there go to a spool folder of the child, with steps given."""
        self._needs_steps = self._special = True

    def _check_open(self) -> None:
        if self._ended is not None:
            raise Conflict(f"This run is {self._ended}; begin another, or attach to it.")

    def _note_without_form(self, keys: list[str]) -> None:
        """Warn of settings without a plain form, once a run."""
        if keys and not self._told_without_form:
            from kinetrum.client.recording.parameters import warn_without_form

            self._told_without_form = True
            warn_without_form(keys)

    def _note_problem(self, text: str) -> None:
        """Tell with the run what went wrong while recording it."""
        self._recorder.write("problem", id=new_id(), text=text[:2_000], at=self._recorder.writer.now())

    def _warn_of_refused(self) -> None:
        """Tell once, at the end, of what the service is known by now to have refused."""
        from kinetrum.client.spool.rejected import set_aside

        refused = set_aside(self._recorder.writer.root, self.id)
        if refused:
            count = "1 record of this run was" if len(refused) == 1 else f"{len(refused)} records of this run were"
            warnings.warn(
                f"{count} refused and set aside ({refused[0]['reason']}); see 'kinetrum spool list'.",
                stacklevel=4,
            )

    def label(self, **labels: str | None) -> None:
        """Set labels on the run, key = value texts, free to change; None takes one away."""
        for key, text in labels.items():
            check_label(key, text or "")
        if labels:
            self._recorder.write("label", labels=labels)

    def note(self, text: str) -> None:
        """Put a note (Markdown) on the run; also after its end.

        `text` has up to 50,000 characters.
        """
        if not isinstance(text, str) or not text.strip():
            raise InvalidInput("A note is a text that says something.", field="text")
        if len(text) > NOTE_LIMIT:
            raise InvalidInput(f"The note has {len(text)} characters; at most {NOTE_LIMIT} are kept.", field="text")
        self._recorder.write("note", id=new_id(), text=text)
