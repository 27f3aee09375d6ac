"""Routes for versions of models: registering, evidence, review, stages, consuming."""

from __future__ import annotations

from dataclasses import replace
from typing import Annotated

from fastapi import Depends, Query, Request, Response
from fastapi.responses import StreamingResponse

from kinetrum.actions.registry import (
    evidence_records,
    fetching,
    gate_outcomes,
    model_settings,
    model_state,
    registration,
    registry_views,
    reviews,
    stage_acts,
    version_lookup,
)
from kinetrum.core.base.values import from_json
from kinetrum.service.guard.turns import FETCHES, JUDGING, in_turn
from kinetrum.service.http import bundles
from kinetrum.service.http.access import SignedIn
from kinetrum.service.http.routers import make_router
from kinetrum.service.http.store import store_of
from kinetrum.service.presenters import registry_shapes as shapes
from kinetrum.service.routes.data.file_routes import (
    OUT,
    BundleAsked,
    FileAsked,
    answer_bundle,
    answer_file,
    bundle_asked,
    file_asked,
)
from kinetrum.wire import registry as wire

router = make_router(prefix="/projects/{project}", tags=["models"])


@router.get("/names/{name}")
def what_is(actor: SignedIn, project: str, name: str) -> wire.Named:
    """Tell what a bare name is: experiment, artifact, model."""
    identity = version_lookup.what_is(actor, project, name)
    return wire.Named(name=identity.name, things=identity.things)


@router.post("/models/{model}/versions", status_code=201, dependencies=[in_turn(JUDGING)])
def register_version(
    actor: SignedIn, project: str, model: str, body: wire.NewModelVersion, request: Request
) -> wire.ModelVersionDetail:
    """Register an artifact version as the model's next version; the model is made on first use."""
    values = {key: from_json(value, key) for key, value in body.values.items()}
    candidate = registration.Candidate(
        body.artifact, body.run, body.step, body.best, body.origin, body.comment, body.labels, values, body.signature
    )
    made = registration.register(actor, store_of(request), project, model, body.id, candidate)
    return shapes.version_detail(registry_views.read_model_version(actor, project, model, str(made.number)))


@router.get("/models/{model}/versions/{version}")
def read_model_version(actor: SignedIn, project: str, model: str, version: str) -> wire.ModelVersionDetail:
    """Read a version by number, by stage, `lead`, `newest`, or `sha256:…` of its files."""
    return shapes.version_detail(registry_views.read_model_version(actor, project, model, version))


@router.patch("/models/{model}/versions/{version}/labels", status_code=204)
def label_model_version(actor: SignedIn, project: str, model: str, version: int, body: wire.NewLabels) -> None:
    """Set labels on a version; a label given as null is taken away."""
    model_settings.label_model_version(actor, project, model, version, body.labels)


@router.post("/models/{model}/versions/{version}/evidence", status_code=201)
def add_evidence(
    actor: SignedIn, project: str, model: str, version: int, body: wire.NewEvidence
) -> list[wire.Evidence]:
    """Pin what a run found out on named data to a version; returns all of its evidence."""
    evidence_records.add_evidence(actor, project, model, version, body.id, body.on, body.run)
    version_view = registry_views.read_model_version(actor, project, model, str(version))
    return [shapes.evidence(one) for one in version_view.evidence]


@router.get("/models/{model}/versions/{version}/review", dependencies=[in_turn(JUDGING)])
def read_review(
    actor: SignedIn,
    project: str,
    model: str,
    version: str,
    request: Request,
    stage: Annotated[str | None, Query(description="By default the highest.")] = None,
    against: Annotated[str | None, Query(description="Another version, in the place of a stage's occupant.")] = None,
) -> wire.VersionReview:
    """Put a version beside a stage's occupant or beside another version: gates, results on the same data, changes."""
    return shapes.review(reviews.review_version(actor, store_of(request), project, model, version, stage, against))


@router.get("/models/{model}/versions/{version}/gates/{stage}", dependencies=[in_turn(JUDGING)])
def look_at_gates(actor: SignedIn, project: str, model: str, version: int, stage: str, request: Request) -> wire.Gates:
    """Judge a stage's gates for a version now, changing nothing."""
    checks, _ = gate_outcomes.look_at_gates(actor, store_of(request), project, model, stage, version)
    return wire.Gates(stage=stage, met=all(check.met for check in checks), checks=checks)


@router.put("/models/{model}/versions/{version}/verdict")
def give_verdict(actor: SignedIn, project: str, model: str, version: int, body: wire.NewVerdict) -> wire.ReviewState:
    """Approve or reject a version, or take one's verdict back."""
    approves = None if body.verdict is None else body.verdict == "approve"
    return wire.ReviewState(review=model_state.review(actor, project, model, version, approves, body.comment))


