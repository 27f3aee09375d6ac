"""How models, versions and reviews look on the wire."""

from __future__ import annotations

from typing import Any

from kinetrum.actions.registry.model_list import Listed, ModelPage
from kinetrum.actions.registry.registry_views import EvidenceView, ModelView, StageView, VersionDetailView, VersionView
from kinetrum.actions.registry.reviews import ReviewView
from kinetrum.core.lineage.graph import HIDDEN
from kinetrum.service.presenters.shapes import artifact_version, json_values
from kinetrum.wire import registry as wire
from kinetrum.wire.artifacts import ArtifactVersion


def _version_fields(view: VersionView) -> dict[str, Any]:
    return {
        "reference": f"{view.model}@{view.number}",
        "number": view.number,
        "artifact": _artifact(view),
        "artifact_project": view.artifact_project,
        "run": view.run,
        "origin": view.origin,
        "comment": view.comment,
        "labels": view.labels,
        "registered_by": view.registered_by,
        "registered_at": view.registered_at,
        "review": view.review.value,
        "retired": view.retired,
        "damaged": view.damaged,
        "verdicts": [wire.Verdict.model_validate(verdict) for verdict in view.verdicts],
        "approvals_needed": view.approvals_needed,
        "stages": view.stages,
        "values": json_values(dict(view.values.values)),
        "step": view.values.step,
        "earlier": dict(view.values.earlier),
        "left_out": list(view.values.left_out),
        "warning": view.warning,
        "goals": list(view.goals.values()),
        "signature": view.signature,
        "overrides": view.overrides,
        "imported_from": view.imported_from,
    }


def _artifact(view: VersionView) -> ArtifactVersion:
    """Shape the artifact version; of one in a project that may not be seen, only what was handed over with it."""
    shape = artifact_version(view.artifact)
    if view.artifact_project is not None:
        return shape
    hidden = {"reference": HIDDEN, "name": "", "number": 0, "about": {}, "labels": {}, "bin_reason": None}
    return shape.model_copy(update=hidden)


def evidence(view: EvidenceView) -> wire.Evidence:
    """Shape a piece of evidence."""
    return wire.Evidence(
        id=view.uid,
        number=view.number,
        on=view.on,
        digest=view.digest,
        run=view.run,
        rows=view.rows,
        results=view.results,
        person=view.person,
        at=view.at,
        replaces=view.replaces,
        refusal=view.refusal,
        imported_from=view.imported_from,
    )


def version_detail(view: VersionDetailView) -> wire.ModelVersionDetail:
    """Shape one model version with its files and evidence."""
    return wire.ModelVersionDetail(
        **_version_fields(view.version),
        model=view.version.model,
        files=list(view.files),
        evidence=[evidence(one) for one in view.evidence],
        dependencies=view.dependencies,
        obstacles=view.obstacles,
        why_not_approve=view.why_not_approve,
        left_out_evidence=view.left_out,
        imported_verdicts=[wire.ImportedVerdict.model_validate(one) for one in view.imported_verdicts],
    )


def _stage(view: StageView) -> wire.Stage:
    return wire.Stage(
        name=view.stage.name,
        asks_approved=view.stage.asks_approved,
        least_role=view.stage.least_role,
        placers=list(view.stage.placers),
        occupant=view.occupant,
        since=view.since,
        placed_by=view.placed_by,
        warning=view.warning,
        why_not=view.why_not,
    )


def model(view: ModelView) -> wire.Model:
    """Shape a model."""
    row = view.row
    return wire.Model(
        name=row.name,
        project=view.project,
        purpose=row.purpose,
        person=view.person,
        person_name=view.person_name,
        created_at=row.created_at,
        labels=row.labels,
        image=row.image,
        approvals_needed=row.approvals_needed,
        second_pair=row.second_pair,
        card=row.card,
        card_revision=row.card_revision,
        card_sections=row.card_sections,
        missing_sections=view.missing_sections,
        renewed_approvals=row.renewed_approvals,
        evidence_rules={on: wire.EvidenceRule.model_validate(rule) for on, rule in row.evidence_rules.items()},
        gates=row.gates,
        stages=[_stage(stage) for stage in view.stages],
        versions=[wire.ModelVersion(**_version_fields(version)) for version in view.versions],
        events=[wire.StageEvent.model_validate(event) for event in view.events],
        lead=view.lead,
        lead_chosen=row.lead_number is not None,
        why_not=view.why_not,
        imported_from=row.imported_from,
        binned_at=row.binned_at,
    )


def _glance(listed: Listed) -> wire.ModelAtAGlance:
    one = listed.summary
    return wire.ModelAtAGlance(
        name=one.name,
        project=one.project,
        purpose=one.purpose,
        person=one.person,
        labels=one.labels,
        image=one.image,
        stages=[
            wire.StageAtAGlance(
                name=stage_held.stage.name,
                occupant=stage_held.number,
                since=stage_held.since,
                placed_by=stage_held.placed_by,
                warning=listed.warnings.get(stage_held.stage.name),
            )
            for stage_held in one.stages
        ],
        lead=listed.lead,
        versions=one.last_number,
        reviews={str(key): count for key, count in one.reviews.items()},
        newest_at=one.newest_at,
    )


def model_list(page: ModelPage) -> wire.ModelList:
    """Shape a list of models."""
    return wire.ModelList(models=[_glance(one) for one in page.models], count=page.count)


def review(view: ReviewView) -> wire.VersionReview:
    """Shape a review."""
    return wire.VersionReview(
        sentence=view.sentence,
        candidate=version_detail(view.candidate),
        other=version_detail(view.other) if view.other else None,
        stage=view.stage,
        checks=view.checks,
        obstacle=view.obstacle,
        why_not_place=view.why_not_place,
        on_data=view.on_data,
        misfits=view.misfits,
        packages=view.packages,
        emptied=view.emptied,
    )
