"""Archives in: what another instance packed, with its identities and times, marked as imported. Twice does no harm.

Everything in the archive is checked before anything is kept. Files come first, then versions, then each run in
a few transactions of its own; an import that was cut off is completed by the next one of the same archive.
"""

from __future__ import annotations

import zipfile
from dataclasses import replace
from pathlib import Path

from kinetrum.actions.archives.imported import Imported
from kinetrum.actions.archives.members import (
    member_named,
    read_json,
    read_machine,
    read_output,
    read_pieces,
    read_plots,
    read_points,
)
from kinetrum.actions.archives.opened import Opened, experiment_here, read_run_record
from kinetrum.actions.archives.origins import Origin
from kinetrum.actions.archives.project_unpacking import check_room_for_models, take_project
from kinetrum.actions.archives.run_unpacking import take_run
from kinetrum.actions.context import Actor, Place, enter
from kinetrum.actions.data import uploads
from kinetrum.actions.data.new_versions import check_sizes
from kinetrum.core.access.scopes import Scope
from kinetrum.core.archives.archive import (
    ARCHIVE,
    Contents,
    ExperimentRecord,
    VersionRecord,
)
from kinetrum.core.archives.archive_reading import read_contents
from kinetrum.core.archives.project import PROJECT, read_project
from kinetrum.core.base.errors import Conflict, InvalidInput, NotAllowed
from kinetrum.core.base.ids import id_bytes
from kinetrum.core.base.permissions import Act
from kinetrum.core.base.run_document import RunDoc
from kinetrum.storage.data import artifacts, blob_rows, manifests
from kinetrum.storage.data.blobs import BlobStore
from kinetrum.storage.db.clock import from_micros
from kinetrum.storage.db.database import transaction
from kinetrum.storage.people import journal, names, projects
from kinetrum.storage.people.projects import ExperimentRow
from kinetrum.storage.runs import runs


def import_archive(actor: Actor, store: BlobStore, project: str, path: Path, same_people: bool = False) -> Imported:
    """Take an archive into a project. Raises InvalidInput that names the place in the archive, keeping nothing.

    Everything becomes the importer's, with who is said to have done it in words; with `same_people`, which takes an
    administrator, runs, versions and notes become those of the accounts of the same names. Verdicts never do.
    """
    if same_people and not actor.is_admin:
        raise NotAllowed("An administrator says that the people of an archive are the accounts of the same names here.")
    if same_people:
        actor.require_scope(Scope.ADMINISTER)
    project_id = uploads.may_upload(actor, project)
    try:
        with zipfile.ZipFile(path) as archive:
            opened = _read(archive)
            _check_room_for(actor, project, opened)
            done = Imported(opened.contents.source)
            origin = Origin(actor, opened.contents.source, same_people)
            _take_files(store, project_id, opened)
            numbers = {}
            _begin(actor, project, opened, done)
            for version in opened.contents.versions:
                numbers[version.name, version.number] = _take_version(origin, project, version, opened.contents, done)
            for run in opened.runs:
                take_run(origin, project, run.uid, opened, numbers, done)
            if opened.project is not None:
                take_project(origin, project, opened.project, numbers, done)
    except zipfile.BadZipFile as error:
        raise InvalidInput(f"The file is not a zip archive ({error}).", field="body") from None
    _finish(actor, project, done)
    return done


def _read(archive: zipfile.ZipFile) -> Opened:
    """Read and check all that is said; of files only that they are there with the size that is said of them."""
    contents = read_contents(read_json(archive, ARCHIVE))
    # All of what thousands of runs say would fill the memory: it is read again when each is taken in.
    records = [
        replace(read_run_record(archive, uid), doc=RunDoc(), results=[], notes=[], texts={}) for uid in contents.runs
    ]
    project = read_project(read_json(archive, PROJECT)) if PROJECT in archive.NameToInfo else None
    listed = {(version.name, version.number) for version in contents.versions}
    experiments = {experiment.name for experiment in contents.experiments}
    for run in records:
        if run.experiment not in experiments:
            raise InvalidInput(f"The archive has run {run.uid} of {run.experiment}, which it does not list.")
        for link in run.links:
            if (link.name, link.number) not in listed:
                raise InvalidInput(f"The archive lacks {link.name}@{link.number}, which run {run.uid} {link.relation}.")
    for version in contents.versions:
        for entry in version.files:
            place = version.inside.get(entry.sha256)
            if place is not None and member_named(archive, place).file_size != entry.size:
                raise InvalidInput(f"{place} in the archive has not the {entry.size} bytes that are listed for it.")
    for uid in contents.runs:
        _read_through(archive, f"runs/{uid}/")
    return Opened(archive, contents, records, project)