@router.put("/models/{model}/versions/{version}/retirement", status_code=204)
def set_retirement(actor: SignedIn, project: str, model: str, version: int, body: wire.Retirement) -> None:
    """Retire a version, or take that back; for maintainers."""
    model_state.retire(actor, project, model, version, body.retired, body.comment)


@router.put("/models/{model}/lead", status_code=204)
def choose_lead(actor: SignedIn, project: str, model: str, body: wire.NewLead) -> None:
    """Choose the lead version; for maintainers."""
    model_state.choose_lead(actor, project, model, body.version, body.comment)


@router.post("/models/{model}/stages/{stage}/promotions", dependencies=[in_turn(JUDGING)])
def promote(
    actor: SignedIn, project: str, model: str, stage: str, body: wire.Promotion, request: Request
) -> wire.Model:
    """Place a version on a stage, over the occupant that was seen there, through the stage's gates."""
    stage_acts.promote(
        actor,
        store_of(request),
        project,
        model,
        stage,
        body.version,
        stage_acts.StageAct(body.expect, body.comment, body.id, body.override),
    )
    return shapes.model(registry_views.read_model(actor, project, model))


@router.post("/models/{model}/stages/{stage}/demotions")
def demote(actor: SignedIn, project: str, model: str, stage: str, body: wire.StageAct) -> wire.Model:
    """Empty a stage."""
    stage_acts.demote(actor, project, model, stage, stage_acts.StageAct(body.expect, body.comment, body.id))
    return shapes.model(registry_views.read_model(actor, project, model))


@router.post("/models/{model}/stages/{stage}/rollbacks")
def roll_back(actor: SignedIn, project: str, model: str, stage: str, body: wire.StageAct) -> wire.Model:
    """Put a stage back to the latest earlier version that can stand."""
    stage_acts.roll_back(actor, project, model, stage, stage_acts.StageAct(body.expect, body.comment, body.id))
    return shapes.model(registry_views.read_model(actor, project, model))


@router.post("/models/{model}/versions/{version}/fetches", tags=["models"])
def fetch_version(actor: SignedIn, project: str, model: str, version: str) -> wire.ModelVersionDetail:
    """Resolve a version for a consumer and count that; its files are then read one by one."""
    return shapes.version_detail(fetching.fetch(actor, project, model, version))


@router.head("/models/{model}/versions/{version}/files/{path:path}", include_in_schema=False)
@router.get("/models/{model}/versions/{version}/files/{path:path}", response_class=Response, responses=OUT)
def download_version_file(
    actor: SignedIn,
    project: str,
    model: str,
    version: str,
    path: str,
    file_request: Annotated[FileAsked, Depends(file_asked)],
    counted: Annotated[bool, Query(description="Whether this counts as a fetch of the version.")] = True,
) -> Response:
    """Download a version's file by number, stage, `lead` or digest; as for artifacts, verified."""
    number, entry, warning = fetching.entry_of(actor, project, model, version, path)
    answer = answer_file(file_request, entry, path, None)
    answer.headers["Kinetrum-Version"] = f"{model}@{number}"
    if warning:
        answer.headers["Kinetrum-Warning"] = warning
    if counted and answer.status_code == 200 and file_request.request.method == "GET":
        fetching.count(actor, project, model, version)
    return answer


@router.get(
    "/models/{model}/versions/{version}/bundle",
    response_class=StreamingResponse,
    responses={200: {"content": {kind: {} for kind in bundles.MEDIA_TYPES.values()}}},
    dependencies=[in_turn(FETCHES, while_streaming=True)],
)
def download_version_bundle(
    actor: SignedIn,
    project: str,
    model: str,
    version: str,
    bundle_request: Annotated[BundleAsked, Depends(bundle_asked)],
    counted: Annotated[bool, Query(description="Whether this counts as a fetch of the version.")] = True,
) -> StreamingResponse:
    """Download all files of a version as one bundle, by number, stage, `lead` or digest."""
    version_view = registry_views.read_model_version(actor, project, model, version)
    # Told as what was asked for: the artifact may be of a project that is not seen.
    version_row = replace(version_view.version.artifact, name=model, number=version_view.version.number)
    answer = answer_bundle(bundle_request, version_row, version_view.files, model)
    answer.headers["Kinetrum-Version"] = f"{model}@{version_view.version.number}"
    if version_view.version.warning:
        answer.headers["Kinetrum-Warning"] = version_view.version.warning
    if counted:
        fetching.count(actor, project, model, version)
    return answer
