"""Artifacts as people see them: versions and their files, what is known of them, differences, and bytes out."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from kinetrum.actions.context import Actor, Place, enter, may, sight_of
from kinetrum.actions.data.checkpoint_values import Checkpoint, checkpoints_of
from kinetrum.actions.search.references import find_artifact, find_version
from kinetrum.core.base.errors import Conflict, Damaged, InvalidInput, NotFound, TooLarge
from kinetrum.core.base.goals import Goal
from kinetrum.core.base.manifests import FileEntry
from kinetrum.core.base.permissions import Act
from kinetrum.core.base.values import merged_labels
from kinetrum.core.compare.contents import CONTENT_LIMIT, ContentDifference, compare_contents
from kinetrum.core.compare.manifests import FilePair, compare_manifests
from kinetrum.storage.data import artifacts, blob_rows, links, manifests
from kinetrum.storage.data.artifacts import ArtifactRow, VersionRow
from kinetrum.storage.data.blobs import BlobStore
from kinetrum.storage.db.database import snapshot, transaction
from kinetrum.storage.people import journal, people
from kinetrum.storage.runs import runs

DESCRIPTION_LIMIT = 10_000


@dataclass(frozen=True)
class ArtifactView:
    """An artifact with all its versions, the newest first; `by` names who made each, by person id.

    `checkpoints`: those that a run made at a step, with what it measured there; `goals`: those of their runs.
    """

    artifact: ArtifactRow
    versions: list[VersionRow]
    by: dict[int, str]
    may: list[str]
    checkpoints: list[Checkpoint]
    goals: dict[str, Goal]


@dataclass(frozen=True)
class RunOfVersion:
    """A run that used or generated a version: how, by whom, when, and what the run is."""

    relation: str
    run: str
    status: str
    author: str
    name: str | None
    role: str | None
    step: int | None
    activity: str | None
    at: str
    purged: bool
    run_id: int


@dataclass(frozen=True)
class VersionDetail:
    """A version with its files, the runs that used or generated it, who made it, and what rests on it.

    `equal` names other versions with exactly this content, whatever they are called.
    """

    version: VersionRow
    files: tuple[FileEntry, ...]
    runs: list[RunOfVersion]
    made_by: str
    models: list[str]
    equal: list[str]


@snapshot
def list_artifacts(actor: Actor, project: str) -> list[VersionRow]:
    """Return the newest version of every artifact."""
    return artifacts.artifacts_of(enter(actor, project).project_id)


@snapshot
def read_artifact(actor: Actor, project: str, name: str) -> ArtifactView:
    """Return an artifact with its versions, those in the bin and the purged ones too."""
    place = enter(actor, project)
    row = find_artifact(place, name)
    words = [word for word, act in (("describe", Act.DESCRIBE), ("record", Act.RECORD)) if may(actor, place, act)]
    versions = artifacts.versions_of(row.artifact_id)
    checkpoints, goals = checkpoints_of(place, versions)
    return ArtifactView(row, versions, people.full_names(), words, checkpoints, goals)


@transaction
def describe_artifact(
    actor: Actor, project: str, name: str, description: str | None, labels: dict[str, str | None]
) -> ArtifactRow:
    """Set an artifact's description (None leaves it) and labels; a label given as None is taken away."""
    place = enter(actor, project, Act.DESCRIBE)
    row = find_artifact(place, name, lock=True)
    if description is not None and len(description) > DESCRIPTION_LIMIT:
        raise InvalidInput(f"The description has over {DESCRIPTION_LIMIT} characters.", field="description")
    text = row.description if description is None else description
    fresh = merged_labels(row.labels, labels, name)
    if (text, fresh) != (row.description, row.labels):
        artifacts.describe_artifact(row.artifact_id, text, fresh)
        journal.append(
            place.project_id,
            actor.person_id,
            "described",
            f"artifact:{name}",
            journal.Change(
                {"description": row.description, "labels": row.labels}, {"description": text, "labels": fresh}
            ),
            source=actor.source,
        )
    return find_artifact(place, name)


