"""Routes for artifacts: versions, what is known of them, differences, who used them."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query, Request

from kinetrum.actions.data import artifact_versions, new_versions
from kinetrum.core.base.errors import InvalidInput
from kinetrum.core.base.manifests import FileEntry
from kinetrum.core.base.refs import VersionRef, parse_ref
from kinetrum.core.compare.contents import ContentDifference
from kinetrum.core.compare.manifests import SIGNS, Finding, count_findings, difference_sentence
from kinetrum.service.guard.turns import FILES, in_turn
from kinetrum.service.http.access import SignedIn
from kinetrum.service.http.routers import make_router
from kinetrum.service.http.store import store_of
from kinetrum.service.presenters import shapes
from kinetrum.service.routes.runs.run_routes import new_version
from kinetrum.wire import artifacts as wire

router = make_router(prefix="/projects/{project}", tags=["artifacts"])
_VERSION = "/artifacts/{artifact}/versions/{version}"


@router.get("/artifacts")
def list_artifacts(actor: SignedIn, project: str) -> list[wire.ArtifactVersion]:
    """List the newest version of every artifact."""
    return [shapes.artifact_version(row) for row in artifact_versions.list_artifacts(actor, project)]


@router.get("/artifacts/{artifact}")
def read_artifact(actor: SignedIn, project: str, artifact: str) -> wire.Artifact:
    """Read an artifact: description, labels, all versions."""
    view = artifact_versions.read_artifact(actor, project, artifact)
    return wire.Artifact(
        name=view.artifact.name,
        kind=view.artifact.kind,
        description=view.artifact.description,
        labels=view.artifact.labels,
        versions=[shapes.artifact_version(row) for row in view.versions],
        may=view.may,
        checkpoints=view.checkpoints,
        goals=list(view.goals.values()),
    )


@router.patch("/artifacts/{artifact}", status_code=204)
def describe_artifact(actor: SignedIn, project: str, artifact: str, body: wire.ArtifactDescription) -> None:
    """Set an artifact's description and labels."""
    artifact_versions.describe_artifact(actor, project, artifact, body.description, body.labels)


@router.post("/artifacts/{artifact}/versions")
def keep_version(actor: SignedIn, project: str, artifact: str, body: wire.NewContent) -> wire.ArtifactVersion:
    """Keep content under a name without a run; equal to the newest version, it makes no new one."""
    named = body.model_copy(update={"name": artifact})
    return shapes.artifact_version(new_versions.keep_version(actor, project, new_version(named)))


@router.get("/artifacts/{artifact}/versions")
def list_artifact_versions(actor: SignedIn, project: str, artifact: str) -> list[wire.ArtifactVersion]:
    """List an artifact's versions, the newest first, those in the bin and the purged ones too."""
    return [shapes.artifact_version(row) for row in artifact_versions.read_artifact(actor, project, artifact).versions]


@router.get(_VERSION)
def read_artifact_version(
    actor: SignedIn,
    project: str,
    artifact: str,
    version: str,
    with_files: Annotated[bool, Query(description="Whether the list of files is wanted.")] = True,
) -> wire.ArtifactVersionDetail:
    """Read a version, by number or `latest`, with its files and the runs that used or generated it."""
    detail = artifact_versions.read_version(actor, project, artifact, version)
    return wire.ArtifactVersionDetail(
        **shapes.artifact_version(detail.version).model_dump(),
        files=list(detail.files) if with_files else [],
        runs=[wire.RunOfVersion.model_validate(run) for run in detail.runs],
        made_by=detail.made_by,
        models=detail.models,
        equal=detail.equal,
    )


@router.patch(f"{_VERSION}/labels")
def label_version(
    actor: SignedIn, project: str, artifact: str, version: str, body: wire.VersionLabels
) -> wire.ArtifactVersion:
    """Set labels on a version."""
    return shapes.artifact_version(artifact_versions.label_version(actor, project, artifact, version, body.labels))


