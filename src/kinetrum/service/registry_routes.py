"""Routes for blobs, artifacts, models, reviews and stages."""

from __future__ import annotations

import base64
from collections.abc import Iterator
from itertools import chain
from urllib.parse import quote

from fastapi import APIRouter, Request, Response
from fastapi.responses import StreamingResponse
from starlette.concurrency import run_in_threadpool

from kinetrum.actions import registry, registry_views, storing
from kinetrum.core.manifests import check_sha256
from kinetrum.service import shapes
from kinetrum.service.access import SignedIn
from kinetrum.service.run_routes import new_version
from kinetrum.storage.blobs import PIECE, BlobStore
from kinetrum.wire import registry as wire

router = APIRouter(prefix="/projects/{project}")


def _store(request: Request) -> BlobStore:
    store: BlobStore = request.app.state.blobs
    return store


@router.post("/blobs/missing", tags=["artifacts"])
def list_missing_blobs(actor: SignedIn, project: str, body: wire.Digests) -> wire.MissingBlobs:
    """Tell which bytes have to be sent: those that nothing one may see in this project contains."""
    return wire.MissingBlobs(missing=storing.missing_blobs(actor, project, body.sha256))


@router.put(
    "/blobs/{sha256}",
    tags=["artifacts"],
    openapi_extra={
        "requestBody": {
            "required": True,
            "content": {"application/octet-stream": {"schema": {"type": "string", "format": "binary"}}},
        }
    },
)
async def put_blob(actor: SignedIn, project: str, sha256: str, request: Request) -> wire.BlobKept:
    """Send bytes; they are kept only if their SHA-256 is the one in the address."""
    check_sha256(sha256)
    wanted = await run_in_threadpool(storing.may_upload, actor, project, sha256)
    with storing.receive(_store(request), sha256) as incoming:
        waiting = bytearray()
        async for piece in request.stream():
            waiting += piece
            if len(waiting) >= PIECE:
                await run_in_threadpool(incoming.write, bytes(waiting))
                waiting.clear()
        await run_in_threadpool(incoming.write, bytes(waiting))
        size = await run_in_threadpool(incoming.finish)
    if wanted:
        await run_in_threadpool(storing.note_received, actor, project, sha256, size)
    return wire.BlobKept(sha256=sha256, size_bytes=size)


@router.get("/artifacts", tags=["artifacts"])
def list_artifacts(actor: SignedIn, project: str) -> list[wire.ArtifactVersion]:
    """List the newest version of every artifact."""
    return [shapes.artifact_version(row) for row in storing.list_artifacts(actor, project)]


@router.post("/artifacts/{artifact}/versions", tags=["artifacts"])
def keep_version(actor: SignedIn, project: str, artifact: str, body: wire.NewContent) -> wire.ArtifactVersion:
    """Keep content under a name without a run; equal to the newest version, it makes no new one."""
    named = body.model_copy(update={"name": artifact})
    return shapes.artifact_version(storing.keep_version(actor, project, new_version(named)))


@router.get("/artifacts/{artifact}/versions", tags=["artifacts"])
def list_artifact_versions(actor: SignedIn, project: str, artifact: str) -> list[wire.ArtifactVersion]:
    """List an artifact's versions, the newest first."""
    return [shapes.artifact_version(row) for row in storing.list_versions(actor, project, artifact)]


@router.get("/artifacts/{artifact}/versions/{version}", tags=["artifacts"])
def read_artifact_version(actor: SignedIn, project: str, artifact: str, version: str) -> wire.ArtifactVersionDetail:
    """Read a version, by number or `latest`, with its files and the runs that used or generated it."""
    detail = storing.read_version(actor, project, artifact, version)
    return wire.ArtifactVersionDetail(
        **shapes.artifact_version(detail.version).model_dump(),
        files=shapes.files(detail.files),
        runs=[
            wire.RunOfVersion(relation="used" if relation == "used" else "generated", run=run)
            for relation, run in detail.runs
        ],
    )