@transaction
def label_version(actor: Actor, project: str, name: str, which: str, labels: dict[str, str | None]) -> VersionRow:
    """Set labels on a version; a label given as None is taken away."""
    place = enter(actor, project, Act.DESCRIBE)
    version = find_version(place, name, which)
    artifacts.lock_versions([version.version_id])
    version = artifacts.version_by_id(version.version_id)
    fresh = merged_labels(version.labels, labels, version.reference)
    if fresh != version.labels:
        artifacts.set_labels(version.version_id, fresh)
        journal.append(
            place.project_id,
            actor.person_id,
            "labelled",
            version.reference,
            journal.Change(version.labels, fresh),
            source=actor.source,
        )
    return artifacts.version_by_id(version.version_id)


@snapshot
def read_version(actor: Actor, project: str, name: str, which: str) -> VersionDetail:
    """Return a version with its manifest."""
    place = enter(actor, project)
    return version_detail(actor, place, find_version(place, name, which))


def version_detail(actor: Actor, place: Place, version: VersionRow) -> VersionDetail:
    """Return everything about a version; inside a running snapshot."""
    equal = artifacts.versions_of_digest(version.project_id, version.digest)
    dependents = artifacts.models_on([version.version_id]).get(version.version_id, [])
    return VersionDetail(
        version,
        manifests.files_of_version(version.version_id, version.digest),
        runs_of_versions([version.version_id]),
        people.full_names().get(version.created_by, ""),
        sight_of(actor).names_from(place, dependents),
        [row.reference for row in equal if row.version_id != version.version_id],
    )


def runs_of_versions(version_ids: Sequence[int]) -> list[RunOfVersion]:
    """Return the runs that used or generated any of these versions, the earliest first."""
    link_rows = links.links_of_versions(version_ids)
    known = {run.run_id: run for run in runs.runs_by_ids(sorted({link.run_id for link in link_rows}))}
    names = people.full_names()
    return [
        RunOfVersion(
            link.relation,
            run.reference,
            run.status,
            names.get(run.author_id, ""),
            run.name,
            link.role,
            link.step,
            link.activity,
            link.recorded_at.isoformat(timespec="microseconds") + "Z",
            run.purged_at is not None,
            run.run_id,
        )
        for link in link_rows
        if (run := known.get(link.run_id)) is not None
    ]


@dataclass(frozen=True)
class Difference:
    """Two versions and their files side by side."""

    left: VersionRow
    right: VersionRow
    pairs: list[FilePair]


@snapshot
def compare_versions(actor: Actor, project: str, left: tuple[str, str], right: tuple[str, str]) -> Difference:
    """Compare two versions, of one artifact or of two, file by file by content."""
    place = enter(actor, project)
    ours, theirs = find_version(place, *left), find_version(place, *right)
    pairs = compare_manifests(
        manifests.files_of_version(ours.version_id, ours.digest),
        manifests.files_of_version(theirs.version_id, theirs.digest),
    )
    return Difference(ours, theirs, pairs)


def compare_file(
    actor: Actor, store: BlobStore, project: str, left: tuple[str, str, str], right: tuple[str, str, str]
) -> ContentDifference:
    """Compare one file of a version with one of another, each given as (name, number, path), by what is in them.

    Raises Conflict where the bytes of either are not here, TooLarge where they are too many to be compared.
    """
    contents = []
    for name, which, path in (left, right):
        _, entry = stored_file(actor, project, name, which, path)
        if entry.size > CONTENT_LIMIT:
            raise TooLarge(f"{path} has {entry.size:,} bytes; up to {CONTENT_LIMIT:,} are compared here.", field="path")
        contents.append(b"".join(open_file(store, entry).pieces))
    return compare_contents(right[2], *contents)


