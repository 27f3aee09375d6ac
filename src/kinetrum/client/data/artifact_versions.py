"""Artifacts as the service has them: versions, their files, who used them, what became of files that stay elsewhere."""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Literal

from kinetrum.client.data.copies import find_files
from kinetrum.client.data.downloads import download_files
from kinetrum.client.reading.notes import Noted
from kinetrum.client.recording.inputs_outputs import Described, artifact_name, described
from kinetrum.client.sender.fingerprints import Fingerprints
from kinetrum.client.sender.uploads import Sent, upload_missing
from kinetrum.client.spool.complete_segment import new_id
from kinetrum.client.transport.http import path_of
from kinetrum.client.transport.progress import Tick
from kinetrum.client.transport.session import Session, open_session
from kinetrum.core.base.errors import InvalidInput, KinetrumError, NotFound
from kinetrum.core.base.manifests import FileEntry, digest_of
from kinetrum.core.base.refs import VersionRef, parse_ref

if TYPE_CHECKING:
    from kinetrum.client.data.copies import SourceFile
    from kinetrum.client.sender.remote_files import RemoteFile
    from kinetrum.client.transport import answers

State = Literal["same", "changed", "gone", "not reached"]


@dataclass(frozen=True)
class CheckedFile:
    """What became of a file that was fingerprinted where it lies; `read` tells whether its bytes were compared."""

    path: str
    address: str
    state: State
    read: bool
    detail: str = ""


@dataclass(frozen=True)
class StoredVersion(Noted):
    """A version of an artifact, as last read."""

    _session: Session
    _project: str
    data: answers.ArtifactVersionDetail

    @classmethod
    def read(cls, session: Session, project: str, name: str, which: str) -> StoredVersion:
        """Read a version by number or `latest`."""
        path = path_of("projects", project, "artifacts", name, "versions", which)
        return cls(session, project, session.service.get(path))

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

    @property
    def by_reference(self) -> bool:
        """True where the files were fingerprinted and stay where they are."""
        return bool(self.data["by_reference"])

    @property
    def about(self) -> dict[str, object]:
        """Metadata of the version."""
        return dict(self.data["about"])

    @property
    def labels(self) -> dict[str, str]:
        """Labels of the version."""
        return dict(self.data["labels"])

    @property
    def used_by(self) -> list[str]:
        """References of the runs that used it."""
        return [run["run"] for run in self.data["runs"] if run["relation"] == "used"]

    @property
    def generated_by(self) -> list[str]:
        """References of the runs that generated it."""
        return [run["run"] for run in self.data["runs"] if run["relation"] == "generated"]

    def _path(self, *more: str) -> str:
        return path_of(
            "projects", self._project, "artifacts", self.data["name"], "versions", str(self.data["number"]), *more
        )

    def _noted(self) -> tuple[Session, str, str]:
        return self._session, self._project, self.reference

    def label(self, **labels: str | None) -> StoredVersion:
        """Set labels on the version; None takes one away. Returns it as it is now."""
        self._session.service.call("PATCH", self._path("labels"), json={"labels": labels})
        return StoredVersion(self._session, self._project, self._session.service.get(self._path()))

    def download(
        self, to: str | Path = ".", path: str | None = None, tick: Tick | None = None, replace: bool = False
    ) -> list[Path]:
        """Download all files, or the one at `path`, below a folder, verified; returns their paths.

        `tick` is told the bytes that arrived. A file that is there with other content is refused, or with `replace`
        replaced. Raises Conflict where the version is by reference.
        `to` is that folder, made if need be.
        """
        files = [entry for entry in self.data["files"] if path in (None, entry["path"])]
        if not files:
            raise NotFound(f"{self.reference} has no file {path!r}.", field="path")
        return download_files(self._session.service, self._path(), files, Path(to), tick, replace)

    def check(self, quick: bool = False, tick: Tick | None = None) -> list[CheckedFile]:
        """Look at the files of a version by reference where they lie: the same, changed, gone, or not reached.

        Every byte is read; with `quick` only size and last change are compared, and `read` says so. What was
        fingerprinted before and has the same size and last change is not read again.
        `tick` is told the bytes of each stretch that was read. Addresses are what somebody recorded; look at
        `addresses` first where that may not be somebody you trust. Servers that lead on to another are not followed.
        """
        if not self.by_reference:
            raise InvalidInput(f"{self.reference} is stored in the service, which checks it itself.", field="ref")
        memory, elsewhere = Fingerprints(), _Elsewhere(self.data["address"])
        try:
            return [
                _check(entry, self._address_of(entry), memory, elsewhere, quick, tick) for entry in self.data["files"]
            ]
        finally:
            memory.close()

    @property
    def addresses(self) -> list[str]:
        """Where the files lie that `check` reads: paths on this machine, http(s):// and s3:// addresses."""
        return [self._address_of(entry) for entry in self.data["files"]]

    def _address_of(self, entry: answers.FileEntry) -> str:
        if entry["address"]:
            return str(entry["address"])
        whole = self.data["address"] or ""
        alone = self.data["file_count"] == 1 and whole.rpartition("/")[2] == entry["path"]
        return whole if alone else f"{whole}/{entry['path']}"

    def __repr__(self) -> str:
        return f"<{self.reference} {self.data['file_count']} files{' by reference' if self.by_reference else ''}>"