def _read_through(archive: zipfile.ZipFile, folder: str) -> None:
    """Read what is too much to hold once before anything is kept, so that a fault in it leaves nothing behind."""
    for member, reader in (
        ("points.csv", read_points),
        ("output.jsonl", read_output),
        ("machine.jsonl", read_machine),
        ("plots.jsonl", read_plots),
    ):
        for _ in reader(archive, f"{folder}{member}"):
            pass


@transaction
def _check_room_for(actor: Actor, project: str, opened: Opened) -> None:
    """Refuse before anything is kept: runs that live in another project, names that belong to models."""
    place = enter(actor, project, Act.RECORD)
    for run in opened.runs:
        known = runs.run_by_uid(id_bytes(run.uid))
        if known is not None and known.project_id != place.project_id:
            raise Conflict(f"Run {run.uid} is in another project of this instance; a run has one place.")
    for name in sorted({version.name for version in opened.contents.versions}):
        if artifacts.thing_of_name(place.project_id, name) == "model":
            raise Conflict(f"{name!r} names a model of this project; import the archive into another project.")
    if opened.project is not None:
        check_room_for_models(place, opened.project)


def _take_files(store: BlobStore, project_id: int, opened: Opened) -> None:
    """Keep the bytes that the project lacks; each verified, none longer than what is listed for it."""
    wanted: dict[str, tuple[str, int]] = {}
    for version in opened.contents.versions:
        sizes = {entry.sha256: entry.size for entry in version.files}
        wanted |= {sha256: (place, sizes[sha256]) for sha256, place in version.inside.items()}
    there = _stored(project_id, list(wanted))
    for sha256, (place, size) in wanted.items():
        if sha256 in there:
            continue
        with store.receive(sha256) as incoming:
            for piece in read_pieces(opened.archive, place, size):
                incoming.write(piece)
            uploads.keep(store, project_id, incoming)


@transaction
def _stored(project_id: int, digests: list[str]) -> set[str]:
    return set(blob_rows.blobs_in_project(project_id, digests))


@transaction
def _begin(actor: Actor, project: str, opened: Opened, done: Imported) -> None:
    place = enter(actor, project, Act.RECORD)
    for experiment in opened.contents.experiments:
        row = experiment_here(place, experiment)
        if row is None:
            row = _make_experiment(actor, place, experiment)
        else:
            projects.lock_experiment(row.experiment_id)
            projects.describe_experiment(row.experiment_id, experiment.description)
            done.remarks += _differences(experiment, row)
        # What has to take another number takes none that a later run of the archive brings along.
        highest = max((run.number for run in opened.runs if run.experiment == experiment.name), default=0)
        projects.raise_last_number(row.experiment_id, highest)
        standing = projects.goals_of(row.experiment_id)
        for goal in experiment.goals:
            if goal.key not in standing:
                projects.add_goal(row.experiment_id, goal, len(standing))
                standing[goal.key] = goal
            elif standing[goal.key] != goal:
                done.remarks.append(f"{experiment.name}: the goal of {goal.key} differs there and stays as it is here.")


