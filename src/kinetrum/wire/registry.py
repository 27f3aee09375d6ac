"""Models, versions, stages."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import Field

from kinetrum.actions.registry.reviews import OnData, PackageChoice
from kinetrum.core.base.goals import Goal
from kinetrum.core.base.manifests import FileEntry
from kinetrum.core.registry.gates import FormField, GateCheck
from kinetrum.core.registry.signature import Signature
from kinetrum.wire.artifacts import ArtifactVersion
from kinetrum.wire.base import Comment, Id, In, JsonValue, Moment, Out


class NewModelVersion(In):
    """`artifact` is NAME@NUMBER, or with `run` the bare name of what that run generated.

    Where the run generated several of that name, `step` chooses the checkpoint of a step, `best` the one at which a
    metric with a goal was best. `values` are added to those of the run; `signature` is {inputs, outputs} inferred from
    a sample.
    """

    id: Id
    artifact: str
    run: str | None = None
    step: int | None = Field(None, ge=-(2**62), le=2**62)
    best: str | None = Field(None, max_length=250)
    origin: str | None = Field(None, max_length=2_000)
    comment: Comment = ""
    labels: dict[str, str] = {}
    values: dict[str, JsonValue] = {}
    signature: dict[str, Any] | None = None


class Verdict(Out):
    """The standing verdict of a person; `older`: it was given before the version's newest evidence came."""

    person: str
    approves: bool
    comment: str
    given_at: Moment
    older: bool


class ImportedVerdict(Out):
    """A verdict that stood where a version was imported from; it counts for nothing here."""

    said_by: str
    approves: bool
    comment: str
    given_at: Moment


class NewVerdict(In):
    """`verdict` null takes one's verdict back."""

    verdict: Literal["approve", "reject"] | None
    comment: Comment = ""


class ReviewState(Out):
    review: str


class ModelVersion(Out):
    """A version. One that was made from a checkpoint has `step`, and its `values` are those at that step.

    `earlier`: metrics without a point at that step, with the step of their latest point before it. `left_out`: keys of
    the run that say nothing of this checkpoint. `warning`: what is wrong with it for whoever fetches it.
    """

    reference: str
    number: int
    artifact: ArtifactVersion
    run: str | None
    origin: str | None
    comment: str
    registered_by: str
    registered_at: Moment
    review: Literal["pending", "approved", "rejected"]
    retired: bool
    damaged: bool
    verdicts: list[Verdict]
    approvals_needed: int
    stages: list[str]
    values: dict[str, JsonValue]
    step: int | None
    earlier: dict[str, int]
    left_out: list[str]
    warning: str | None
    imported_from: str | None
    goals: list[Goal]
    artifact_project: str | None = Field(description="null: in a project that the asker may not see")
    labels: dict[str, str]
    signature: Signature | None
    overrides: list[str] = Field(description="Gates that a maintainer overrode for it, with the reasons.")


class Evidence(Out):
    """Results of a version on named data, by a run; `rows` is the artifact with predictions row by row.

    `replaces`: the evidence on the same name that it came after. `refusal`: why the model's rules do not take it.
    """

    id: str
    number: int
    on: str
    digest: str | None
    run: str
    rows: str | None
    results: dict[str, JsonValue]
    person: str
    at: Moment
    replaces: str | None
    refusal: str | None
    imported_from: str | None


class NewEvidence(In):
    """What a run found out on named data; the run made the version's files or used them."""

    id: Id
    on: str = Field(max_length=250)
    run: str


class ModelVersionDetail(ModelVersion):
    model: str
    files: list[FileEntry]
    evidence: list[Evidence]
    dependencies: dict[str, str]
    obstacles: dict[str, str | None]
    why_not_approve: str | None
    left_out_evidence: dict[str, str]
    imported_verdicts: list[ImportedVerdict]


class Stage(Out):
    """A stage; `why_not`: why the asker may not place on it, null where that is allowed."""

    name: str
    asks_approved: bool
    least_role: str
    placers: list[str]
    occupant: int | None
    since: str | None
    placed_by: str | None
    warning: str | None
    why_not: str | None


class StageEvent(Out):
    act: Literal["promote", "demote", "roll back"]
    stage: str
    before: int | None
    after: int | None
    person: str
    comment: str
    at: Moment
    checks: list[GateCheck] | None
    override_reason: str | None
    imported_from: str | None


class EvidenceRule(Out):
    """What evidence on a name is bound to: the people who add it (none: anybody), the experiment of its run."""

    people: list[str]
    experiment: str | None


