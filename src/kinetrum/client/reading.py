"""Reading back: runs, tables of runs, metrics, comparisons, files."""

from __future__ import annotations

import html
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any, overload

from kinetrum.client.downloads import download_files
from kinetrum.client.http import path_of
from kinetrum.client.session import Session, open_session
from kinetrum.core.errors import InvalidInput, NotFound
from kinetrum.core.refs import NameRef, Ref, RunRef, parse_ref
from kinetrum.core.values import Value, from_json, number_from_json, show

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    from kinetrum.client.registry import Model, ModelVersion

_PAGE = 500


@dataclass(frozen=True)
class PointArrays:
    """Points of a metric as NumPy arrays of equal length: step (int64), value (float64), time (datetime64[us], UTC)."""

    step: NDArray[np.int64]
    value: NDArray[np.float64]
    time: NDArray[np.datetime64]


class RecordedMetric:
    """A metric of a recorded run: aggregates at hand, points when asked for."""

    def __init__(self, run: RecordedRun, name: str, data: dict[str, Any] | None) -> None:
        self._run, self.name, self._data = run, name, data

    def __getattr__(self, aggregate: str) -> Value:
        """Return an aggregate: count, nan_count, first, last, min, max, mean, best, best_step."""
        if self._data is None or aggregate not in self._data:
            raise AttributeError(aggregate)
        return from_json(self._data[aggregate])

    def points(self) -> PointArrays:
        """Read every point, by step; repeated steps appear as often as they were measured, the later last."""
        import numpy as np

        data = self._run._session.service.get(self._run._path("points"), metric=self.name)
        return PointArrays(
            np.array(data["steps"], np.int64),
            np.array([number_from_json(value, self.name) for value in data["values"]], np.float64),
            np.array(data["times"], "datetime64[us]"),
        )

    def __repr__(self) -> str:
        return f"<Metric {self.name}>"


class RecordedRun:
    """A run as the service has it."""

    def __init__(self, session: Session, data: dict[str, Any]) -> None:
        self._session, self._data = session, data

    reference: str = property(lambda self: self._data["reference"])  # type: ignore[assignment]
    id: str = property(lambda self: self._data["id"])  # type: ignore[assignment]
    project: str = property(lambda self: self._data["project"])  # type: ignore[assignment]
    experiment: str = property(lambda self: self._data["experiment"])  # type: ignore[assignment]
    number: int = property(lambda self: self._data["number"])  # type: ignore[assignment]
    name: str | None = property(lambda self: self._data["name"])  # type: ignore[assignment]
    status: str = property(lambda self: self._data["status"])  # type: ignore[assignment]
    reason: str | None = property(lambda self: self._data["reason"])  # type: ignore[assignment]
    author: str = property(lambda self: self._data["author"])  # type: ignore[assignment]
    started_at: str = property(lambda self: self._data["started_at"])  # type: ignore[assignment]
    ended_at: str | None = property(lambda self: self._data["ended_at"])  # type: ignore[assignment]
    labels: dict[str, str] = property(lambda self: self._data["labels"])  # type: ignore[assignment]

    @property
    def params(self) -> dict[str, Value]:
        """Parameters by dotted key, typed as they were set."""
        return {key: from_json(value, key) for key, value in self._data["params"].items()}

    @property
    def values(self) -> dict[str, Value]:
        """What stands for each key in tables: the result if there is one, else the metric by its goal."""
        return {key: from_json(value, key) for key, value in self._data["values"].items()}

    @property
    def results(self) -> dict[str, Value]:
        """Final values by key."""
        return {key: from_json(value, key) for key, value in self._whole()["results"].items()}

    @property
    def metrics(self) -> Mapping[str, RecordedMetric]:
        """Metrics by key."""
        whole = self._whole()
        return {key: RecordedMetric(self, key, whole["metrics"].get(key)) for key in whole["metric_names"]}

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

    def _path(self, *more: str) -> str:
        return path_of("projects", self.project, "experiments", self.experiment, "runs", str(self.number), *more)

    def _whole(self) -> dict[str, Any]:
        if "metric_names" not in self._data:
            self._data = self._session.service.get(self._path())
        return self._data

    def refresh(self) -> RecordedRun:
        """Read the run again and return it."""
        self._data = self._session.service.get(self._path())
        return self

    def download(self, to: str | Path = ".", artifact: str | None = None) -> list[Path]:
        """Download what the run generated, or the artifact of that name, each into a folder of its name below `to`."""
        links = [link for link in self._data["generated"] if artifact in (None, link["name"])]
        if not links:
            raise NotFound(f"{self.reference} generated nothing{f' named {artifact!r}' if artifact else ''}.")
        paths: list[Path] = []
        for link in links:
            found = StoredVersion.read(self._session, self.project, link["name"], str(link["version"]))
            paths += found.download(Path(to) / link["name"])
        return paths

    def __repr__(self) -> str:
        return f"<{self.reference} {self.status}>"

    def _repr_html_(self) -> str:
        rows = {**self.params, **self.values}
        cells = "".join(
            f"<tr><th>{html.escape(key)}</th><td>{html.escape(show(value))}</td></tr>" for key, value in rows.items()
        )
        return f"<b>{html.escape(self.reference)}</b> {self.status}<table>{cells}</table>"


