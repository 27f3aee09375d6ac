"""Archives out: a run, an experiment or an artifact with everything that belongs to it, as an RO-Crate."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace

from kinetrum.actions.archives.project_packing import artifact_versions_of_models, record_project
from kinetrum.actions.archives.zip_stream import PACKED_UP_TO, ZipStream
from kinetrum.actions.context import Actor, Place, enter, experiment_in
from kinetrum.actions.data import artifact_versions
from kinetrum.actions.recording import output
from kinetrum.actions.runs import exports
from kinetrum.actions.search.references import find_version, run_named
from kinetrum.core.archives.archive import (
    ARCHIVE,
    ArtifactRecord,
    Contents,
    ExperimentRecord,
    LinkRecord,
    NoteRecord,
    Person,
    PlotRecord,
    RunRecord,
    VersionRecord,
    folder_of,
    write_contents,
    write_plot_record,
    write_run,
)
from kinetrum.core.archives.crate_metadata import METADATA, describe_crate
from kinetrum.core.archives.project import PROJECT, ProjectRecord, write_project
from kinetrum.core.base.errors import Conflict, InvalidInput, NotFound
from kinetrum.core.base.ids import id_text
from kinetrum.core.base.refs import NameRef, RunRef, VersionRef, parse_ref
from kinetrum.core.base.run_document import RunDoc
from kinetrum.core.base.values import from_json
from kinetrum.core.plots import Plot
from kinetrum.storage.data import artifacts, links, manifests, texts
from kinetrum.storage.data.artifacts import VersionRow
from kinetrum.storage.data.blobs import BlobStore
from kinetrum.storage.db.clock import iso, now, to_micros
from kinetrum.storage.db.database import snapshot
from kinetrum.storage.people import names, notes, people, projects
from kinetrum.storage.runs import plots, resources, result_records, run_documents, runs
from kinetrum.storage.runs.plots import PlotRow
from kinetrum.storage.runs.runs import Run

RUNS_LIMIT, VERSIONS_LIMIT = 100_000, 100_000


@dataclass(frozen=True)
class Chosen:
    """What goes into an archive, and its title; `project` where it is a whole one."""

    title: str
    runs: list[int]
    contents: Contents
    sources: dict[str, str]
    project: ProjectRecord | None = None


@snapshot
def choose(actor: Actor, project: str, reference: str | None, with_files: bool, instance: str) -> Chosen:
    """Choose what belongs to a reference: a run, `experiment:NAME`, `artifact:NAME` or a version of one.

    Without a reference it is the whole project, with views, notes and models. Runs bring the versions that they used
    and generated. What is in the bin stays behind, except what was named.
    """
    place = enter(actor, project)
    found_runs, rows, experiments = _named(place, reference) if reference else _everything(place)
    reference = reference or f"project:{project}"
    if len(found_runs) > RUNS_LIMIT:
        raise InvalidInput(f"{reference} has over {RUNS_LIMIT:,} runs; export parts of it.", field="of")
    linked = links.links_of_runs([run.run_id for run in found_runs])
    whole = reference == f"project:{project}"
    wanted = {row.version_id for row in rows} | {link.version_id for link in linked}
    if whole:
        wanted |= artifact_versions_of_models(place)
    versions = [row for row in artifacts.versions_by_ids(sorted(wanted)) if row.purged_at is None]
    if len(versions) > VERSIONS_LIMIT:
        raise InvalidInput(f"{reference} has over {VERSIONS_LIMIT:,} versions; export parts of it.", field="of")
    sources: dict[str, str] = {}
    records = [_version(row, with_files, sources) for row in sorted(versions, key=lambda row: (row.name, row.number))]
    things = {row.name: artifacts.artifact_named(place.project_id, row.name) for row in versions}
    contents = Contents(
        f"{instance}/{project}",
        iso(now()) or "",
        tuple(_experiment(place, name) for name in sorted(experiments)),
        tuple(
            ArtifactRecord(thing.name, thing.kind, thing.description, thing.labels)
            for _, thing in sorted(things.items())
            if thing
        ),
        tuple(records),
        tuple(id_text(run.uid) for run in found_runs),
    )
    ids = [run.run_id for run in found_runs]
    project_record = record_project(actor, place, versions, set(ids)) if whole else None
    return Chosen(reference, ids, contents, sources, project_record)


def _everything(place: Place) -> tuple[list[Run], list[VersionRow], set[str]]:
    """Return all runs, versions and experiments of a project that are not in the bin."""
    experiments = projects.experiments_in(place.project_id)
    run_rows = [run for experiment_id, _ in experiments for run in _runs_of(experiment_id)]
    rows = [row for row in artifacts.every_version_of(place.project_id) if row.binned_at is None]
    return run_rows, rows, {name for _, name in experiments}


def _runs_of(experiment_id: int) -> list[Run]:
    return runs.runs_by_ids(runs.ids_in_experiment(experiment_id, RUNS_LIMIT + 1))


def _named(place: Place, reference: str) -> tuple[list[Run], list[VersionRow], set[str]]:
    kind, colon, name = reference.partition(":")
    if colon and kind in {"experiment", "artifact"}:
        return _whole(place, name, kind)
    ref = parse_ref(reference)
    if isinstance(ref, RunRef) and ref.path is None:
        run = run_named(place, f"{ref.experiment}/{ref.pick}" if ref.experiment else ref.pick)
        if run.purged_at is not None:
            raise Conflict(f"{run.reference} was purged; there is nothing left to export.")
        return [run], [], {run.experiment}
    if isinstance(ref, VersionRef) and ref.path is None:
        return [], [find_version(place, ref.name, ref.which)], set()
    if isinstance(ref, NameRef):
        return _whole(place, ref.name, None)
    raise InvalidInput(f"{reference!r} is one file; name a run, an experiment, an artifact or a version.", field="of")


def _whole(place: Place, name: str, kind: str | None) -> tuple[list[Run], list[VersionRow], set[str]]:
    thing = artifacts.artifact_named(place.project_id, name)
    experiment = projects.experiment_named(place.project_id, name)
    if kind is None and thing and experiment:
        raise InvalidInput(f"{name} is an artifact and an experiment; write artifact:{name} or experiment:{name}.")
    if thing and kind != "experiment":
        return [], [row for row in artifacts.versions_of(thing.artifact_id) if row.binned_at is None], set()
    if kind == "artifact":
        raise NotFound(f"{place.project.name} has no artifact {name!r}.", field="of")
    row = experiment_in(place, name)
    return _runs_of(row.experiment_id), [], {name}


def _experiment(place: Place, name: str) -> ExperimentRecord:
    row = experiment_in(place, name)
    goals = tuple(projects.goals_of(row.experiment_id).values())
    earlier = tuple(names.earlier_names(names.EXPERIMENT, row.experiment_id))
    return ExperimentRecord(row.name, row.description, goals, row.labels, row.seeds, row.generates_names, earlier)


def _by(person_id: int, imported_from: str | None = None) -> Person:
    if imported_from is not None:
        return Person("imported", imported_from)
    author = {person.person_id: person for person in people.people()}.get(person_id)
    return Person(author.name, author.full_name) if author else Person("unknown", "")


def _version(row: VersionRow, with_files: bool, sources: dict[str, str]) -> VersionRecord:
    """Record a version; `sources` collects where each content stands in the archive, the first version that has it."""
    entries = manifests.files_of_version(row.version_id, row.digest)
    inside: dict[str, str] = {}
    if with_files and not row.by_reference:
        for entry in entries:
            inside[entry.sha256] = sources.setdefault(entry.sha256, folder_of(row.name, row.number) + entry.path)
    return VersionRecord(
        row.name,
        row.kind,
        row.number,
        row.digest,
        row.by_reference,
        row.address,
        _by(row.created_by, row.imported_from),
        to_micros(row.created_at),
        entries,
        inside,
        row.about,
        row.labels,
    )


def pack(actor: Actor, store: BlobStore, project: str, chosen: Chosen, license_text: str) -> Iterator[bytes]:
    """Yield the archive. It breaks off where stored bytes turn out to be damaged."""
    archive = ZipStream()
    contents = json.dumps(write_contents(chosen.contents), allow_nan=False).encode()
    yield from archive.add(ARCHIVE, [contents], pack=True)
    if chosen.project is not None:
        text = json.dumps(write_project(chosen.project), allow_nan=False).encode()
        yield from archive.add(PROJECT, [text], pack=True)
    described = []
    for run_id in chosen.runs:
        record = _run(run_id)
        # Of what a run holds only this is needed once more, for the description.
        described.append(replace(record, doc=RunDoc(), results=[], notes=[], texts={}))
        folder = f"runs/{record.uid}/"
        text = json.dumps(write_run(record), allow_nan=False, indent=1).encode()
        yield from archive.add(f"{folder}run.json", [text], pack=True)
        yield from archive.add(f"{folder}points.csv", _points(actor, project, record), pack=True)
        yield from archive.add(f"{folder}output.jsonl", _output(actor, project, record), pack=True)
        yield from archive.add(f"{folder}plots.jsonl", _plots(run_id), pack=True)
        yield from archive.add(f"{folder}machine.jsonl", _machine(run_id), pack=True)
    crate = describe_crate(chosen.contents, described, chosen.title, license_text)
    yield from archive.add(METADATA, [json.dumps(crate, indent=1, ensure_ascii=False).encode()], pack=True)
    for version in chosen.contents.versions:
        for entry in version.files:
            place = version.inside.get(entry.sha256)
            if place == folder_of(version.name, version.number) + entry.path:
                pieces = artifact_versions.open_file(store, entry).pieces
                modified = (entry.modified or 0) // 1_000_000
                yield from archive.add(place, pieces, modified, pack=entry.size <= PACKED_UP_TO)
    yield from archive.end()


@snapshot
def _run(run_id: int) -> RunRecord:
    run = runs.run_by_id(run_id)
    doc = run_documents.load_doc(run_id)
    run_texts = {name: texts.read_text(run.project_id, digest) for name, digest in doc.texts.items()}
    return RunRecord(
        id_text(run.uid),
        run.experiment,
        run.number,
        run.name,
        run.status,
        run.reason,
        _by(run.author_id, run.imported_from),
        run.host,
        id_text(run.parent_uid) if run.parent_uid else None,
        to_micros(run.started_at),
        to_micros(run.ended_at) if run.ended_at else None,
        run.lease_s,
        doc,
        [
            (id_text(row.uid), row.key, from_json(json.loads(row.value), row.key), to_micros(row.recorded_at))
            for row in result_records.results_of(run_id)
        ],
        _links(run_id),
        _notes(run_id),
        {name: text for name, text in run_texts.items() if text is not None},
    )


def _links(run_id: int) -> list[LinkRecord]:
    link_rows = links.links_of_runs([run_id])
    versions = {
        row.version_id: row for row in artifacts.versions_by_ids(sorted({link.version_id for link in link_rows}))
    }
    return [
        LinkRecord(
            id_text(link.uid),
            link.relation,
            versions[link.version_id].name,
            versions[link.version_id].number,
            to_micros(link.recorded_at),
            link.role,
            link.step,
            link.activity,
            link.keep,
        )
        for link in link_rows
        if versions[link.version_id].purged_at is None
    ]


def _notes(run_id: int) -> list[NoteRecord]:
    return [
        NoteRecord(
            id_text(note.uid),
            _by(note.author_id, note.imported_from),
            note.text,
            to_micros(note.written_at),
        )
        for note in notes.notes_on("run", run_id)
    ]


def _points(actor: Actor, project: str, record: RunRecord) -> Iterator[bytes]:
    """Write every point as a line: metric, step, microseconds since 1970, value as Python writes it, which is exact."""
    yield b"metric,step,time_us,value\n"
    stretches = exports.stream_points(actor, project, record.experiment, record.uid, [])
    for name, points in stretches:
        text = io.StringIO()
        rows = zip(points.steps.tolist(), points.times.tolist(), points.values.tolist(), strict=True)
        csv.writer(text, lineterminator="\n").writerows((name, step, at, repr(value)) for step, at, value in rows)
        yield text.getvalue().encode()


def _output(actor: Actor, project: str, record: RunRecord) -> Iterator[bytes]:
    yield from output.stream_output(actor, project, record.experiment, record.uid, "jsonl")


def _plots(run_id: int) -> Iterator[bytes]:
    """Write each plot as a line; one is read at a time, so that no run fills the memory."""
    for uid, row in _listed_plots(run_id):
        record = PlotRecord(id_text(uid), row.name, row.step, to_micros(row.recorded_at), row.declared, _plot(row))
        yield json.dumps(write_plot_record(record), allow_nan=False).encode() + b"\n"


@snapshot
def _listed_plots(run_id: int) -> Sequence[tuple[bytes, PlotRow]]:
    return plots.every_plot(run_id)


@snapshot
def _plot(row: PlotRow) -> Plot:
    return plots.read_kept(row.plot_id)


def _machine(run_id: int) -> Iterator[bytes]:
    for block in _blocks(run_id):
        yield json.dumps(block).encode() + b"\n"


@snapshot
def _blocks(run_id: int) -> Sequence[dict[str, list[float | int | None]]]:
    return resources.read_blocks(run_id)
