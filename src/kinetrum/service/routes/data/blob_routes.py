"""Routes for bytes on their way in: whole, in parts that can be taken up again, many small ones at once."""

from __future__ import annotations

import secrets
from typing import Annotated, Any

from fastapi import Header, Request, Response
from starlette.concurrency import run_in_threadpool
from starlette.requests import ClientDisconnect

from kinetrum.actions.data import uploads
from kinetrum.actions.people import quotas
from kinetrum.core.base.errors import InvalidInput, KinetrumError, TooLarge
from kinetrum.core.base.manifests import check_sha256
from kinetrum.service.guard.turns import BUNDLES
from kinetrum.service.http.access import SignedIn
from kinetrum.service.http.routers import make_router
from kinetrum.service.http.store import store_of
from kinetrum.storage.data.blobs import PIECE, Arrival, Incoming
from kinetrum.wire import artifacts as wire

router = make_router(prefix="/projects/{project}", tags=["artifacts"])
TAR = "application/x-tar"
TOGETHER_BYTES = 48 * 1024 * 1024
_BYTES: dict[str, Any] = {"schema": {"type": "string", "format": "binary"}}
BYTES_BODY: dict[str, Any] = {"requestBody": {"required": True, "content": {"application/octet-stream": _BYTES}}}


@router.post("/blobs/missing")
def list_missing_blobs(actor: SignedIn, project: str, body: wire.Digests) -> wire.MissingBlobs:
    """Tell which bytes have to be sent: those that nothing one may see in this project contains."""
    return wire.MissingBlobs(missing=uploads.missing_blobs(actor, project, body.sha256))


@router.put("/blobs/{sha256}", openapi_extra=BYTES_BODY)
async def put_blob(actor: SignedIn, project: str, sha256: str, request: Request) -> wire.BlobKept:
    """Send bytes whole; they are kept only if their SHA-256 is the one in the address."""
    check_sha256(sha256)
    project_id = await run_in_threadpool(uploads.may_upload, actor, project, sha256)
    store = store_of(request)
    with uploads.receive(store, sha256) as incoming:
        await take(request, incoming, *await _room(project_id))
        _, size = await run_in_threadpool(uploads.keep, store, project_id, incoming)
    return wire.BlobKept(sha256=sha256, size_bytes=size)


@router.post(
    "/blobs",
    openapi_extra={
        "requestBody": {"required": True, "content": {"application/octet-stream": _BYTES, TAR: _BYTES}},
    },
)
async def add_blobs(
    actor: SignedIn, project: str, request: Request, content_type: Annotated[str, Header()] = ""
) -> wire.BlobKept | wire.BlobsKept:
    """Send bytes whose SHA-256 the sender does not know, which is answered; or as a tar many small files at once,
    each named by its SHA-256, all kept or none."""
    project_id = await run_in_threadpool(uploads.may_upload, actor, project)
    store = store_of(request)
    if content_type.split(";")[0].strip() == TAR:
        with Arrival(store.incoming / f"bundle-{secrets.token_hex(8)}") as arrival:
            over = TooLarge(f"The archive has over {TOGETHER_BYTES} bytes; send fewer files at once.", field="body")
            await take(request, arrival, TOGETHER_BYTES, over)
            await run_in_threadpool(arrival.flush)
            async with BUNDLES.turn(actor.person_id):
                contents = await run_in_threadpool(uploads.unpack, arrival.path)
                count = await run_in_threadpool(uploads.keep_many, store, project_id, contents)
        return wire.BlobsKept(kept=count)
    with uploads.receive(store, None) as incoming:
        await take(request, incoming, *await _room(project_id))
        sha256, size = await run_in_threadpool(uploads.keep, store, project_id, incoming)
    return wire.BlobKept(sha256=sha256, size_bytes=size)


@router.get("/blobs/{sha256}/upload")
def read_upload(actor: SignedIn, project: str, sha256: str, request: Request, response: Response) -> wire.UploadState:
    """Tell how many bytes of an upload have arrived; also in the header Upload-Offset."""
    offset, complete = uploads.offset_of(actor, store_of(request), project, check_sha256(sha256))
    response.headers["Upload-Offset"] = str(offset)
    return wire.UploadState(offset=offset, complete=complete)


@router.patch("/blobs/{sha256}", openapi_extra=BYTES_BODY)
async def continue_blob(
    actor: SignedIn,
    project: str,
    sha256: str,
    request: Request,
    response: Response,
    upload_offset: Annotated[int, Header(ge=0, description="How many bytes have arrived before these.")],
    upload_length: Annotated[int, Header(ge=0, lt=2**63, description="How many bytes there are in all.")],
) -> wire.UploadState:
    """Send bytes from an offset on. What arrives is kept if the connection breaks; with the last byte it is verified.

    409 tells where another offset is expected, or where somebody else is sending the same bytes just now.
    """
    check_sha256(sha256)
    project_id = await run_in_threadpool(uploads.may_upload, actor, project, sha256)
    store = store_of(request)
    incoming = uploads.go_on(store, project_id, sha256, upload_offset)
    await run_in_threadpool(incoming.__enter__)
    try:
        room, over = await _room(project_id)
        if room is not None and upload_length > room:
            raise over
        await take(request, incoming, upload_length)
        complete = incoming.size == upload_length
        if complete:
            await run_in_threadpool(uploads.keep, store, project_id, incoming)
    except ClientDisconnect:
        complete = False
    finally:
        await run_in_threadpool(incoming.__exit__)
    response.headers["Upload-Offset"] = str(incoming.size)
    return wire.UploadState(offset=incoming.size, complete=complete)


async def _room(project_id: int) -> tuple[int | None, KinetrumError]:
    """Return how many bytes a project may store still, None where that is not bounded, and what to say of more."""
    room = await run_in_threadpool(quotas.room_for_bytes, project_id)
    return room, TooLarge("") if room is None else await run_in_threadpool(quotas.refusal_of_bytes, project_id)


async def take(
    request: Request, incoming: Incoming | Arrival, at_most: int | None = None, over: KinetrumError | None = None
) -> None:
    """Write a request's body to where it is taken in, a piece at a time; of over `at_most` bytes it raises `over`."""
    waiting = bytearray()
    arrived = incoming.size
    try:
        async for piece in request.stream():
            waiting += piece
            arrived += len(piece)
            if at_most is not None and arrived > at_most:
                raise over or InvalidInput(f"More than the announced {at_most} bytes came.", field="Upload-Length")
            if len(waiting) >= PIECE:
                await run_in_threadpool(incoming.write, bytes(waiting))
                waiting.clear()
    except ClientDisconnect:
        if incoming.resumable and waiting:
            await run_in_threadpool(incoming.write, bytes(waiting))
        raise
    await run_in_threadpool(incoming.write, bytes(waiting))
