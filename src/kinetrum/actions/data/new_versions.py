"""Artifacts: making versions of what arrived, and linking them to runs."""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any

from kinetrum.actions.context import Actor, Place, enter
from kinetrum.actions.recording import checkpoints
from kinetrum.actions.search.references import find_version, run_to_write
from kinetrum.core.base.errors import Conflict, InvalidInput, NotFound, TooLarge
from kinetrum.core.base.ids import id_bytes
from kinetrum.core.base.manifests import FileEntry, check_manifest, digest_of
from kinetrum.core.base.permissions import Act
from kinetrum.core.base.run_document import Link, Problem, RunDoc
from kinetrum.core.base.values import check_label, check_name
from kinetrum.core.media import KINDS
from kinetrum.core.registry.checkpoints import check_keep
from kinetrum.storage.data import artifacts, blob_rows, links, manifests
from kinetrum.storage.data.artifacts import VersionRow
from kinetrum.storage.data.links import LinkRow
from kinetrum.storage.db.clock import from_micros
from kinetrum.storage.db.database import transaction
from kinetrum.storage.people import journal
from kinetrum.storage.runs import run_documents, runs
from kinetrum.storage.runs.runs import Run

KIND_LIMIT = 40
ABOUT_LIMIT = 64 * 1024
LINKS_LIMIT = 20_000


@dataclass(frozen=True)
class NewVersion:
    """Content that a run used or generated, or that is kept without a run.

    `address` tells where the files of a version by reference lie; `at` is in microseconds since 1970; `about` is
    metadata of the version in the team's own words; `keep` says which checkpoints stay (see `core.checkpoints`).
    `named`: whether somebody chose the name; else it is that of a file, and gives way to the name that content has.
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
    about: dict[str, Any] = field(default_factory=dict)
    labels: dict[str, str] = field(default_factory=dict)
    keep: str | None = None
    named: bool = True


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
    doc = run_documents.lock_doc(run.run_id)
    known = links.linked_version(run.run_id, id_bytes(new.uid))
    if known is not None:
        return known
    version, problem = _make_version(actor, place, new, doc, used=relation == "used")
    _link(run, doc, version, relation, new, problem)
    return version


@dataclass(frozen=True)
class ExistingLink:
    """A version that exists, named as a run's input or output."""

    name: str
    which: str
    new_uid: str
    role: str | None
    at: int
    activity: str | None = None


@transaction
def link_existing(
    actor: Actor,
    project: str,
    experiment: str,
    run_ref: str,
    link: ExistingLink,
) -> VersionRow:
    """Record that a run used a version that exists."""
    place, run = run_to_write(actor, project, experiment, run_ref)
    doc = run_documents.lock_doc(run.run_id)
    version = find_version(place, link.name, link.which)
    use = NewVersion(
        link.new_uid,
        version.name,
        version.kind,
        (),
        version.by_reference,
        link.at,
        role=link.role,
        activity=link.activity,
    )
    _link(run, doc, version, "used", use, None)
    return version


def _link(run: Run, doc: RunDoc, version: VersionRow, relation: str, new: NewVersion, problem: str | None) -> None:
    link = LinkRow(
        run.run_id,
        id_bytes(new.uid),
        version.version_id,
        relation,
        new.role,
        new.step,
        from_micros(new.at),
        new.activity,
        check_keep(new.keep) if relation == "generated" else None,
    )
    if len(doc.used) + len(doc.generated) >= LINKS_LIMIT:
        raise TooLarge(
            f"{run.reference} has {LINKS_LIMIT:,} inputs and outputs already; keep fewer steps of them.", field="name"
        )
    if links.add_link(link):
        (doc.used if relation == "used" else doc.generated).append(
            # A result to be seen is one, also under the name of an artifact that was begun as something else.
            Link(
                version.name,
                version.number,
                version.digest,
                new.role,
                new.step,
                new.kind if new.kind in KINDS else version.kind,
                new.activity,
            )
        )
        if problem:
            doc.problems.append(Problem(new.uid, problem, new.at))
        if link.keep is not None:
            checkpoints.keep_chosen(run, doc, version, link.keep, new.at, final=run.status != "running")
        run_documents.save_doc(run, doc, {})
    runs.sign_of_life(run.run_id)