class _Elsewhere:
    """What lies at an address elsewhere, listed once for all files below it."""

    def __init__(self, address: str | None) -> None:
        self._address = address or ""
        self._found: dict[str, RemoteFile] | None = None
        self._error: KinetrumError | None = None

    def find(self, address: str) -> RemoteFile | None:
        """Return the file at an address, None where there is none; raises what listing raised."""
        from kinetrum.client.sender.remote_files import list_remote

        if not address.startswith(self._address) or not self._address:
            return next((file for file in list_remote(address, stays=True) if file.address == address), None)
        if self._found is None and self._error is None:
            try:
                self._found = {file.address: file for file in list_remote(self._address, stays=True)}
            except NotFound:
                self._found = {}
            except KinetrumError as error:
                self._error = error
        if self._error is not None:
            raise self._error
        return (self._found or {}).get(address)


def _check(
    entry: answers.FileEntry, address: str, memory: Fingerprints, elsewhere: _Elsewhere, quick: bool, tick: Tick | None
) -> CheckedFile:
    from kinetrum.client.sender.remote_files import is_remote

    if is_remote(address):
        return _check_elsewhere(entry, address, memory, elsewhere, quick, tick)
    source = Path(address)
    try:
        status = source.stat()
        modified = status.st_mtime_ns // 1000
        if status.st_size != entry["size"]:
            what = f"{status.st_size:,} bytes instead of {entry['size']:,}"
            return CheckedFile(entry["path"], address, "changed", False, what)
        if quick:
            same = entry["modified"] is None or modified == entry["modified"]
            return CheckedFile(entry["path"], address, "same" if same else "changed", False, "by size and time")
        (known,) = memory.all_of([source], tick)
    except FileNotFoundError:
        return CheckedFile(entry["path"], address, "gone", False)
    except OSError as error:
        return CheckedFile(entry["path"], address, "not reached", False, error.strerror or str(error))
    return CheckedFile(entry["path"], address, "same" if known.sha256 == entry["sha256"] else "changed", True)


def _check_elsewhere(
    entry: answers.FileEntry, address: str, memory: Fingerprints, elsewhere: _Elsewhere, quick: bool, tick: Tick | None
) -> CheckedFile:
    from kinetrum.client.sender.remote_files import fingerprint_remote

    try:
        files = elsewhere.find(address)
        if files is None:
            return CheckedFile(entry["path"], address, "gone", False)
        if files.size is not None and files.size != entry["size"]:
            what = f"{files.size:,} bytes instead of {entry['size']:,}"
            return CheckedFile(entry["path"], address, "changed", False, what)
        if quick:
            same = None in (files.modified, entry["modified"]) or files.modified == entry["modified"]
            return CheckedFile(entry["path"], address, "same" if same else "changed", False, "by size and time")
        (known,) = fingerprint_remote(address, [files], memory, tick, stays=True)
    except NotFound:
        return CheckedFile(entry["path"], address, "gone", False)
    except KinetrumError as error:
        return CheckedFile(entry["path"], address, "not reached", False, str(error))
    return CheckedFile(entry["path"], address, "same" if known.sha256 == entry["sha256"] else "changed", True)


def keep(  # noqa: PLR0913
    path: str | os.PathLike[str],
    *,
    name: str | None = None,
    kind: str = "file",
    about: Mapping[str, object] | None = None,
    labels: Mapping[str, str] | None = None,
    description: str | None = None,
    upload: bool = True,
    project: str | None = None,
    session: Session | None = None,
    progress: Callable[[int], Tick] | None = None,
) -> str:
    """Store a file or folder without a run; returns its reference, `name@number`.

    With `upload=False` it is only fingerprinted, and stays where it is (by reference).

    Only bytes that the project lacks are sent. `description` tells what the artifact is. Content equal to the newest
    version makes no new one.
    `progress` is told the number of bytes to read and returns what is told of each stretch read and sent.
    Raises NotFound for a path that is not there, InvalidInput for names and files that cannot be kept.
    `kind` says what it is in a word, `about` is metadata of the version, `labels` are its labels. `session` is a
    connection that is open already.
    """
    label, described_as = artifact_name(name, path), described(kind, about=about, labels=labels)
    here = session or open_session(project)
    reference, _ = keep_files(
        here,
        find_files(path),
        label,
        described_as,
        progress,
        None if upload else str(Path(path).resolve()),
    )
    if description is not None:
        describe_artifact(here, label, description, {})
    return reference


def describe_artifact(here: Session, name: str, description: str | None, labels: Mapping[str, str | None]) -> None:
    """Set what an artifact is (None leaves it) and its labels (None takes one away)."""
    body = {"description": description, "labels": dict(labels)}
    here.service.call("PATCH", path_of("projects", here.project, "artifacts", name), json=body)


