"""Routes for archives: a run, an experiment or an artifact out as an RO-Crate, and in again elsewhere."""

from __future__ import annotations

import secrets
from typing import Annotated
from urllib.parse import urlsplit

from fastapi import Query, Request
from fastapi.responses import StreamingResponse
from starlette.concurrency import run_in_threadpool

from kinetrum.actions.archives import imported, packing
from kinetrum.actions.archives.import_process import run_import
from kinetrum.actions.data import uploads
from kinetrum.service.guard.turns import EXPORTS, IMPORTS, in_turn
from kinetrum.service.http.access import SignedIn
from kinetrum.service.http.public_address import public_address
from kinetrum.service.http.routers import make_router
from kinetrum.service.http.store import store_of
from kinetrum.service.routes.data.blob_routes import take
from kinetrum.storage.data.blobs import Arrival

router = make_router(prefix="/projects/{project}", tags=["archives"])
_ZIP = {"application/zip": {"schema": {"type": "string", "format": "binary"}}}


@router.get(
    "/archive",
    response_class=StreamingResponse,
    responses={200: {"content": {"application/zip": {}}}},
    dependencies=[in_turn(EXPORTS, while_streaming=True)],
)
def export_archive(
    actor: SignedIn,
    project: str,
    request: Request,
    of: Annotated[
        str | None,
        Query(max_length=400, description="A run, experiment:NAME, artifact:NAME, NAME@NUMBER; without it all."),
    ] = None,
    with_files: Annotated[bool, Query(description="Whether the bytes of stored files come along.")] = True,
    license_text: Annotated[str, Query(max_length=400, alias="license")] = "No licence was given.",
) -> StreamingResponse:
    """Download a run, an experiment or an artifact with all that belongs to it, as an RO-Crate (zip).

    Without `of` it is the whole project, with its views, notes and models.
    """
    chosen = packing.choose(actor, project, of, with_files, urlsplit(public_address(request)).netloc)
    name = "".join(c if c.isalnum() or c in "._-" else "-" for c in of or project)
    return StreamingResponse(
        packing.pack(actor, store_of(request), project, chosen, license_text),
        media_type="application/zip",
        headers={"Content-Disposition": f'attachment; filename="{name}.zip"'},
    )


@router.post("/imports", openapi_extra={"requestBody": {"required": True, "content": _ZIP}})
async def import_archive(
    actor: SignedIn,
    project: str,
    request: Request,
    same_people: Annotated[
        bool, Query(description="For administrators: people of the archive are the accounts of the same names here.")
    ] = False,
) -> imported.Imported:
    """Take an archive in, with its identities and times, marked as imported; twice does no harm."""
    await run_in_threadpool(uploads.may_upload, actor, project)
    store = store_of(request)
    with Arrival(store.incoming / f"archive-{secrets.token_hex(8)}") as arrival:
        await take(request, arrival)
        await run_in_threadpool(arrival.flush)
        async with IMPORTS.turn(actor.person_id):
            return await run_import(actor, store, project, arrival.path, same_people)