class RunTable(Sequence[RecordedRun]):
    """Runs of an experiment that fit a condition, read page by page as they are needed."""

    def __init__(self, session: Session, experiment: str, query: str, sort: str) -> None:
        self._session, self._experiment, self._query, self._sort = session, experiment, query, sort
        self._rows: list[RecordedRun] = []
        self._cursor: str | None = ""
        self.goals: list[dict[str, Any]] = []
        self.columns: list[dict[str, Any]] = []
        self.total = 0
        self._more()

    def _more(self) -> None:
        page = self._session.service.get(
            path_of("projects", self._session.project, "experiments", self._experiment, "runs"),
            query=self._query, sort=self._sort, cursor=self._cursor or None, limit=_PAGE,
        )  # fmt: skip
        self._rows += [RecordedRun(self._session, row) for row in page["rows"]]
        self._cursor, self.goals, self.columns, self.total = (
            page["next_cursor"], page["goals"], page["columns"], page["count"],
        )  # fmt: skip

    def _read_to(self, size: int | None) -> None:
        while self._cursor is not None and (size is None or len(self._rows) < size):
            self._more()

    def __len__(self) -> int:
        self._read_to(None)
        return len(self._rows)

    def __iter__(self) -> Iterator[RecordedRun]:
        at = 0
        while True:
            self._read_to(at + 1)
            if at >= len(self._rows):
                return
            yield self._rows[at]
            at += 1

    @overload
    def __getitem__(self, at: int) -> RecordedRun: ...
    @overload
    def __getitem__(self, at: slice) -> list[RecordedRun]: ...
    def __getitem__(self, at: int | slice) -> RecordedRun | list[RecordedRun]:
        self._read_to(at + 1 if isinstance(at, int) and at >= 0 else None)
        return self._rows[at]

    def to_rows(self) -> list[dict[str, Value]]:
        """Return one flat dictionary per run: run, status, started_at, then parameters and values by key."""
        return [
            {"run": run.reference, "name": run.name, "status": run.status, "started_at": run.started_at,
             **run.params, **run.values}
            for run in self
        ]  # fmt: skip

    def to_pandas(self) -> Any:
        """Return a pandas DataFrame of `to_rows()`; needs pandas."""
        import pandas  # type: ignore[import-untyped]

        return pandas.DataFrame(self.to_rows())

    def _repr_html_(self) -> str:
        rows = self.to_rows()[:50]
        keys = list(dict.fromkeys(key for row in rows for key in row))
        head = "".join(f"<th>{html.escape(key)}</th>" for key in keys)
        body = "".join(
            "<tr>" + "".join(f"<td>{html.escape(show(row[key])) if key in row else ''}</td>" for key in keys) + "</tr>"
            for row in rows
        )
        return f"<table><tr>{head}</tr>{body}</table>"


@dataclass(frozen=True)
class StoredVersion:
    """A version of an artifact."""

    _session: Session
    _project: str
    data: dict[str, Any]

    @classmethod
    def read(cls, session: Session, project: str, name: str, which: str) -> StoredVersion:
        """Read a version by number or `latest`."""
        return cls(session, project, session.service.get(path_of("projects", project, "artifacts", name, "versions",
                                                                 which)))  # fmt: skip

    @property
    def reference(self) -> str:
        """`name@number`."""
        return str(self.data["reference"])

    @property
    def digest(self) -> str:
        """SHA-256 that identifies the content."""
        return str(self.data["digest"])

    @property
    def files(self) -> list[str]:
        """Paths of its files."""
        return [entry["path"] for entry in self.data["files"]]

    def download(self, to: str | Path = ".", path: str | None = None) -> list[Path]:
        """Download all files, or the one at `path`, below a folder, verified; returns their paths."""
        files = [entry for entry in self.data["files"] if path in (None, entry["path"])]
        if not files:
            raise NotFound(f"{self.reference} has no file {path!r}.", field="path")
        return download_files(
            self._session.service, self._project, self.data["name"], self.data["number"], files, Path(to)
        )