@dataclass(frozen=True)
class Uses:
    """Who has to do with some content: versions that are it or hold it as a file, and the runs of these.

    `what` tells what was looked for, `exact` whether it is a whole content (else one file's).
    """

    what: str
    digest: str
    exact: bool
    versions: list[VersionRow]
    runs: list[tuple[VersionRow, RunOfVersion]]


VERSIONS_LIMIT = 500


@snapshot
def find_uses(actor: Actor, project: str, digest: str) -> Uses:
    """Find who used or generated exactly the content that a digest, or its beginning (8 digits or more), names."""
    place = enter(actor, project)
    wanted = digest.lower()
    if not 8 <= len(wanted) <= 64 or any(letter not in "0123456789abcdef" for letter in wanted):
        raise InvalidInput(f"{digest[:80]!r} is not a digest; 8 to 64 hex digits are needed.", field="digest")
    digests = artifacts.digests_that_begin(place.project_id, wanted)
    if not digests:
        raise NotFound(f"Nothing in {place.project.name} has a digest that begins with {digest}.", field="digest")
    if len(digests) > 1:
        matches = " and ".join(f"sha256:{text[:16]}…" for text in digests[:2])
        raise InvalidInput(f"{digest} fits several: {matches}; write more of it.", field="digest")
    exact = artifacts.versions_of_digest(place.project_id, digests[0])
    versions = exact or artifacts.versions_with_file(place.project_id, digests[0], VERSIONS_LIMIT)
    by_run: list[tuple[VersionRow, RunOfVersion]] = []
    for version in versions:
        by_run += [(version, run) for run in runs_of_versions([version.version_id])]
    return Uses(f"sha256:{digests[0]}", digests[0], bool(exact), versions, by_run)


@dataclass(frozen=True)
class OpenFile:
    """A file on its way out: `pieces` gives its last piece, or with a range its first, only after it was verified."""

    entry: FileEntry
    pieces: Iterator[bytes]


@snapshot
def stored_file(actor: Actor, project: str, name: str, which: str, path: str) -> tuple[VersionRow, FileEntry]:
    """Return one file of a version whose bytes are stored.

    Raises NotFound where the version has no such file, Conflict where its bytes were never uploaded or are purged.
    """
    version = find_version(enter(actor, project), name, which)
    return version, stored_entry(version, path)


def stored_entry(version: VersionRow, path: str) -> FileEntry:
    """Return one file of a version whose bytes are stored; inside a running snapshot."""
    files = manifests.files_of_version(version.version_id, version.digest)
    entry = next((entry for entry in files if entry.path == path), None)
    if entry is None:
        raise NotFound(f"{version.reference} has no file {path!r}.", field="path")
    check_stored(version, entry)
    return entry


def check_stored(version: VersionRow, entry: FileEntry | None = None) -> None:
    """Raise Conflict where the bytes of a version are not here: by reference, or purged."""
    if version.purged_at is not None:
        raise Conflict(f"{version.reference} was purged at {version.purged_at:%Y-%m-%d %H:%M}; its bytes are gone.")
    if version.by_reference:
        address = (entry.address if entry else None) or version.address
        where = f" They were at {address}." if address else ""
        raise Conflict(f"{version.reference} is by reference: its bytes were never uploaded.{where}")


def open_file(store: BlobStore, entry: FileEntry, part: tuple[int, int] | None = None) -> OpenFile:
    """Open a stored file for reading, whole or (first, last) of its bytes."""
    return OpenFile(entry, _verified(store, entry.sha256, part))


def _verified(store: BlobStore, sha256: str, part: tuple[int, int] | None) -> Iterator[bytes]:
    try:
        if part is None:
            yield from store.pieces(sha256)
        else:
            yield from store.part(sha256, *part)
    except (Damaged, NotFound):
        _mark_damaged(sha256)
        raise


@transaction
def _mark_damaged(sha256: str) -> None:
    blob_rows.mark_damaged(sha256)