@router.get(f"{_VERSION}/listing")
def list_folder(
    actor: SignedIn,
    project: str,
    artifact: str,
    version: str,
    folder: Annotated[str, Query(max_length=1_000)] = "",
    find: Annotated[str, Query(max_length=200, description="Only paths below it that hold this text.")] = "",
    limit: Annotated[int, Query(ge=1, le=5_000)] = 500,
) -> wire.Listing:
    """List one folder of a version, or with `find` the files anywhere below it."""
    below = folder.strip("/") + "/" if folder.strip("/") else ""
    inside = [
        entry
        for entry in artifact_versions.read_version(actor, project, artifact, version).files
        if entry.path.startswith(below)
    ]
    folders: dict[str, list[int]] = {}
    here: list[FileEntry] = []
    for entry in inside:
        name, slash, _ = entry.path[len(below) :].partition("/")
        if find:
            here += [entry] if find.lower() in entry.path.lower() else []
        elif slash:
            count = folders.setdefault(name, [0, 0])
            count[0], count[1] = count[0] + 1, count[1] + entry.size
        else:
            here.append(entry)
    return wire.Listing(
        folder=below.rstrip("/"),
        folders=[wire.Folder(name=name, files=count, size_bytes=size) for name, (count, size) in folders.items()],
        files=here[:limit],
        more_files=max(0, len(here) - limit),
    )


@router.get("/differences")
def compare_versions(
    actor: SignedIn,
    project: str,
    left: Annotated[str, Query(max_length=300, description="NAME@NUMBER")],
    right: Annotated[str, Query(max_length=300, description="NAME@NUMBER")],
    finding: Annotated[list[Finding] | None, Query(description="All that differ without one.")] = None,
    after: Annotated[str, Query(max_length=1_000, description="Only lines behind this path.")] = "",
    limit: Annotated[int, Query(ge=1, le=100_000)] = 1_000,
) -> wire.Difference:
    """Compare two versions file by file by content: only left, only right, changed, moved, same."""
    difference = artifact_versions.compare_versions(actor, project, _name_and_number(left), _name_and_number(right))
    wanted = set(finding) if finding else set(Finding) - {Finding.SAME}
    chosen = [pair for pair in difference.pairs if pair.finding in wanted and (not after or pair.path > after)]
    counts = count_findings(difference.pairs)
    return wire.Difference(
        left=shapes.artifact_version(difference.left),
        right=shapes.artifact_version(difference.right),
        sentence=difference_sentence(difference.left.reference, difference.right.reference, difference.pairs),
        counts=[wire.FindingCount(finding=word, sign=SIGNS[word], files=counts[word]) for word in Finding],
        pairs=chosen[:limit],
        more=max(0, len(chosen) - limit),
    )


@router.get("/differences/file", dependencies=[in_turn(FILES)])
def compare_file(
    actor: SignedIn,
    project: str,
    request: Request,
    left: Annotated[str, Query(max_length=1_300, description="NAME@NUMBER:PATH")],
    right: Annotated[str, Query(max_length=1_300, description="NAME@NUMBER:PATH")],
) -> ContentDifference:
    """Compare two stored files by what is in them: tables by their columns, texts by their lines."""
    return artifact_versions.compare_file(actor, store_of(request), project, _file_in(left), _file_in(right))


def _file_in(text: str) -> tuple[str, str, str]:
    ref = parse_ref(text)
    if not isinstance(ref, VersionRef) or not ref.path:
        raise InvalidInput(f"{text[:200]!r} names no file of a version; write NAME@NUMBER:PATH.", field="reference")
    return ref.name, ref.which, ref.path


def _name_and_number(text: str) -> tuple[str, str]:
    ref = parse_ref(text)
    if not isinstance(ref, VersionRef) or ref.path:
        raise InvalidInput(f"{text!r} names no artifact version; write NAME@NUMBER.", field="reference")
    return ref.name, ref.which


@router.get("/uses")
def find_uses(
    actor: SignedIn,
    project: str,
    digest: Annotated[str, Query(max_length=80, description="SHA-256 of a content or a file, 8 digits or more.")],
) -> wire.Uses:
    """Tell who used or generated exactly this content, under whatever name; or who has this file."""
    uses = artifact_versions.find_uses(actor, project, digest.removeprefix("sha256:"))
    return wire.Uses(
        what=uses.what,
        exact=uses.exact,
        versions=[shapes.artifact_version(row) for row in uses.versions],
        uses=[
            wire.Use(version=version.reference, run=wire.RunOfVersion.model_validate(run)) for version, run in uses.runs
        ],
    )
