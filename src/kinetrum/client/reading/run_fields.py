"""What stands in a run's record: names, state, settings, results, what it used and generated."""

from __future__ import annotations

from typing import TYPE_CHECKING, Self, cast

from kinetrum.client.reading.notes import Noted
from kinetrum.client.transport.http import path_of
from kinetrum.client.transport.session import Session
from kinetrum.core.base.values import Value, from_json

if TYPE_CHECKING:
    from kinetrum.client.transport import answers


class RunFields(Noted):
    """The record of a run as the service has it."""

    def __init__(self, session: Session, data: answers.RunRow) -> None:
        self._session, self._data = session, data

    @property
    def reference(self) -> str:
        """`EXPERIMENT/NUMBER`."""
        return self._data["reference"]

    @property
    def id(self) -> str:
        """Its id (UUID)."""
        return self._data["id"]

    @property
    def project(self) -> str:
        """The project that it belongs to."""
        return self._data["project"]

    @property
    def experiment(self) -> str:
        """The experiment that it belongs to."""
        return self._data["experiment"]

    @property
    def number(self) -> int:
        """Its number in the experiment."""
        return self._data["number"]

    @property
    def name(self) -> str | None:
        """Its name, None where it has none."""
        return self._data["name"]

    @property
    def status(self) -> str:
        """`running`, `finished`, `failed`, `stopped` or `lost`."""
        return self._data["status"]

    @property
    def reason(self) -> str | None:
        """Why it ended so, where that was told."""
        return self._data["reason"]

    @property
    def author(self) -> str:
        """Who recorded it, by full name."""
        return self._data["author"]

    @property
    def started_at(self) -> str:
        """When it began (ISO 8601, UTC)."""
        return self._data["started_at"]

    @property
    def ended_at(self) -> str | None:
        """When it ended (ISO 8601, UTC); None while it runs."""
        return self._data["ended_at"]

    @property
    def labels(self) -> dict[str, str]:
        """Its labels."""
        return self._data["labels"]

    @property
    def params(self) -> dict[str, Value]:
        """Parameters by dotted key, typed as they were set."""
        return {key: from_json(value, key) for key, value in self._complete()["params"].items()}

    @property
    def values(self) -> dict[str, Value]:
        """What stands for each key in tables: the result if there is one, else the metric by its goal."""
        return {key: from_json(value, key) for key, value in self._complete()["values"].items()}

    @property
    def results(self) -> dict[str, Value]:
        """Final values by key."""
        return {key: from_json(value, key) for key, value in self._whole()["results"].items()}

    @property
    def problems(self) -> list[str]:
        """What must be told about the run."""
        return [problem["text"] for problem in self._data["problems"]]

    @property
    def used(self) -> list[str]:
        """Inputs as references."""
        return [link["reference"] for link in self._data["used"]]

    @property
    def generated(self) -> list[str]:
        """Outputs as references."""
        return [link["reference"] for link in self._data["generated"]]

    @property
    def versions(self) -> list[str]:
        """Model versions registered from this run."""
        return list(self._whole()["versions"])

    @property
    def children(self) -> list[str]:
        """Runs under this one, as references."""
        return [child["reference"] for child in self._whole()["children"]]

    @property
    def parent(self) -> str | None:
        """The run that this one is under, as a reference."""
        parent: str | None = self._whole()["parent"]
        return parent

    def _noted(self) -> tuple[Session, str, str]:
        return self._session, self.project, self.reference

    def _path(self, *more: str) -> str:
        return path_of("projects", self.project, "experiments", self.experiment, "runs", str(self.number), *more)

    def _complete(self) -> answers.RunRow | answers.RunDetail:
        """Return the row where it holds everything, else the run read by itself."""
        return self._data if self._data["complete"] else self._whole()

    def _whole(self) -> answers.RunDetail:
        if "metric_names" not in self._data:
            self.refresh()
        return cast("answers.RunDetail", self._data)

    def refresh(self) -> Self:
        """Read the run again and return it."""
        self._data = self._session.service.get(self._path())
        return self
