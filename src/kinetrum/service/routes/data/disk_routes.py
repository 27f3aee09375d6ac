"""Routes for room: what takes how much, the bin, purges; and the check of the store, for administrators."""

from __future__ import annotations

import json
from collections.abc import Iterator

from fastapi import Request
from fastapi.responses import StreamingResponse
from starlette.concurrency import run_in_threadpool

from kinetrum.actions.data import disk_usage, store_check
from kinetrum.actions.runs import bin
from kinetrum.service.http.access import SignedIn
from kinetrum.service.http.routers import make_router
from kinetrum.service.http.store import store_of
from kinetrum.service.routes.data.blob_routes import BYTES_BODY, take
from kinetrum.wire import artifacts
from kinetrum.wire import disk_usage as wire

router = make_router(tags=["room"])
_PROJECT = "/projects/{project}"


@router.get(f"{_PROJECT}/bin")
def list_bin(actor: SignedIn, project: str) -> list[bin.BinnedThing]:
    """List the runs and versions in the bin, the latest first."""
    return bin.list_bin(actor, project)


@router.post(f"{_PROJECT}/bin")
def bin_things(actor: SignedIn, project: str, body: wire.ThingsNamed) -> wire.Moved:
    """Put runs and versions into the bin: one's own, or as a maintainer anybody's."""
    return wire.Moved.model_validate(bin.bin_things(actor, project, body.things, body.children))


@router.post(f"{_PROJECT}/bin/restored")
def restore_things(actor: SignedIn, project: str, body: wire.ThingsNamed) -> wire.Moved:
    """Take runs and versions out of the bin."""
    return wire.Moved.model_validate(bin.restore_things(actor, project, body.things, body.children))


@router.post(f"{_PROJECT}/purges")
def purge(actor: SignedIn, project: str, body: wire.NewPurge, request: Request) -> disk_usage.Purge:
    """Free the room of what is in the bin for good, or tell what that would free; for maintainers."""
    if body.only_tell:
        outcome = disk_usage.preview_purge(actor, project, body.things, body.keep_files)
    else:
        outcome = disk_usage.purge(actor, store_of(request), project, body.things, body.keep_files)
    return outcome


@router.get(f"{_PROJECT}/storage")
def read_usage(actor: SignedIn, project: str, request: Request) -> disk_usage.Usage:
    """Read what takes how much in a project: its artifacts, its experiments, its bin."""
    return disk_usage.read_usage(actor, store_of(request), project)


@router.get("/storage")
def read_all_usage(actor: SignedIn, request: Request) -> wire.InstanceUsage:
    """Read what all projects take; for administrators."""
    projects, files, size, free = disk_usage.read_all_usage(actor, store_of(request))
    return wire.InstanceUsage(
        projects=[wire.ProjectUsage(project=name, files=count, size_bytes=total) for name, count, total in projects],
        files=files,
        size_bytes=size,
        disk_free_bytes=free,
    )


@router.post(
    "/storage/checks",
    response_class=StreamingResponse,
    responses={200: {"description": "A JSON object a line.", "content": {"application/jsonl": {}}}},
)
def check_store(actor: SignedIn, request: Request, body: wire.NewCheck) -> StreamingResponse:
    """Read every stored file and tell, a JSON object a line, faults as they are found and how far the check is.

    A fault has `sha256`, `state` (damaged, missing, orphaned, whole again), `size_bytes` and `held_by`; the others
    have `files`, `of_files`, `size_bytes` and `of_bytes`. For administrators.
    """
    outcome = store_check.check_store(actor, store_of(request), body.remove_orphans)

    def lines() -> Iterator[bytes]:
        for item in outcome:
            yield json.dumps(vars(item)).encode() + b"\n"

    return StreamingResponse(lines(), media_type="application/jsonl")


@router.put("/storage/blobs/{sha256}", openapi_extra=BYTES_BODY)
async def repair_blob(actor: SignedIn, sha256: str, request: Request) -> artifacts.BlobKept:
    """Send a copy of bytes that are damaged or missing; verified, it takes their place. For administrators."""
    incoming = await run_in_threadpool(store_check.begin_repair, actor, store_of(request), sha256)
    with incoming:
        await take(request, incoming)
        size = await run_in_threadpool(store_check.finish_repair, actor, store_of(request), incoming)
    return artifacts.BlobKept(sha256=sha256, size_bytes=size)
