"""Artifacts: their versions, files, differences, and who used them."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import Field

from kinetrum.actions.data.checkpoint_values import Checkpoint
from kinetrum.core.base.goals import Goal
from kinetrum.core.base.manifests import FileEntry
from kinetrum.core.compare.manifests import FilePair, Finding
from kinetrum.wire.base import Id, In, Micros, Moment, Out


class NewFile(In):
    """`modified` is the file's last change (microseconds since 1970), `address` where it stays, where known."""

    path: str
    size: int = Field(ge=0, lt=2**63)
    sha256: str
    modified: int | None = Field(None, ge=-(2**62), lt=2**62)
    address: str | None = Field(None, max_length=2_000)


class Digests(In):
    sha256: list[str] = Field(max_length=10_000, fail_fast=True)


class MissingBlobs(Out):
    missing: list[str]


class BlobKept(Out):
    sha256: str
    size_bytes: int


class BlobsKept(Out):
    kept: int


class UploadState(Out):
    """How far an upload came."""

    offset: int
    complete: bool


class NewContent(In):
    """Content under a name; or with `artifact` (NAME@NUMBER) a version that exists."""

    id: Id
    at: Micros
    name: str | None = None
    kind: str = "file"
    files: list[NewFile] = Field(default=[], max_length=100_000, fail_fast=True)
    by_reference: bool = False
    named: bool = Field(
        True, description="False where the name is only the file's: an input made under another has that."
    )
    address: str | None = Field(None, max_length=1_000)
    role: str | None = Field(None, max_length=100)
    step: int | None = Field(None, ge=-(2**62), le=2**62)
    artifact: str | None = None
    activity: str | None = Field(None, max_length=100, description="Name of the run's activity that it belongs to.")
    about: dict[str, Any] = Field(default={}, description="Metadata of the version, in the team's own words.")
    labels: dict[str, str] = {}
    keep: str | None = Field(
        None, max_length=300, description="Which of the run's checkpoints of this name stay: a number, best, best:KEY."
    )


class ArtifactVersion(Out):
    """`binned_at`: in the bin since; `purged_at`: its bytes are gone; `imported_from`: came from another instance."""

    reference: str
    name: str
    number: int
    kind: str
    digest: str
    by_reference: bool
    address: str | None
    file_count: int
    size_bytes: int
    damaged: bool
    created_at: Moment
    about: dict[str, Any]
    labels: dict[str, str]
    binned_at: Moment | None
    bin_reason: str | None
    purged_at: Moment | None
    imported_from: str | None


class RunOfVersion(Out):
    relation: Literal["used", "generated"]
    run: str
    status: str
    author: str
    name: str | None
    role: str | None
    step: int | None
    activity: str | None
    at: str
    purged: bool


class ArtifactVersionDetail(ArtifactVersion):
    """`models` rest on it; `equal` are other versions with exactly this content."""

    files: list[FileEntry]
    runs: list[RunOfVersion]
    made_by: str
    models: list[str]
    equal: list[str]


class Artifact(Out):
    """An artifact; `checkpoints` are those of its newest 1,000 versions, `goals` those of their runs."""

    name: str
    kind: str
    description: str
    labels: dict[str, str]
    versions: list[ArtifactVersion]
    may: list[str]
    checkpoints: list[Checkpoint]
    goals: list[Goal]


class ArtifactDescription(In):
    """A description of null stays as it is; a label of null is taken away."""

    description: str | None = None
    labels: dict[str, str | None] = {}


class VersionLabels(In):
    labels: dict[str, str | None]


class Folder(Out):
    name: str
    files: int
    size_bytes: int


class Listing(Out):
    """One folder of a version: its folders with what is below them, and its files up to a limit."""

    folder: str
    folders: list[Folder]
    files: list[FileEntry]
    more_files: int


class FindingCount(Out):
    finding: Finding
    sign: str
    files: int


class Difference(Out):
    """Two versions file by file; `pairs` are those of the findings asked for, `more` how many were cut off."""

    left: ArtifactVersion
    right: ArtifactVersion
    sentence: str
    counts: list[FindingCount]
    pairs: list[FilePair]
    more: int


class Use(Out):
    version: str
    run: RunOfVersion


class Uses(Out):
    """Who has to do with a content: `exact` where it is a version's whole content, else that of one file in it."""

    what: str
    exact: bool
    versions: list[ArtifactVersion]
    uses: list[Use]
