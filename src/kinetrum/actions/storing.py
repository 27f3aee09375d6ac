"""Artifacts: taking bytes in, making versions, linking them to runs, and giving bytes out."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from kinetrum.actions.context import Actor, Place, enter
from kinetrum.actions.finding import find_version, run_to_write
from kinetrum.core.errors import Conflict, Damaged, InvalidInput, NotFound
from kinetrum.core.ids import id_bytes
from kinetrum.core.manifests import FileEntry, check_manifest, check_sha256, digest_of
from kinetrum.core.permissions import Act
from kinetrum.core.rundoc import Link, Problem, RunDoc
from kinetrum.core.values import check_name
from kinetrum.storage import artifacts, journal, runs
from kinetrum.storage.artifacts import VersionRow
from kinetrum.storage.blobs import BlobStore, Incoming
from kinetrum.storage.clock import from_micros
from kinetrum.storage.database import snapshot, transaction
from kinetrum.storage.runs import Run

KIND_LIMIT = 40


@dataclass(frozen=True)
class NewVersion:
    """Content that a run used or generated, or that is kept without a run.

    `address` tells where the files of a version by reference lie; `at` is in microseconds since 1970.
    """

    uid: str
    name: str
    kind: str
    files: tuple[FileEntry, ...]
    by_reference: bool
    at: int
    address: str | None = None
    role: str | None = None
    step: int | None = None
    activity: str | None = None


@transaction
def may_upload(actor: Actor, project: str, sha256: str) -> bool:
    """Check that the actor may send bytes; False where this project has them intact already."""
    place = enter(actor, project, Act.RECORD)
    return not artifacts.blobs_in_project(place.project_id, [check_sha256(sha256)])


@transaction
def missing_blobs(actor: Actor, project: str, digests: list[str]) -> list[str]:
    """Return those of the digests that have to be sent; what other projects hold counts as missing."""
    place = enter(actor, project, Act.RECORD)
    wanted = [check_sha256(digest) for digest in digests]
    there = artifacts.blobs_in_project(place.project_id, wanted)
    return [digest for digest in wanted if digest not in there]


def receive(store: BlobStore, sha256: str) -> Incoming:
    """Open the way in for bytes whose upload `may_upload` permitted."""
    return store.receive(check_sha256(sha256))


@transaction
def note_received(actor: Actor, project: str, sha256: str, size: int) -> None:
    """Record bytes that are in place."""
    place = enter(actor, project, Act.RECORD)
    artifacts.note_blob(place.project_id, sha256, size)


@transaction
def keep_version(actor: Actor, project: str, new: NewVersion) -> VersionRow:
    """Keep content under a name without a run. Content equal to the newest version makes no new one."""
    place = enter(actor, project, Act.RECORD)
    version, _ = _make_version(actor, place, new, None)
    return version


@transaction
def link_version(
    actor: Actor, project: str, experiment: str, run_ref: str, relation: str, new: NewVersion
) -> VersionRow:
    """Record content that a run used or generated. Sent again, it changes nothing."""
    place, run = run_to_write(actor, project, experiment, run_ref)
    doc = runs.lock_doc(run.run_id)
    known = artifacts.linked_version(run.run_id, id_bytes(new.uid))
    if known is not None:
        return known
    version, problem = _make_version(actor, place, new, doc)
    _link(run, doc, version, relation, new, problem)
    return version


@transaction
def link_existing(
    actor: Actor, project: str, experiment: str, run_ref: str, name: str, which: str, new_uid: str,
    role: str | None, at: int, activity: str | None = None,
) -> VersionRow:  # fmt: skip
    """Record that a run used a version that exists."""
    place, run = run_to_write(actor, project, experiment, run_ref)
    doc = runs.lock_doc(run.run_id)
    version = find_version(place, name, which)
    use = NewVersion(new_uid, version.name, version.kind, (), version.by_reference, at, role=role,
                     activity=activity)  # fmt: skip
    _link(run, doc, version, "used", use, None)
    return version


def _link(run: Run, doc: RunDoc, version: VersionRow, relation: str, new: NewVersion, problem: str | None) -> None:
    if artifacts.link(
        run.run_id,
        id_bytes(new.uid),
        version.version_id,
        relation,
        new.role,
        new.step,
        from_micros(new.at),
        new.activity,
    ):
        links = doc.used if relation == "used" else doc.generated
        links.append(Link(version.name, version.number, version.digest, new.role, new.step, version.kind,
                          new.activity))  # fmt: skip
        if problem:
            doc.problems.append(Problem(new.uid, problem, new.at))
        runs.save_doc(run, doc, {})
    runs.sign_of_life(run.run_id)


def _make_version(actor: Actor, place: Place, new: NewVersion, run_doc: RunDoc | None) -> tuple[VersionRow, str | None]:
    name, problem = check_name(new.name, "artifact"), None
    if not new.kind or len(new.kind) > KIND_LIMIT or not new.kind.isprintable():
        raise InvalidInput(f"A kind is a word of up to {KIND_LIMIT} characters.", field="kind")
    files = check_manifest(new.files)
    if not new.by_reference:
        _check_stored(place, files)
    if not artifacts.claim_name(place.project_id, name, "artifact"):
        if run_doc is None:
            raise Conflict(f"{name!r} names a model of this project; choose another name.", field="name")
        problem = f"The artifact {name} arrived as {name}-artifact: {name} names a model of this project."
        name = f"{name}-artifact"[:100]
        if not artifacts.claim_name(place.project_id, name, "artifact"):
            raise Conflict(f"{name!r} names a model of this project; choose another name.", field="name")
    artifacts.add_artifact(place.project_id, name, new.kind, actor.person_id)
    return _next_version(actor, place, name, new, files), problem


def _check_stored(place: Place, files: tuple[FileEntry, ...]) -> None:
    there = artifacts.blobs_in_project(place.project_id, sorted({entry.sha256 for entry in files}))
    missing = [entry for entry in files if entry.sha256 not in there]
    if missing:
        raise InvalidInput(
            f"The bytes of {len(missing)} of {len(files)} files have not arrived, the first is {missing[0].path!r}; "
            "send them before the version.",
            field="files",
        )


def _next_version(actor: Actor, place: Place, name: str, new: NewVersion, files: tuple[FileEntry, ...]) -> VersionRow:
    row = artifacts.artifact_named(place.project_id, name, lock=True)
    if row is None:
        raise NotFound(f"The artifact {name!r} vanished.", field="name")
    digest = digest_of(files)
    artifacts.save_manifest(digest, files, stored=not new.by_reference)
    newest = artifacts.newest_version(row.artifact_id)
    if newest is not None and newest.digest == digest and (new.by_reference or not newest.by_reference):
        return newest
    number = newest.number + 1 if newest else 1
    artifacts.add_version(row.artifact_id, number, digest, new.by_reference, new.address, actor.person_id)
    journal.append(
        place.project_id, actor.person_id, "made the version", f"{name}@{number}",
        after={"digest": digest, "files": len(files)}, origin=actor.origin,
    )  # fmt: skip
    made = artifacts.version_numbered(row.artifact_id, number)
    if made is None:
        raise NotFound(f"{name}@{number} vanished.", field="version")
    return made


@snapshot
def list_artifacts(actor: Actor, project: str) -> list[VersionRow]:
    """Return the newest version of every artifact."""
    return artifacts.artifacts_of(enter(actor, project).project_id)


@snapshot
def list_versions(actor: Actor, project: str, name: str) -> list[VersionRow]:
    """Return an artifact's versions, the newest first."""
    place = enter(actor, project)
    return artifacts.versions_of(find_version(place, name, "latest").artifact_id)


