"""What the service has recorded, as objects: a run, its metrics, a stored version of an artifact."""

from __future__ import annotations

import html
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from kinetrum.client.data.artifact_versions import StoredVersion
from kinetrum.client.display.html import html_table, moment
from kinetrum.client.reading import descriptions
from kinetrum.client.reading.run_fields import RunFields
from kinetrum.client.reading.table_export import read_points, save_stream, stream_points
from kinetrum.client.transport.http import path_of
from kinetrum.client.transport.session import Session
from kinetrum.core.base.errors import InvalidInput, NotFound
from kinetrum.core.base.refs import RunRef
from kinetrum.core.base.values import Value, from_json, show

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    from kinetrum.client.reading.recorded_media import RecordedMedia
    from kinetrum.client.reading.recorded_plots import RecordedPlots
    from kinetrum.client.registry.models import ModelVersion
    from kinetrum.client.transport import answers


@dataclass(frozen=True, repr=False)
class PointArrays:
    """Points of a metric as NumPy arrays of equal length: step (int64), value (float64), time (datetime64[us], UTC)."""

    step: NDArray[np.int64]
    value: NDArray[np.float64]
    time: NDArray[np.datetime64]

    def __repr__(self) -> str:
        count = len(self.step)
        steps = f", steps {self.step[0]} to {self.step[-1]}" if count else ""
        return f"<{count:,} {'point' if count == 1 else 'points'}{steps}>"


@dataclass(frozen=True)
class OutputLine:
    """A printed line: its number from 0 on (None while it may change), microseconds since 1970, stream, text."""

    number: int | None
    at: int
    stream: str
    text: str


class RecordedMetric:
    """A metric of a recorded run: aggregates at hand, points when asked for."""

    def __init__(self, run: RecordedRun, name: str, data: answers.Metric | None) -> None:
        self._run, self.name = run, name
        self._data: Mapping[str, object] | None = data

    def __getattr__(self, aggregate: str) -> Value:
        """Return an aggregate: count, nan_count, first, last, min, max, mean, best, best_step."""
        if self._data is None or aggregate not in self._data:
            raise AttributeError(aggregate)
        return from_json(self._data[aggregate])

    def points(self) -> PointArrays:
        """Read every point, by step; repeated steps appear as often as they were measured, the later last."""
        points = read_points(self._run._session, self._run._path(), self.name)
        return PointArrays(points.steps, points.values, points.times.view("datetime64[us]"))

    def __repr__(self) -> str:
        last = "" if self._data is None else f", last {show(from_json(self._data['last']))}"
        return f"<Metric {self.name} of {self._run.reference}{last}>"