@router.get(
    "/artifacts/{artifact}/versions/{version}/files/{path:path}",
    tags=["artifacts"],
    response_class=Response,
    responses={200: {"content": {"application/octet-stream": {}}}},
)
def download_file(actor: SignedIn, project: str, artifact: str, version: str, path: str, request: Request) -> Response:
    """Download one file; its SHA-256 stands in Repr-Digest (RFC 9530), and damaged bytes are never sent whole."""
    opened = storing.open_file(actor, _store(request), project, artifact, version, path)
    # Taken before the answer begins: what fits in one piece is verified by then and can still be refused.
    first = next(opened.pieces, b"")
    digest = base64.b64encode(bytes.fromhex(opened.entry.sha256)).decode()
    name = quote(path.rpartition("/")[2])
    headers = {
        "Content-Length": str(opened.entry.size),
        "Repr-Digest": f"sha-256=:{digest}:",
        "ETag": f'"{opened.entry.sha256}"',
        "Content-Disposition": f"attachment; filename*=UTF-8''{name}",
        "Content-Security-Policy": "sandbox; default-src 'none'",
    }
    pieces: Iterator[bytes] = chain([first], opened.pieces)
    return StreamingResponse(pieces, media_type="application/octet-stream", headers=headers)


@router.get("/names/{name}", tags=["models"])
def what_is(actor: SignedIn, project: str, name: str) -> wire.Named:
    """Tell what a bare name is: experiment, artifact, model."""
    found = registry_views.what_is(actor, project, name)
    return wire.Named(name=found.name, things=found.things)


@router.get("/models", tags=["models"])
def list_models(actor: SignedIn, project: str) -> list[wire.Model]:
    """List a project's models with their ladders."""
    return [shapes.model(view) for view in registry_views.list_models(actor, project)]


@router.get("/models/{model}", tags=["models"])
def read_model(actor: SignedIn, project: str, model: str) -> wire.Model:
    """Read a model: ladder, versions, timeline."""
    return shapes.model(registry_views.read_model(actor, project, model))


@router.post("/models/{model}/versions", tags=["models"], status_code=201)
def register_version(actor: SignedIn, project: str, model: str, body: wire.NewModelVersion) -> wire.ModelVersionDetail:
    """Register an artifact version as the model's next version; the model is made on first use."""
    made = registry.register(actor, project, model, body.id, body.artifact, body.run, body.origin, body.comment)
    return shapes.version_detail(registry_views.read_model_version(actor, project, model, str(made.number)))


@router.get("/models/{model}/versions/{version}", tags=["models"])
def read_model_version(actor: SignedIn, project: str, model: str, version: str) -> wire.ModelVersionDetail:
    """Read a version by number, by stage, or `lead`."""
    return shapes.version_detail(registry_views.read_model_version(actor, project, model, version))


@router.put("/models/{model}/versions/{version}/verdict", tags=["models"])
def give_verdict(actor: SignedIn, project: str, model: str, version: int, body: wire.NewVerdict) -> wire.ReviewState:
    """Approve or reject a version, or take one's verdict back."""
    approves = None if body.verdict is None else body.verdict == "approve"
    return wire.ReviewState(review=registry.review(actor, project, model, version, approves, body.comment))


@router.put("/models/{model}/versions/{version}/retirement", tags=["models"], status_code=204)
def set_retirement(actor: SignedIn, project: str, model: str, version: int, body: wire.Retirement) -> None:
    """Retire a version, or take that back; for maintainers."""
    registry.retire(actor, project, model, version, body.retired, body.comment)


@router.put("/models/{model}/lead", tags=["models"], status_code=204)
def choose_lead(actor: SignedIn, project: str, model: str, body: wire.NewLead) -> None:
    """Choose the lead version; for maintainers."""
    registry.choose_lead(actor, project, model, body.version, body.comment)


@router.post("/models/{model}/stages/{stage}/promotions", tags=["models"])
def promote(actor: SignedIn, project: str, model: str, stage: str, body: wire.Promotion) -> wire.Model:
    """Place a version on a stage, over the occupant that was seen there."""
    registry.promote(actor, project, model, stage, body.version, body.expect, body.comment, body.id)
    return shapes.model(registry_views.read_model(actor, project, model))


@router.post("/models/{model}/stages/{stage}/demotions", tags=["models"])
def demote(actor: SignedIn, project: str, model: str, stage: str, body: wire.StageAct) -> wire.Model:
    """Empty a stage."""
    registry.demote(actor, project, model, stage, body.expect, body.comment, body.id)
    return shapes.model(registry_views.read_model(actor, project, model))


@router.post("/models/{model}/stages/{stage}/rollbacks", tags=["models"])
def roll_back(actor: SignedIn, project: str, model: str, stage: str, body: wire.StageAct) -> wire.Model:
    """Put a stage back to the latest earlier version that can stand."""
    registry.roll_back(actor, project, model, stage, body.expect, body.comment, body.id)
    return shapes.model(registry_views.read_model(actor, project, model))