class Model(Out):
    """A model; `why_not` tells of each act why the asker may not do it, null where that is allowed."""

    name: str
    project: str
    purpose: str
    person: str
    person_name: str
    created_at: Moment
    labels: dict[str, str]
    image: str | None
    approvals_needed: int
    second_pair: bool
    renewed_approvals: bool
    evidence_rules: dict[str, EvidenceRule]
    card: str
    card_revision: int
    card_sections: list[str]
    missing_sections: list[str]
    gates: str
    stages: list[Stage]
    versions: list[ModelVersion]
    events: list[StageEvent]
    lead: int | None
    lead_chosen: bool
    why_not: dict[str, str | None]
    imported_from: str | None
    binned_at: Moment | None


class StageAtAGlance(Out):
    name: str
    occupant: int | None
    since: Moment | None
    placed_by: str | None
    warning: str | None


class ModelAtAGlance(Out):
    """A model of a list: its ladder, and how many of its versions are pending, approved, rejected."""

    name: str
    project: str
    purpose: str
    person: str
    labels: dict[str, str]
    image: str | None
    stages: list[StageAtAGlance]
    lead: int | None
    versions: int
    reviews: dict[str, int]
    newest_at: Moment | None


class ModelList(Out):
    """A stretch of the models that fit; `count`: how many fit altogether."""

    models: list[ModelAtAGlance]
    count: int


class NewCard(In):
    """A card over the revision that was seen."""

    card: str
    expect: int


class CardRevision(Out):
    revision: int


class ModelDescription(In):
    """What is left out or null stays; a label given as null is taken away, an empty image as well."""

    purpose: str | None = None
    owner: str | None = Field(None, description="The person to ask, by name.")
    labels: dict[str, str | None] = {}
    image: str | None = Field(None, description="NAME@NUMBER:PATH of an image that is kept.")


class BoundEvidence(In):
    """The people, by name, who alone add evidence on a name, and the experiment that its run belongs to."""

    people: list[str] = []
    experiment: str | None = None


class ModelRules(In):
    """What is left out or null stays."""

    approvals_needed: int | None = None
    second_pair: bool | None = None
    card_sections: list[str] | None = None
    renewed_approvals: bool | None = Field(
        None, description="Whether approvals older than the newest evidence have to be given again."
    )
    evidence: dict[str, BoundEvidence] | None = Field(None, description="All names at once; those left out are free.")
    confirmed: bool = Field(False, description="Also where versions that are approved now will no longer be.")


class NewStage(In):
    name: str
    asks_approved: bool = True
    least_role: Literal["contributor", "approver", "maintainer"] = "contributor"
    placers: list[str] = []


class NewLadder(In):
    """Stages from the lowest to the highest."""

    stages: list[NewStage]


class GateForm(Out):
    """A kind of gate, and the fields by which one is asked for; `several`: a stage may have more than one."""

    kind: str
    title: str
    several: bool
    fields: list[FormField]


class NewGate(In):
    """Gates as they are being written, and one more to add to a stage, by the fields of its kind's form."""

    gates: str = Field(max_length=20_000)
    stage: str
    kind: str
    fields: dict[str, str]


class GatesDraft(Out):
    gates: str


class NewGates(In):
    """A table of TOML per stage."""

    gates: str


class NewLabels(In):
    labels: dict[str, str | None]


class VersionReview(Out):
    """A version beside the occupant of a stage, or beside another version; its gates where a stage was asked.

    `emptied`: that and by whom the stage was emptied, where nothing stands there or it was filled again since.
    """

    sentence: str
    candidate: ModelVersionDetail
    other: ModelVersionDetail | None
    stage: str | None
    checks: list[GateCheck]
    obstacle: str | None
    why_not_place: str | None
    on_data: list[OnData]
    misfits: list[str] | None
    packages: list[PackageChoice]
    emptied: str | None


class Gates(Out):
    """What a stage's gates say of a version now."""

    stage: str
    met: bool
    checks: list[GateCheck]


class Promotion(In):
    """`expect` is the occupant that was seen on the stage; null for an empty stage."""

    id: Id
    version: int
    expect: int | None
    comment: Comment = ""
    override: str | None = Field(None, description="A maintainer's reason to place it although gates are not met.")


class StageAct(In):
    """`expect` is the occupant that was seen on the stage; null for an empty stage."""

    id: Id
    expect: int | None
    comment: Comment = ""


class NewLead(In):
    """`version` null leaves it to the highest occupied stage."""

    version: int | None
    comment: Comment = ""


class Retirement(In):
    retired: bool
    comment: Comment = ""


class Named(Out):
    name: str
    things: list[str]