def keep_files(
    here: Session,
    files: Sequence[SourceFile],
    name: str,
    description: Described,
    progress: Callable[[int], Tick] | None = None,
    address: str | None = None,
) -> tuple[str, Sent]:
    """Store files under a name; returns the reference and what was sent. With `address`, where they are, none is."""
    sources = [file.source for file in files]
    tick = progress(2 * sum(source.stat().st_size for source in sources)) if progress else None
    memory = Fingerprints()
    try:
        prints = memory.all_of(sources, tick)
    except OSError as error:
        raise NotFound(f"{error.filename} cannot be read ({error.strerror}).", field="path") from None
    finally:
        memory.close()
    entries = [
        {"path": file.path, "size": known.size, "sha256": known.sha256, "modified": known.modified_ns // 1000}
        for file, known in zip(files, prints, strict=True)
    ]
    by_content = {known.sha256: source for known, source in zip(prints, sources, strict=True)}
    sent = Sent(0, 0) if address else upload_missing(here.service, here.project, by_content, tick)
    body = {
        "id": new_id(),
        "at": time.time_ns() // 1000,
        "kind": description.kind,
        "files": entries,
        "about": description.about,
        "labels": description.labels,
        "by_reference": address is not None,
        "address": address,
    }
    answer = here.service.call(
        "POST", path_of("projects", here.project, "artifacts", name, "versions"), json=body, timeout=300
    )
    return str(answer["reference"]), sent


def difference(
    left: str,
    right: str,
    *,
    findings: Sequence[str] | None = None,
    project: str | None = None,
    url: str | None = None,
) -> answers.Difference | answers.ContentDifference:
    """Return the difference of two artifact versions (`nights@2`, `nights@3`), file by file, by content.

    `sentence` says it; `counts` has the files of each finding (only left, only right, changed, moved, same), `pairs`
    the files themselves: all that differ, or those of the `findings` named. Of two stored files
    (`nights@2:2024/station-09.csv`, `nights@3:…`) it is what is in them: `sentence`, for tables the `columns` that
    differ (rows, and by how much on average, least and most), and `text`, a unified difference of the lines.
    `project` and `url` say where; without them the environment's connection does, or the one that `kinetrum
    connect` saved.
    """
    session = open_session(project, url)
    refs = [parse_ref(text) for text in (left, right)]
    if all(isinstance(ref, VersionRef) and ref.path for ref in refs):
        inside: answers.ContentDifference = session.service.get(
            path_of("projects", session.project, "differences", "file"), left=left, right=right
        )
        return inside
    answer: answers.Difference = session.service.get(
        path_of("projects", session.project, "differences"),
        left=left,
        right=right,
        limit=100_000,
        finding=list(findings) if findings else None,
    )
    return answer


def uses(what: str | os.PathLike[str], *, project: str | None = None, url: str | None = None) -> answers.Uses:
    """Return who used or generated exactly this: a version (`nights@3`), a file in one, a digest, or a path here.

    Content is looked for under whatever name it has: `versions` are it, or hold it where it is a single file, and
    `uses` tells each run with its relation and part. A path is fingerprinted and not sent.
    `project` and `url` say where; without them the environment's connection does, or the one that `kinetrum
    connect` saved.
    """
    text = os.fspath(what)
    if Path(text).exists():
        session = open_session(project, url)
        digests = _digests_here(text)
    else:
        ref = None if text.startswith("sha256:") else parse_ref(text)
        session = open_session(ref.project if ref else project, url)
        digests = [text] if ref is None else [_digest_of(session, ref, text)]
    for digest in digests:
        try:
            answer: answers.Uses = session.service.get(path_of("projects", session.project, "uses"), digest=digest)
        except NotFound:
            continue
        return answer
    raise NotFound(f"Nothing in {session.project} has the content of {text}.", field="what")


def _digest_of(session: Session, ref: object, text: str) -> str:
    if not isinstance(ref, VersionRef):
        raise InvalidInput(f"{text!r} names no version, digest or path; write nights@3 or sha256:….", field="what")
    version = StoredVersion.read(session, ref.project or session.project, ref.name, ref.which)
    if ref.path is None:
        return version.digest
    for entry in version.data["files"]:
        if entry["path"] == ref.path:
            return str(entry["sha256"])
    raise NotFound(f"{version.reference} has no file {ref.path!r}.", field="path")


def _digests_here(text: str) -> list[str]:
    """Return the digest of a folder's or file's content, and a file's own: it may be one among others elsewhere."""
    files = find_files(text)
    memory = Fingerprints()
    try:
        prints = memory.all_of([file.source for file in files])
    finally:
        memory.close()
    entries = [FileEntry(file.path, known.size, known.sha256) for file, known in zip(files, prints, strict=True)]
    return [digest_of(entries), *([prints[0].sha256] if Path(text).is_file() else [])]