@dataclass(frozen=True)
class VersionDetail:
    """A version with its files and the runs that used or generated it (relation, reference)."""

    version: VersionRow
    files: tuple[FileEntry, ...]
    runs: list[tuple[str, str]]


@snapshot
def read_version(actor: Actor, project: str, name: str, which: str) -> VersionDetail:
    """Return a version with its manifest."""
    version = find_version(enter(actor, project), name, which)
    users = [(relation, reference) for relation, _, reference in artifacts.runs_of_version(version.version_id)]
    return VersionDetail(version, artifacts.load_manifest(version.digest), users)


@dataclass(frozen=True)
class OpenFile:
    """A file on its way out; `pieces` gives its last piece only after the whole was verified."""

    entry: FileEntry
    pieces: Iterator[bytes]


def open_file(actor: Actor, store: BlobStore, project: str, name: str, which: str, path: str) -> OpenFile:
    """Open one file of a version for reading.

    Raises NotFound where the version has no such file, Conflict where its bytes were never uploaded.
    """
    detail = read_version(actor, project, name, which)
    entry = next((entry for entry in detail.files if entry.path == path), None)
    if entry is None:
        raise NotFound(f"{detail.version.reference} has no file {path!r}.", field="path")
    if detail.version.by_reference:
        where = f" They were at {detail.version.address}." if detail.version.address else ""
        raise Conflict(f"{detail.version.reference} is by reference: its bytes were never uploaded.{where}")
    return OpenFile(entry, _verified(store, entry.sha256))


def _verified(store: BlobStore, sha256: str) -> Iterator[bytes]:
    try:
        yield from store.pieces(sha256)
    except (Damaged, NotFound):
        _mark_damaged(sha256)
        raise


@transaction
def _mark_damaged(sha256: str) -> None:
    artifacts.mark_damaged(sha256)