def runs(
    query: str = "",
    *,
    experiment: str | None = None,
    project: str | None = None,
    sort: str = "",
    url: str | None = None,
) -> RunTable:
    """Return the runs of an experiment that fit one condition, such as `recall >= 0.9`.

    `sort` names keys, the strongest first: `recall,fit_seconds:asc`; without it the latest run comes first.
    """
    session = open_session(project, url)
    return RunTable(session, experiment or session.connection.experiment, query, sort)


def open(
    ref: str, *, project: str | None = None, url: str | None = None
) -> RecordedRun | StoredVersion | ModelVersion | Model:
    """Return what a reference names: a run, an artifact version, a model version, or a model."""
    parsed = parse_ref(ref)
    session = open_session(parsed.project or project, url)
    return resolve(session, parsed)


def resolve(session: Session, ref: Ref) -> RecordedRun | StoredVersion | ModelVersion | Model:
    """Return what a parsed reference names."""
    from kinetrum.client.registry import Model, ModelVersion

    project = ref.project or session.project
    if isinstance(ref, RunRef):
        return find_run(session, ref)
    thing = thing_named(session, project, ref.name)
    if isinstance(ref, NameRef):
        if thing == "model":
            return Model.read(session, project, ref.name)
        if thing == "artifact":
            return StoredVersion.read(session, project, ref.name, "latest")
        raise InvalidInput(f"{ref.name!r} is an experiment; list its runs with kinetrum.runs(experiment={ref.name!r}).")
    if thing == "model" or (thing != "artifact" and ref.which not in {"latest"}):
        return ModelVersion.read(session, project, ref.name, ref.which)
    return StoredVersion.read(session, project, ref.name, ref.which)


def thing_named(session: Session, project: str, name: str) -> str:
    """Return whether a name is an artifact or a model, else an experiment."""
    things: list[str] = session.service.get(path_of("projects", project, "names", name))["things"]
    return things[-1]


def find_run(session: Session, ref: RunRef) -> RecordedRun:
    """Read the run that a reference names."""
    project = ref.project or session.project
    if ref.experiment is None:
        return RecordedRun(session, session.service.get(path_of("projects", project, "runs", ref.pick)))
    path = path_of("projects", project, "experiments", ref.experiment, "runs", ref.pick)
    return RecordedRun(session, session.service.get(path))


def compare(
    refs: Sequence[str], *, project: str | None = None, baseline: int = 1, url: str | None = None
) -> dict[str, Any]:
    """Return the comparison of two to 100 runs as data: headline, settings and outcomes that differ.

    Changes are those of the first run (of the second, if the first is the baseline) against the baseline.
    """
    session = open_session(project, url)
    found: dict[str, Any] = session.service.get(
        path_of("projects", session.project, "comparison"), run=list(refs), baseline=baseline
    )
    return found


def fetch(ref: str, to: str | Path = ".", *, project: str | None = None, url: str | None = None) -> list[Path]:
    """Download what a reference names below a folder, verified; returns the paths.

    `frost-alarm@production` fetches the version that stands on that stage.
    """
    parsed = parse_ref(ref)
    found = resolve(open_session(parsed.project or project, url), parsed)
    path = getattr(parsed, "path", None)
    if isinstance(found, RecordedRun):
        if path:
            artifact, _, inner = path.partition("/")
            links = [link for link in found._data["generated"] if link["name"] == artifact]
            if not links:
                raise NotFound(f"{found.reference} generated nothing named {artifact!r}.", field="path")
            version = StoredVersion.read(found._session, found.project, artifact, str(links[-1]["version"]))
            return version.download(to, inner or None)
        return found.download(to)
    if isinstance(found, StoredVersion):
        return found.download(to, path)
    from kinetrum.client.registry import Model

    version_found = found["lead"] if isinstance(found, Model) else found
    return version_found.download(to, path)
