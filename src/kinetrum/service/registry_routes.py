"""Routes for models, reviews and stages."""

from __future__ import annotations

from fastapi import APIRouter

from kinetrum.actions import registry, registry_views
from kinetrum.service import shapes
from kinetrum.service.access import SignedIn
from kinetrum.wire import registry as wire

router = APIRouter(prefix="/projects/{project}")


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
