"""Reading back: tables of runs, what a reference names, comparisons, files."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, overload

from kinetrum.client.data.artifact_versions import StoredVersion
from kinetrum.client.display.html import html_table, moment, text_table
from kinetrum.client.reading import descriptions
from kinetrum.client.reading.descriptions import Experiment
from kinetrum.client.reading.frames import import_pandas, to_frame
from kinetrum.client.reading.groups import RunGroups
from kinetrum.client.reading.notes import note_things
from kinetrum.client.reading.recorded_run import RecordedRun, find_run
from kinetrum.client.reading.table_export import (
    RunsWanted,
    read_arrow,
    save_stream,
    stream_runs,
    stream_series,
    table_path,
)
from kinetrum.client.transport.http import path_of
from kinetrum.client.transport.session import Session, open_session
from kinetrum.core.base.errors import InvalidInput, NotFound
from kinetrum.core.base.refs import NameRef, Ref, RunRef, parse_ref
from kinetrum.core.base.values import Value, show

if TYPE_CHECKING:
    from pandas import DataFrame
    from pyarrow import Table

    from kinetrum.client.display.notebook import Parallel as ParallelCoordinates
    from kinetrum.client.registry.deployment import Fetched
    from kinetrum.client.registry.models import Model, ModelVersion
    from kinetrum.client.transport import answers
from kinetrum.client.reading.view_names import named_columns, view_named

_PAGE, _SHOWN, _LINES = 500, 50, 20


_PREFIXES = ("param:", "metric:", "label:")


class RunTable(Sequence[RecordedRun]):
    """Runs that fit a query, read page by page as they are needed.

    `remarks` tell how names in the query were understood where they could have meant several things.
    """

    def __init__(
        self,
        session: Session,
        experiment: str | None,
        query: str,
        sort: str,
        columns: Sequence[str] | None = None,
        pareto: str = "",
    ) -> None:
        self._pareto = pareto
        self._session, self._experiment, self._query, self._sort = session, experiment, query, sort
        self._columns = None if columns is None else list(columns)
        self._rows: list[RecordedRun] = []
        self._cursor: str | None = ""
        self.goals: list[answers.Goal] = []
        self.columns: list[answers.RunColumn] = []
        self.remarks: list[str] = []
        self.total = 0
        self._more()

    def _more(self) -> None:
        page = self._session.service.get(
            f"{table_path(self._session.project, self._experiment)}/runs",
            query=self._query,
            sort=self._sort,
            cursor=self._cursor or None,
            limit=_PAGE,
            column=self._columns,
            pareto=self._pareto,
        )
        self._rows += [RecordedRun(self._session, row) for row in page["rows"]]
        self._cursor, self.goals, self.columns, self.total = (
            page["next_cursor"],
            page["goals"],
            page["columns"],
            page["count"],
        )
        self.remarks = page["remarks"]

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
        end = at + 1 if isinstance(at, int) else at.stop
        begin = at if isinstance(at, int) else at.start or 0
        # Counted from the end, the end must be known.
        self._read_to(end if end is not None and end >= 0 and begin >= 0 else None)
        return self._rows[at]

    def to_rows(self) -> list[dict[str, Value]]:
        """Return one flat dictionary per run: run, status, started_at, then parameters and values by key."""
        return [_flat(run) for run in self]

    @property
    def session(self) -> Session:
        """The service that the runs were read from."""
        return self._session

    @property
    def project(self) -> str:
        """The project that the runs are in."""
        return self._session.project

    @property
    def references(self) -> list[str]:
        """References of all the runs."""
        return [run.reference for run in self]

    def label(self, **labels: str | None) -> None:
        """Set labels on all the runs; None takes one away."""
        descriptions.label_runs(self._session, self._session.project, self.references, dict(labels))

    def note(self, text: str) -> None:
        """Put a note on each of the runs; `text` is Markdown of up to 50,000 characters."""
        note_things(self._session, self._session.project, self.references, text)

    def bin(self, *, children: bool = False) -> list[str]:
        """Put all the runs into the bin, with `children` the runs below them; returns references, for `restore`."""
        return descriptions.bin_things(self._session, self._session.project, self.references, children)

    def table(self, form: str = "csv", *, exact: bool = False) -> Iterator[bytes]:
        """Yield the whole table in the `form` csv, jsonl or parquet, piece by piece, with typed columns.

        In CSV an apostrophe stands before texts that a spreadsheet would calculate; `exact` leaves them as recorded.
        """
        wanted = RunsWanted(self._query, self._sort, self._columns, self._pareto)
        return stream_runs(self._session, self._experiment, wanted, form, exact=exact)

    def to_csv(self, to: str | Path, *, exact: bool = False) -> int:
        """Write the whole table to a CSV file (`exact` as for `table`); returns its size in bytes."""
        return save_stream(self.table("csv", exact=exact), to)

    def to_parquet(self, to: str | Path) -> int:
        """Write the whole table to a Parquet file; returns its size in bytes."""
        return save_stream(self.table("parquet"), to)

    def to_arrow(self) -> Table:
        """Return the whole table as a pyarrow Table with typed columns; needs pyarrow.

        Columns are fields of the run, then `param:KEY`, `metric:KEY`, `label:KEY`, or those that were asked for.
        """
        return read_arrow(self.table("parquet"))

    def to_pandas(self) -> DataFrame:
        """Return the whole table as a pandas DataFrame; needs the extra `kinetrum[pandas]`.

        Columns are named by their keys alone, with `param:`, `metric:` or `label:` before it where two have one name.
        """
        import_pandas()
        table = self.to_arrow()
        plain = [name.partition(":")[2] if name.startswith(_PREFIXES) else name for name in table.column_names]
        named = [
            short if plain.count(short) == 1 else long for short, long in zip(plain, table.column_names, strict=True)
        ]
        return to_frame(table.rename_columns(named))

    def groups(self, by: str = "replicates", columns: Sequence[str] | None = None) -> RunGroups:
        """Return the runs grouped by a column, or by replicates: mean and spread of numbers, what all share.

        Groups stand in the order of the mean of what the table is sorted by, else the latest run's first.
        `columns` are what is summed up, by default what the table shows.
        """
        chosen = self._columns if columns is None else list(columns)
        return RunGroups(self._session, self._experiment, self._query, self._sort, by, chosen, self._pareto)

    def parallel(self, *columns: str) -> ParallelCoordinates:
        """Return parallel coordinates of up to 2,000 of the runs as a widget for notebooks; needs anywidget.

        Drag along its axes, and in the next cell `widget.selected` are the references of the runs that pass, and
        `widget.query` the question that finds them. Without columns: settings that differ, then values with goals.
        """
        try:
            from kinetrum.client.display.notebook import Parallel
        except ModuleNotFoundError:
            raise NotFound("The widget takes anywidget: pip install 'kinetrum[notebook]'.") from None
        if self._experiment is None:
            raise InvalidInput("Parallel coordinates are of one experiment's runs; name it.", field="experiment")
        named = list(columns) or self._columns or self._leading()
        path = f"{table_path(self._session.project, self._experiment)}/columns"
        return Parallel(
            self._session.service.get(path, column=named, query=self._query, sort=self._sort, pareto=self._pareto)
        )

    def _leading(self) -> list[str]:
        settings = [
            column["name"]
            for column in self.columns
            if column["scope"] == "param" and column["differs"] and column["name"] != "seed"
        ]
        values = [goal["key"] for goal in self.goals] or [
            column["name"] for column in self.columns if column["scope"] == "value"
        ]
        return [f'param:"{name}"' for name in settings[:6]] + [f'metric:"{name}"' for name in values[:3]]

    def series_table(self, *metrics: str, form: str = "csv", exact: bool = False) -> Iterator[bytes]:
        """Yield every point of metrics of all the runs as csv, jsonl or parquet (`form`); `exact` as for `table`.

        The columns are run, metric, step, time and value.
        """
        return stream_series(self._session, self._experiment, self._query, metrics, form, self._pareto, exact=exact)

    def series(self, *metrics: str) -> Table:
        """Return every point of metrics of all the runs as a pyarrow Table: run, metric, step, time, value."""
        return read_arrow(self.series_table(*metrics, form="parquet"))

    def __repr__(self) -> str:
        place = f" of {self._experiment}" if self._experiment else ""
        count = f"{self.total:,} {'run' if self.total == 1 else 'runs'}{place}"
        keys, cells = self._table(_LINES)
        return text_table(f"<{count}>", keys, cells, self.total - len(cells)) if cells else f"<{count}>"

    def _repr_html_(self) -> str:
        # To a cap the service counts; beyond it there are more than it says.
        more = f"<p>{_SHOWN} of {self.total:,} runs or more</p>" if self.total > _SHOWN else ""
        return more + html_table(*self._table(_SHOWN))

    def _table(self, most: int) -> tuple[list[str], list[list[str]]]:
        """Return the first runs as texts, under the columns in which any of them has something."""
        rows = [{**_flat(run), "started_at": moment(run.started_at)} for run in self[:most]]
        keys = list(dict.fromkeys(key for row in rows for key, value in row.items() if value is not None))
        return keys, [
            ["" if key not in row or (key == "name" and row[key] is None) else show(row[key]) for key in keys]
            for row in rows
        ]


def _flat(run: RecordedRun) -> dict[str, Value]:
    return {
        "run": run.reference,
        "name": run.name,
        "status": run.status,
        "started_at": run.started_at,
        **run.params,
        **run.values,
    }


def restore(refs: Sequence[str], *, project: str | None = None, url: str | None = None) -> list[str]:
    """Take runs out of the bin; returns their references.

    `refs` are references of runs. `project` and `url` say where; without them the environment's connection does,
    or the one that `kinetrum connect` saved.
    """
    session = open_session(project, url)
    return descriptions.restore_things(session, session.project, refs)


def runs(  # noqa: PLR0913
    query: str = "",
    *,
    experiment: str | None = None,
    project: str | None = None,
    columns: Sequence[str] | None = None,
    sort: str = "",
    view: str | None = None,
    pareto: str = "",
    url: str | None = None,
) -> RunTable:
    """Return the runs that fit a query, such as `recall >= 0.9 and learner = forest`.

    Without an experiment, those of the one that the environment or `kinetrum.toml` names, else of the whole project.
    `sort` names keys, the strongest first: `recall,fit_seconds:asc`; without it the latest run comes first.
    `columns` chooses what tables hold beside the run's fields: `recall`, `param:depth`, `min(loss)`, `duration`.
    `pareto` names two or three values with goals, `recall,fit_seconds`: of the runs that fit only those on the front
    are left, which no other beats in all of them; without a goal the better way is said, `fit_seconds:asc`.
    `view` names a saved view, whose query, columns, sort and experiment hold where none is given here.
    Raises InvalidInput with the column of the query where reading stopped, or the nearest names.
    `url` names another service than the connection's.
    """
    session = open_session(project, url)
    if view is not None:
        saved_view = view_named(session, view, experiment)
        arrangement = saved_view["arrangement"]
        query, sort = query or arrangement.get("q", ""), sort or arrangement.get("sort", "")
        columns = columns or named_columns(arrangement.get("cols", "")) or None
        experiment, pareto = experiment or saved_view["experiment"], pareto or arrangement.get("pareto", "")
    chosen = experiment or session.connection.chosen_experiment
    return RunTable(session, chosen, query, sort, columns, pareto)


def open(
    ref: str, *, project: str | None = None, url: str | None = None
) -> RecordedRun | StoredVersion | ModelVersion | Model | Experiment:
    """Return what a reference names: a run, an artifact version, a model version, a model, or an experiment.

    A name that several things have is told apart by `model:NAME`, `artifact:NAME` and `experiment:NAME`.
    `project` and `url` say where; without them the environment's connection does, or the one that `kinetrum
    connect` saved.
    """
    kind, parsed = parse_kind(ref)
    session = open_session(parsed.project or project, url)
    return resolve(session, parsed, kind)


def parse_kind(text: str) -> tuple[str | None, Ref]:
    """Read a reference with or without the kind of thing that it names before it."""
    for kind in ("model", "artifact", "experiment"):
        if text.startswith(f"{kind}:"):
            return kind, parse_ref(text.removeprefix(f"{kind}:"))
    return None, parse_ref(text)


def resolve(
    session: Session, ref: Ref, kind: str | None = None
) -> RecordedRun | StoredVersion | ModelVersion | Model | Experiment:
    """Return what a parsed reference names, of a kind if one is given."""
    from kinetrum.client.registry.models import Model, ModelVersion

    project = ref.project or session.project
    if isinstance(ref, RunRef):
        return find_run(session, ref)
    thing = kind or thing_named(session, project, ref.name)
    if isinstance(ref, NameRef):
        if thing == "model":
            return Model.read(session, project, ref.name)
        if thing == "artifact":
            return StoredVersion.read(session, project, ref.name, "latest")
        return Experiment(session, ref.name, project)
    if thing == "model" or (thing != "artifact" and ref.which != "latest" and not ref.which.startswith("best:")):
        return ModelVersion.read(session, project, ref.name, ref.which)
    return StoredVersion.read(session, project, ref.name, ref.which)


def thing_named(session: Session, project: str, name: str) -> str:
    """Return whether a name is an artifact or a model, else an experiment."""
    things: list[str] = session.service.get(path_of("projects", project, "names", name))["things"]
    return things[-1]


def fetch(  # noqa: PLR0913
    ref: str,
    to: str | Path = ".",
    *,
    replace: bool = False,
    keep: int = 0,
    strict: bool = False,
    project: str | None = None,
    url: str | None = None,
    progress: Callable[[int], Callable[[int], None]] | None = None,
) -> Fetched:
    """Download what a reference names into a folder, verified; returns the paths and what they are.

    `frost-alarm@production` fetches the version that stands on that stage, as often as one likes: see
    `ModelVersion.download` for how it takes the place of the one before, and for `replace`, `keep` and `strict`. Of
    artifacts and runs the files are written in place; one that is there with other content is refused, or with
    `replace` replaced. `progress` is told the number of bytes and returns what is told of each stretch that came.
    `to` is the folder. `project` and `url` say where; without them the environment's connection does, or the one
    that `kinetrum connect` saved.
    """
    from kinetrum.client.registry.deployment import Fetched
    from kinetrum.client.registry.models import Model, ModelVersion

    parsed = parse_ref(ref)
    thing = resolve(open_session(parsed.project or project, url), parsed)
    path = getattr(parsed, "path", None)
    if isinstance(thing, Experiment):
        raise InvalidInput(
            f"{thing.name!r} is an experiment; name a run of it, such as {thing.name}/last, or export it whole.",
            field="ref",
        )
    if isinstance(thing, Model):
        thing = thing["lead"]
    if isinstance(thing, ModelVersion):
        return thing.download(
            to, path, replace=replace, keep=keep, strict=strict, tick=_begun(progress, thing.data["files"])
        )
    if keep or strict:
        raise InvalidInput("Earlier ones are kept, and faults refused, of versions of models alone.", field="ref")
    if isinstance(thing, RecordedRun):
        if not path:
            return Fetched(tuple(thing.download(to, replace=replace)), thing.reference, Path(to), thing.project)
        artifact, _, inner = path.partition("/")
        thing, path = thing.generated_version(artifact), inner or None
    paths = thing.download(to, path, _begun(progress, thing.data["files"]), replace)
    return Fetched(tuple(paths), thing.reference, Path(to), digest=f"sha256:{thing.digest}")


def _begun(
    progress: Callable[[int], Callable[[int], None]] | None, files: Sequence[answers.FileEntry]
) -> Callable[[int], None] | None:
    return progress(sum(entry["size"] for entry in files)) if progress else None
