"""Routes for bytes on their way out: one file, whole or in part, and a version as one archive."""

from __future__ import annotations

import base64
import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from itertools import chain
from typing import Annotated, Any, Literal
from urllib.parse import quote

from fastapi import Depends, Header, Query, Request, Response
from fastapi.responses import StreamingResponse

from kinetrum.actions.data import artifact_versions, previews
from kinetrum.core.base.manifests import FileEntry
from kinetrum.core.media import type_of
from kinetrum.core.preview.shown import Preview
from kinetrum.service.guard.turns import EXPORTS, FILES, in_turn
from kinetrum.service.http import bundles
from kinetrum.service.http.access import SignedIn
from kinetrum.service.http.routers import make_router
from kinetrum.service.http.store import store_of
from kinetrum.storage.data.artifacts import VersionRow

router = make_router(prefix="/projects/{project}/artifacts/{artifact}/versions/{version}", tags=["artifacts"])
OUT: dict[int | str, dict[str, Any]] = {
    200: {"content": {"application/octet-stream": {}}},
    206: {"description": "The part that was asked for.", "content": {"application/octet-stream": {}}},
    304: {"description": "The bytes are the ones that the asker has."},
    416: {"description": "The file has no such part."},
}
_RANGE = re.compile(r"bytes=(\d*)-(\d*)\Z")


@dataclass(frozen=True)
class FileAsked:
    """A request for a file's bytes: all of them, a part, or only where they are others than those that are there."""

    request: Request
    range: str | None
    if_range: str | None
    if_none_match: str | None


def file_asked(
    request: Request,
    range_header: Annotated[str | None, Header(alias="range")] = None,
    if_range: Annotated[str | None, Header()] = None,
    if_none_match: Annotated[str | None, Header()] = None,
) -> FileAsked:
    """Read from the headers what is asked of a file."""
    return FileAsked(request, range_header, if_range, if_none_match)


@dataclass(frozen=True)
class BundleAsked:
    """A request for a version's files as one bundle, of a form, with files up to a size."""

    request: Request
    form: str
    up_to_bytes: int | None


def bundle_asked(
    request: Request,
    form: Annotated[Literal["tar", "zip"], Query(description="tar or zip, both uncompressed.")] = "zip",
    up_to_bytes: Annotated[int | None, Query(ge=0, lt=2**63, description="Only files of at most this size.")] = None,
) -> BundleAsked:
    """Read what is asked of a bundle."""
    return BundleAsked(request, form, up_to_bytes)


@router.head("/files/{path:path}", include_in_schema=False)
@router.get("/files/{path:path}", response_class=Response, responses=OUT)
def download_file(
    actor: SignedIn,
    project: str,
    artifact: str,
    version: str,
    path: str,
    file_request: Annotated[FileAsked, Depends(file_asked)],
    show: Annotated[bool, Query(description="Name the type of an image, sound or video for a page.")] = False,
) -> Response:
    """Download one file, or with Range a part of it; its SHA-256 stands in Repr-Digest (RFC 9530).

    Damaged bytes are never sent whole: the last piece waits until the file is verified, a part until before it.
    """
    _, entry = artifact_versions.stored_file(actor, project, artifact, version, path)
    # All else is saved, and nothing of it runs in the console's origin.
    return answer_file(file_request, entry, path, type_of(path) if show else None)


