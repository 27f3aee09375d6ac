"""Routes for models as a whole: lists, cards, rules, ladders, gates, who fetches, feeds."""

from __future__ import annotations

from typing import Annotated, Literal

from fastapi import Query, Request, Response

from kinetrum.actions.people import journal_records
from kinetrum.actions.registry import fetching, model_list, model_settings, registry_views
from kinetrum.core.base.permissions import Role
from kinetrum.core.registry.gates import KINDS
from kinetrum.core.registry.ladder import Stage
from kinetrum.service.http.access import SignedIn
from kinetrum.service.http.public_address import public_address
from kinetrum.service.http.routers import make_router
from kinetrum.service.live import feeds
from kinetrum.service.presenters import registry_shapes
from kinetrum.storage.registry.fetches import Fetch
from kinetrum.wire import registry as wire

router = make_router(tags=["models"])
State = Literal["pending", "warning", "unplaced"]
Find = Annotated[str, Query(max_length=200, description="Words that each stand in name, purpose, person or labels.")]
Offset = Annotated[int, Query(ge=0, le=1_000_000)]
Limit = Annotated[int, Query(ge=1, le=1_000)]


@router.get("/models")
def list_all_models(
    actor: SignedIn, find: Find = "", state: State | None = None, offset: Offset = 0, limit: Limit = 100
) -> wire.ModelList:
    """List the models of all projects that one may see, with their ladders at a glance."""
    return registry_shapes.model_list(model_list.list_models(actor, None, find, state, offset, limit))


@router.get("/projects/{project}/models")
def list_models(
    actor: SignedIn, project: str, find: Find = "", state: State | None = None, offset: Offset = 0, limit: Limit = 100
) -> wire.ModelList:
    """List a project's models with their ladders at a glance."""
    return registry_shapes.model_list(model_list.list_models(actor, project, find, state, offset, limit))


@router.get("/projects/{project}/models/{model}")
def read_model(actor: SignedIn, project: str, model: str) -> wire.Model:
    """Read a model: card, rules, ladder, versions, timeline."""
    return registry_shapes.model(registry_views.read_model(actor, project, model))


@router.put("/projects/{project}/models/{model}/card")
def write_card(actor: SignedIn, project: str, model: str, body: wire.NewCard) -> wire.CardRevision:
    """Write a model's card over the revision that was seen; refused where somebody wrote it since."""
    return wire.CardRevision(revision=model_settings.write_card(actor, project, model, body.card, body.expect))


@router.patch("/projects/{project}/models/{model}")
def describe_model(actor: SignedIn, project: str, model: str, body: wire.ModelDescription) -> wire.Model:
    """Set a model's purpose, the person to ask, labels, image."""
    model_settings.describe_model(
        actor, project, model, purpose=body.purpose, owner=body.owner, labels=body.labels, image=body.image
    )
    return registry_shapes.model(registry_views.read_model(actor, project, model))


@router.put("/projects/{project}/models/{model}/rules")
def rule_model(actor: SignedIn, project: str, model: str, body: wire.ModelRules) -> wire.Model:
    """Set a model's rules: approvals, a second pair of eyes, sections of the card, who adds evidence.

    Refused where versions that are approved would no longer be, unless that is confirmed.
    """
    model_settings.rule_model(actor, project, model, _new_rules(body), body.confirmed)
    return registry_shapes.model(registry_views.read_model(actor, project, model))


def _new_rules(body: wire.ModelRules) -> model_settings.NewRules:
    evidence = None if body.evidence is None else {on: rule.model_dump() for on, rule in body.evidence.items()}
    return model_settings.NewRules(
        body.approvals_needed, body.second_pair, body.card_sections, body.renewed_approvals, evidence
    )


@router.post("/projects/{project}/models/{model}/rules/preview")
def preview_rules(
    actor: SignedIn, project: str, model: str, body: wire.ModelRules
) -> list[model_settings.ReviewChange]:
    """List the versions whose review a change of rules would turn; nothing is changed."""
    return model_settings.preview_rules(actor, project, model, _new_rules(body))


@router.put("/projects/{project}/models/{model}/ladder")
def set_ladder(actor: SignedIn, project: str, model: str, body: wire.NewLadder) -> wire.Model:
    """Put a ladder in the place of a model's; an occupied stage cannot be removed."""
    stages = [Stage(one.name, one.asks_approved, Role(one.least_role), tuple(one.placers)) for one in body.stages]
    model_settings.set_ladder(actor, project, model, stages)
    return registry_shapes.model(registry_views.read_model(actor, project, model))


@router.get("/gate-kinds")
def list_gate_kinds(actor: SignedIn) -> list[wire.GateForm]:
    """List the kinds of gates, with the fields by which one is asked for."""
    return [
        wire.GateForm(kind=kind.kind, title=kind.title, several=kind.several, fields=list(kind.form)) for kind in KINDS
    ]


@router.post("/projects/{project}/models/{model}/gates/drafts")
def draft_gates(actor: SignedIn, project: str, model: str, body: wire.NewGate) -> wire.GatesDraft:
    """Write one more gate into gates that are being written; nothing is changed until they are set."""
    change = model_settings.OneMoreGate(body.gates, body.stage, body.kind, body.fields)
    return wire.GatesDraft(gates=model_settings.draft_gates(actor, project, model, change))


@router.put("/projects/{project}/models/{model}/gates")
def set_gates(actor: SignedIn, project: str, model: str, body: wire.NewGates) -> wire.Model:
    """Set a model's gates, a table of TOML per stage."""
    model_settings.set_gates(actor, project, model, body.gates)
    return registry_shapes.model(registry_views.read_model(actor, project, model))


@router.get("/projects/{project}/models/{model}/fetches")
def list_fetches(actor: SignedIn, project: str, model: str) -> list[Fetch]:
    """List who fetched which version, asked for how, how often and since when."""
    return fetching.list_fetches(actor, project, model)


@router.get(
    "/projects/{project}/models/{model}/feed",
    response_class=Response,
    responses={200: {"content": {feeds.MEDIA_TYPE: {}}}},
)
def read_feed(actor: SignedIn, project: str, model: str, request: Request) -> Response:
    """Read what happened to a model as an Atom feed (RFC 4287), the latest first."""
    view = registry_views.read_model(actor, project, model)
    entries = journal_records.read_model_journal(actor, project, model, feeds.ENTRIES)
    return Response(feeds.feed_of(view, entries, public_address(request)), media_type=feeds.MEDIA_TYPE)