def _make_experiment(actor: Actor, place: Place, experiment: ExperimentRecord) -> ExperimentRow:
    projects.add_experiment(place.project_id, experiment.name, actor.person_id)
    row = projects.experiment_named(place.project_id, experiment.name)
    if row is None:
        raise Conflict(f"The experiment {experiment.name} vanished.")
    projects.lock_experiment(row.experiment_id)
    projects.set_description("experiment", row.experiment_id, experiment.description, dict(experiment.labels))
    projects.set_seeds(row.experiment_id, experiment.seeds)
    projects.set_generates_names(row.experiment_id, experiment.generates_names)
    for name in dict.fromkeys(experiment.earlier_names):
        if projects.experiment_named(place.project_id, name) is None:
            names.keep_earlier(place.project_id, names.EXPERIMENT, row.experiment_id, name)
    return row


def _differences(there: ExperimentRecord, here: ExperimentRow) -> list[str]:
    """Say what an experiment that is here already is said to be over there."""
    differs = {
        "description": bool(there.description and here.description and there.description != here.description),
        "labels": bool(there.labels) and dict(there.labels) != here.labels,
        "seeds": there.seeds != here.seeds,
    }
    differing = [what for what, really in differs.items() if really]
    remarks = [f"{there.name} is {here.name} here."] if there.name != here.name else []
    return remarks + (
        [f"{there.name}: {' and '.join(differing)} differ there and stay as they are here."] if differing else []
    )


@transaction
def _take_version(
    origin: Origin, project: str, version: VersionRecord, contents: Contents, done: Imported
) -> tuple[int, int]:
    """Make a version where it is not here yet; returns its id and its number here."""
    actor = origin.actor
    place = enter(actor, project, Act.RECORD)
    if not artifacts.claim_name(place.project_id, version.name, "artifact"):
        raise Conflict(f"{version.name!r} names a model of this project; rename nothing there, import elsewhere.")
    artifacts.add_artifact(place.project_id, version.name, version.kind, actor.person_id)
    row = artifacts.artifact_named(place.project_id, version.name, lock=True)
    if row is None:
        raise Conflict(f"The artifact {version.name} vanished.")
    artifact_record = next((artifact for artifact in contents.artifacts if artifact.name == version.name), None)
    if (
        artifact_record is not None
        and not row.description
        and not row.labels
        and (artifact_record.description or artifact_record.labels)
    ):
        artifacts.describe_artifact(row.artifact_id, artifact_record.description, dict(artifact_record.labels))
    made_at = from_micros(version.made_at)
    for there in artifacts.versions_of(row.artifact_id):
        if there.digest == version.digest and (there.created_at == made_at or there.number == version.number):
            done.known.append(there.reference)
            return there.version_id, there.number
    stored = not version.by_reference and set(version.inside) == {entry.sha256 for entry in version.files}
    if stored:
        check_sizes(version.files, blob_rows.blobs_in_project(place.project_id, list(version.inside), hold=True))
    taken = {there.number for there in artifacts.versions_of(row.artifact_id)}
    number = version.number if version.number not in taken else artifacts.last_number(row.artifact_id) + 1
    manifests.save_manifest(version.digest, version.files)
    # Without its bytes it can only be a version by reference: they are where it came from.
    address = version.address if version.by_reference else None if stored else f"{contents.source}/{version.reference}"
    version_id = artifacts.add_version(
        row.artifact_id,
        artifacts.NewVersionRow(
            number,
            version.digest,
            not stored,
            address,
            origin.person_id(version.by),
            dict(version.about),
            dict(version.labels),
            manifests.pack_places(version.files),
            made_at,
            origin.words(version.by, version.reference),
        ),
    )
    reference = f"{version.name}@{number}"
    done.versions[version.reference] = reference
    if number != version.number:
        done.remarks.append(f"{version.reference} arrived as {reference}: its number is taken here.")
    if not stored and not version.by_reference:
        done.remarks.append(f"{version.reference} arrived without its files, by reference.")
    return version_id, number


@transaction
def _finish(actor: Actor, project: str, done: Imported) -> None:
    place: Place = enter(actor, project, Act.RECORD)
    if done.runs or done.versions or done.models or done.views:
        journal.append(
            place.project_id,
            actor.person_id,
            "imported an archive",
            f"archive:{done.source}"[:400],
            journal.Change(after={"runs": len(done.runs), "versions": len(done.versions), "models": len(done.models)}),
            source=actor.source,
        )