class RecordedRun(RunFields):
    """A run as the service has it."""

    @property
    def metrics(self) -> Mapping[str, RecordedMetric]:
        """Metrics by key."""
        whole = self._whole()
        return {key: RecordedMetric(self, key, whole["metrics"].get(key)) for key in whole["metric_names"]}

    def output(self, stream: str | None = None, search: str = "") -> Iterator[OutputLine]:
        """Yield printed lines in order, with their colours (SGR sequences): of stdout, stderr or both.

        `search` chooses lines that hold a text. Lines that were left out between head and tail are passed over;
        a progress bar that is still moving comes last.
        `stream` is stdout or stderr; None is both.
        """
        at, more = 0, True
        while more:
            page = self.output_page(at, 5_000, stream, search)
            lines, more = page["lines"], page["more"]
            at = (lines[-1]["number"] or 0) + 1 if lines else 0
            yield from (OutputLine(**line) for line in [*lines, *page["unfinished"]])

    def output_page(self, from_line: int, limit: int, stream: str | None = None, search: str = "") -> answers.Output:
        """Read lines from a number on, as the service answers.

        `from_line` counts from 0, `limit` is the number of lines; `stream` and `search` are those of `output`.
        """
        answer: answers.Output = self._session.service.get(
            self._path("output"), from_line=from_line, limit=limit, stream=stream, search=search or None
        )
        return answer

    def surroundings(self, against: str | None = None) -> answers.Surroundings:
        """Return code, packages and CI job as data; `against` (previous, parent, a reference) tells what differs."""
        answer: answers.Surroundings = self._session.service.get(self._path("surroundings"), against=against)
        return answer

    def resources(self, width: int = 1_000) -> dict[str, list[float | int | None]]:
        """Return what the run used of its machine as columns of equal length; `at` is microseconds since 1970.

        `width` is about how many rows there are at most.
        """
        samples: dict[str, list[float | int | None]]
        samples = self._session.service.get(self._path("resources"), width=width)["samples"]
        return samples

    @property
    def activities(self) -> list[answers.Activity]:
        """Named pieces of work: name, started_at and ended_at in microseconds since 1970, failed."""
        return list(self._whole()["activities"])

    @property
    def progress(self) -> answers.Progress | None:
        """How far the run is: done, total, expected_end; None where it did not tell."""
        progress: answers.Progress | None = self._whole()["progress"]
        return progress

    @property
    def plots(self) -> RecordedPlots:
        """Plots kept as data, by name: `run.plots["holdout/roc"].columns`."""
        from kinetrum.client.reading.recorded_plots import RecordedPlots

        return RecordedPlots(self._session, self.reference, self._path())

    @property
    def media(self) -> RecordedMedia:
        """Images, sounds, videos, texts and tables, by name: `run.media["worst nights"].items`."""
        from kinetrum.client.reading.recorded_media import RecordedMedia

        return RecordedMedia(self._session, self.reference)

    def _experiment_names(self) -> Iterator[str]:
        """Yield the names of the experiment, the one that it bears first: what a run kept bears the one of its time."""
        yield self.experiment
        answer = self._session.service.get(path_of("projects", self.project, "experiments", self.experiment))
        yield from answer["earlier_names"]

    def predictions(self, on: str | None = None) -> str:
        """Return the reference of what `evaluate(…, rows=…)` kept of data, to be given to `kinetrum.rows`.

        Without `on` it is that of the only data it kept any of. Raises NotFound where this run kept none, InvalidInput
        where it must be said on which data.
        """
        from kinetrum.client.recording.evaluation import is_predictions
        from kinetrum.core.registry.evidence import predictions_name

        tables = {link["name"]: str(link["reference"]) for link in self._data["generated"] if link["kind"] == "table"}
        names: list[str] = []
        for experiment in self._experiment_names() if tables else ():
            wanted = predictions_name(experiment, on)
            for name in (wanted, f"{wanted}-artifact"[:100]):
                if name in tables:
                    return tables[name]
            names += [name for name in tables if is_predictions(name, experiment) and name not in names]
        if on is None and len(names) == 1:
            return tables[names[0]]
        if on is None and names:
            raise InvalidInput(f"{self.reference} kept several: {', '.join(names)}; say on which data.", field="on")
        hint = f"; it kept {', '.join(list(tables)[:8])}" if tables else ""
        what = f"predictions on {on}" if on else "predictions row by row"
        raise NotFound(f"{self.reference} kept no {what}{hint}.", field="on")

    def result_records(self) -> list[tuple[str, Value, str]]:
        """Every (key, value, time) that was recorded as a result, also what a later one replaced."""
        answer = self._session.service.get(self._path("results"))
        return [(item["key"], from_json(item["value"], item["key"]), item["recorded_at"]) for item in answer]

    def points_table(self, metrics: Sequence[str] = (), *, form: str = "csv", exact: bool = False) -> Iterator[bytes]:
        """Yield every point of metrics (all of them without one) as csv, jsonl or parquet, piece by piece.

        `form` is one of these three; `exact` leaves names of metrics that begin like formulas as they are.
        """
        return stream_points(self._session, self._path(), metrics, form, exact)

    def save_points(self, to: str | Path, metrics: Sequence[str] = ()) -> int:
        """Write every point to a file, in the form its ending tells: .csv, .jsonl or .parquet; returns its size.

        `metrics` are their keys, none for all.
        """
        return save_stream(self.points_table(metrics, form=_form_of(to)), to)

    def rename(self, name: str | None) -> None:
        """Give the run another name; None takes it away."""
        self._session.service.call("PUT", self._path("name"), json={"name": name})
        self.refresh()

    def label(self, **labels: str | None) -> None:
        """Set labels; None takes one away, others stay."""
        descriptions.label_runs(self._session, self.project, [self.reference], dict(labels))
        self.refresh()

    def correct(self, params: Mapping[str, Value], comment: str = "") -> None:
        """Correct parameters that were set wrongly; the journal keeps what stood there, who, when and why.

        `params` are the right values by key; `comment` says why.
        """
        descriptions.correct_run(self._session, self._path(), params, comment)
        self.refresh()

    def bin(self, *, children: bool = False) -> list[str]:
        """Put the run into the bin: out of tables and counts, restored in one act; with `children` the runs below it.

        Returns the references of what is there now.
        """
        return descriptions.bin_things(self._session, self.project, [self.reference], children)

    def restore(self) -> None:
        """Take the run out of the bin."""
        descriptions.restore_things(self._session, self.project, [self.reference])

    def download(self, to: str | Path = ".", artifact: str | None = None, replace: bool = False) -> list[Path]:
        """Download what the run generated, or the artifact of that name, each into a folder of its name below `to`.

        Of several versions under one name the latest that is not in the bin comes.
        A file that is there with other content is refused with Conflict, or with `replace` replaced. Returns
        the paths of the files.
        """
        names = dict.fromkeys(link["name"] for link in self._data["generated"] if artifact in (None, link["name"]))
        if not names:
            raise NotFound(f"{self.reference} generated nothing{f' named {artifact!r}' if artifact else ''}.")
        paths: list[Path] = []
        for name in names:
            paths += self.generated_version(name).download(Path(to) / name, replace=replace)
        return paths

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
        """Register what this run generated under `artifact` as a model's next version, as `Run.register` does.

        The parameters are the same. Raises NotFound where the run generated nothing of that name.
        """
        from kinetrum.client.registry.registration import register_recorded, told

        body = {"step": step, "best": best, **told(comment, labels, metrics, sample, sample_output)}
        return register_recorded(self._session, self.project, self.reference, artifact, as_model, body)

    def generated_version(self, name: str) -> StoredVersion:
        """Return the version of that name that the run generated last, of those not in the bin where there is one.

        Raises NotFound where the run generated nothing of that name.
        """
        numbers = [link["version"] for link in self._data["generated"] if link["name"] == name]
        if not numbers:
            raise NotFound(f"{self.reference} generated nothing named {name!r}.", field="path")
        versions_found = [StoredVersion.read(self._session, self.project, name, str(numbers[-1]))]
        if versions_found[0].data["binned_at"] is not None:
            versions = self._session.service.get(path_of("projects", self.project, "artifacts", name, "versions"))
            usable = [row["number"] for row in versions if row["binned_at"] is None and row["number"] in numbers]
            versions_found += [
                StoredVersion.read(self._session, self.project, name, str(number)) for number in usable[:1]
            ]
        return versions_found[-1]

    def __repr__(self) -> str:
        return f"<{self.reference} {self.status}>"

    def _repr_html_(self) -> str:
        head = f"{self.name or ''} {self.status}, begun {moment(self.started_at)} by {self.author}"
        tables = (
            html_table([title, ""], [[key, show(value)] for key, value in values.items()])
            for title, values in (("set", self.params), ("came out", self.values))
            if values
        )
        return f"<p><b>{html.escape(self.reference)}</b> {html.escape(head)}</p>{''.join(tables)}"


def _form_of(path: str | Path) -> str:
    ending = Path(path).suffix.lower().lstrip(".")
    if ending not in {"csv", "jsonl", "parquet"}:
        raise InvalidInput(f"{path} ends in none of .csv, .jsonl, .parquet.", field="to")
    return ending


def find_run(session: Session, ref: RunRef) -> RecordedRun:
    """Read the run that a reference names."""
    project = ref.project or session.project
    if ref.experiment is None:
        return RecordedRun(session, session.service.get(path_of("projects", project, "runs", ref.pick)))
    path = path_of("projects", project, "experiments", ref.experiment, "runs", ref.pick)
    return RecordedRun(session, session.service.get(path))