def _make_version(
    actor: Actor, place: Place, new: NewVersion, run_doc: RunDoc | None, used: bool = False
) -> tuple[VersionRow, str | None]:
    name, problem = check_name(new.name, "artifact"), None
    if not new.kind or len(new.kind) > KIND_LIMIT or not new.kind.isprintable():
        raise InvalidInput(f"A kind is a word of up to {KIND_LIMIT} characters.", field="kind")
    _check_described(new)
    files = check_manifest(new.files)
    # Content of no bytes is the same by chance.
    if used and not new.named and any(entry.size for entry in files):
        made = _made_elsewhere(place, name, digest_of(files), new.by_reference)
        if made is not None:
            return made, None
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
    return _next_version(actor, place, name, new, files, used), problem


def _made_elsewhere(place: Place, name: str, digest: str, by_reference: bool) -> VersionRow | None:
    """Return the newest version with this content that a run generated, where none bears the file's own name."""
    known = [row for row in artifacts.versions_of_digest(place.project_id, digest) if not row.purged_at]
    if any(row.name == name for row in known):
        return None
    generated = {
        link.version_id
        for link in links.links_of_versions([row.version_id for row in known])
        if link.relation == "generated"
    }
    fit = [row for row in known if row.version_id in generated and (by_reference or not row.by_reference)]
    return fit[-1] if fit else None


def _check_described(new: NewVersion) -> None:
    if len(json.dumps(new.about)) > ABOUT_LIMIT:
        raise InvalidInput(f"The metadata has over {ABOUT_LIMIT} bytes as JSON; keep it as a file.", field="about")
    for key, text in new.labels.items():
        check_label(key, text)
    if new.address is not None and len(new.address) > 1_000:
        raise InvalidInput("The address has over 1,000 characters.", field="address")


def _check_stored(place: Place, files: tuple[FileEntry, ...]) -> None:
    there = blob_rows.blobs_in_project(place.project_id, {entry.sha256 for entry in files}, hold=True)
    missing = [entry for entry in files if entry.sha256 not in there]
    if missing:
        raise InvalidInput(
            f"The bytes of {len(missing)} of {len(files)} files have not arrived, the first is {missing[0].path!r}; "
            "send them before the version.",
            field="files",
        )
    check_sizes(files, there)


def check_sizes(files: Iterable[FileEntry], stored: Mapping[str, int]) -> None:
    """Refuse a list of files that says another size than the stored bytes have; `stored` are sizes by digest."""
    for entry in files:
        size = stored.get(entry.sha256, entry.size)
        if entry.size != size:
            raise InvalidInput(f"{entry.path} is said to have {entry.size:,} bytes and has {size:,}.", field="files")


def _next_version(
    actor: Actor, place: Place, name: str, new: NewVersion, files: tuple[FileEntry, ...], used: bool
) -> VersionRow:
    row = artifacts.artifact_named(place.project_id, name, lock=True)
    if row is None:
        raise NotFound(f"The artifact {name!r} vanished.", field="name")
    digest = digest_of(files)
    manifests.save_manifest(digest, files)
    newest = artifacts.newest_version(row.artifact_id)
    if newest is not None and newest.digest == digest and (new.by_reference or not newest.by_reference):
        return newest
    if used:
        # Who uses older content makes it no newer: the version that it is stays what it is, and so does the latest.
        for known in artifacts.versions_of(row.artifact_id):
            if known.digest == digest and not known.purged_at and (new.by_reference or not known.by_reference):
                return known
    number = artifacts.last_number(row.artifact_id) + 1
    artifacts.add_version(
        row.artifact_id,
        artifacts.NewVersionRow(
            number,
            digest,
            new.by_reference,
            new.address,
            actor.person_id,
            new.about,
            new.labels,
            manifests.pack_places(files),
        ),
    )
    journal.append(
        place.project_id,
        actor.person_id,
        "made the version",
        f"{name}@{number}",
        journal.Change(after={"digest": digest, "files": len(files)}),
        source=actor.source,
    )
    made = artifacts.version_numbered(row.artifact_id, number)
    if made is None:
        raise NotFound(f"{name}@{number} vanished.", field="version")
    return made


def index_manifests() -> None:
    """Index the files of manifests that an earlier version of this program kept."""
    while _index_some():
        pass


@transaction
def _index_some() -> int:
    return manifests.index_some()