def answer_file(file_request: FileAsked, entry: FileEntry, path: str, media: str | None) -> Response:
    """Send a stored file or a part of it; `media` is the type of what a page shows."""
    tag = f'"{entry.sha256}"'
    digest = base64.b64encode(bytes.fromhex(entry.sha256)).decode()
    headers = {
        "Repr-Digest": f"sha-256=:{digest}:",
        "ETag": tag,
        "Accept-Ranges": "bytes",
        "Content-Disposition": f"{'inline' if media else 'attachment'}; filename*=UTF-8''{_name(path)}",
        "Content-Security-Policy": "sandbox; default-src 'none'",
    }
    if file_request.if_none_match is not None and tag in file_request.if_none_match:
        return Response(status_code=304, headers=headers)
    part = (
        None
        if file_request.range is None or file_request.if_range not in {None, tag}
        else _part(file_request.range, entry.size)
    )
    if file_request.request.method == "HEAD":
        headers["Content-Type"] = media or "application/octet-stream"
        return Response(headers={**headers, "Content-Length": str(entry.size)})
    if part == ():
        return Response(status_code=416, headers={"Content-Range": f"bytes */{entry.size}"})
    opened = artifact_versions.open_file(store_of(file_request.request), entry, part or None)
    # Taken before the answer begins: what is verified by then can still be refused.
    first = next(opened.pieces, b"")
    size = part[1] - part[0] + 1 if part else entry.size
    headers["Content-Length"] = str(size)
    if part:
        headers["Content-Range"] = f"bytes {part[0]}-{part[1]}/{entry.size}"
    pieces: Iterator[bytes] = chain([first], opened.pieces)
    return StreamingResponse(
        pieces, status_code=206 if part else 200, media_type=media or "application/octet-stream", headers=headers
    )


def _name(path: str) -> str:
    return quote(path.rpartition("/")[2], safe="")


def _part(range_text: str, size: int) -> tuple[int, int] | tuple[()] | None:
    """Read a Range: (first, last), () where the file has no such part, None where the whole is to be sent."""
    match = _RANGE.match(range_text.strip())
    if match is None or match.groups() == ("", ""):
        return None
    first, last = match.groups()
    if len(first) > 18 or len(last) > 18:
        return ()
    if not first:
        return (max(0, size - int(last)), size - 1) if int(last) and size else ()
    if int(first) >= size or (last and int(last) < int(first)):
        return ()
    return int(first), min(int(last), size - 1) if last else size - 1


@router.get("/preview", dependencies=[in_turn(FILES)])
def preview_file(
    actor: SignedIn,
    project: str,
    artifact: str,
    version: str,
    request: Request,
    path: Annotated[str, Query(max_length=1_000)],
) -> Preview:
    """Look into one file: text, tables, models' signatures, archives' listings; bounded however large it is."""
    return previews.preview_file(actor, store_of(request), project, artifact, version, path)


@router.get(
    "/bundle",
    response_class=StreamingResponse,
    responses={200: {"content": {kind: {} for kind in bundles.MEDIA_TYPES.values()}}},
    dependencies=[in_turn(EXPORTS, while_streaming=True)],
)
def download_bundle(
    actor: SignedIn,
    project: str,
    artifact: str,
    version: str,
    bundle_request: Annotated[BundleAsked, Depends(bundle_asked)],
    folder: Annotated[str, Query(max_length=1_000, description="Only what is below this folder.")] = "",
) -> StreamingResponse:
    """Download a version's files as one bundle. It breaks off where stored bytes turn out to be damaged."""
    detail = artifact_versions.read_version(actor, project, artifact, version)
    return answer_bundle(bundle_request, detail.version, detail.files, artifact, folder)


def answer_bundle(
    bundle_request: BundleAsked,
    version: VersionRow,
    entries: Sequence[FileEntry],
    name: str,
    folder: str = "",
) -> StreamingResponse:
    """Send a version's files as one bundle."""
    artifact_versions.check_stored(version)
    below = folder.rstrip("/") + "/" if folder else ""
    chosen = [
        entry
        for entry in entries
        if entry.path.startswith(below)
        and (bundle_request.up_to_bytes is None or entry.size <= bundle_request.up_to_bytes)
    ]
    store = store_of(bundle_request.request)

    def read(entry: FileEntry) -> Iterator[bytes]:
        return artifact_versions.open_file(store, entry).pieces

    return StreamingResponse(
        bundles.bundle(bundle_request.form, chosen, read),
        media_type=bundles.MEDIA_TYPES[bundle_request.form],
        headers={"Content-Disposition": f'attachment; filename="{name}-{version.number}.{bundle_request.form}"'},
    )
