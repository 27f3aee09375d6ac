"""Gates asked of a version: facts gathered, predictions judged on the same rows, outcomes previewed or kept."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace

from kinetrum.actions.context import Actor, enter
from kinetrum.actions.data.table_rows import read_judged
from kinetrum.actions.registry.evidence_records import allowed_evidence, facts_of_evidence, latest_by_data
from kinetrum.actions.registry.model_state import ModelState, load_model, standing_of
from kinetrum.actions.registry.version_values import values_of_versions
from kinetrum.core.base.errors import Conflict, KinetrumError
from kinetrum.core.base.refs import VersionRef
from kinetrum.core.base.run_document import RunDoc
from kinetrum.core.registry import ladder as rules
from kinetrum.core.registry.card import missing_sections
from kinetrum.core.registry.gates import Better, Facts, Gate, GateCheck, check_gates, read_gates
from kinetrum.core.registry.review import Given, counting_approvals
from kinetrum.core.registry.signature import incompatibilities, signature_from_json
from kinetrum.core.registry.values import VersionValues
from kinetrum.core.statistics.noise.verdict import RowsVerdict
from kinetrum.storage.data import artifacts
from kinetrum.storage.data.blobs import BlobStore
from kinetrum.storage.db.clock import now
from kinetrum.storage.db.database import snapshot
from kinetrum.storage.people import projects
from kinetrum.storage.registry import evidence, models, stage_records, verdict_records
from kinetrum.storage.registry.evidence import EvidenceRow
from kinetrum.storage.registry.models import ModelVersionRow
from kinetrum.storage.runs import run_documents

# (evidence of the candidate, evidence of the occupant, confidence) to what the rows say, or why they say nothing.
Judged = dict[tuple[str, str, float], "list[RowsVerdict] | str"]


@dataclass(frozen=True)
class GateInquiry:
    """What a stage's gates ask of a version, and what they look at."""

    gates: tuple[Gate, ...]
    candidate: Facts
    occupant: Facts | None
    rows: dict[int, dict[str, EvidenceRow]] = field(default_factory=dict)

    def pairs(self) -> list[tuple[EvidenceRow, EvidenceRow, float]]:
        """Return the evidence whose rows are to be judged against one another."""
        if self.occupant is None or self.occupant.number == self.candidate.number:
            return []
        ours, theirs = self.rows[self.candidate.number], self.rows[self.occupant.number]
        return [
            (ours[gate.on], theirs[gate.on], gate.confidence)
            for gate in self.gates
            if isinstance(gate, Better)
            and gate.on in ours
            and gate.on in theirs
            and ours[gate.on].rows_version is not None
            and theirs[gate.on].rows_version is not None
        ]

    def check(self, judged: Judged) -> list[GateCheck]:
        """Judge every gate; raises Conflict where evidence came in since the rows were judged."""

        def judge(on: str, value: str, confidence: float) -> RowsVerdict | str:
            ours, theirs = self.rows[self.candidate.number][on], self.rows[(self.occupant or self.candidate).number][on]
            verdicts = judged.get((ours.uid, theirs.uid, confidence))
            if verdicts is None:
                raise Conflict(f"Evidence on {on} was added meanwhile; look at it and try again.", field="version")
            return verdicts if isinstance(verdicts, str) else _of_measure(verdicts, value)

        return check_gates(self.gates, self.candidate, self.occupant, judge, now().timestamp())


def _of_measure(verdicts: list[RowsVerdict], value: str) -> RowsVerdict | str:
    for verdict in verdicts:
        if verdict.measure == value:
            return verdict
    known = ", ".join(one.measure for one in verdicts) or "nothing"
    return f"{value} is not judged row by row; on these rows {known} are"


def asked_of(state: ModelState, stage_name: str, number: int) -> GateInquiry:
    """Gather what a stage's gates look at; inside a running transaction or snapshot.

    The version is held against the latest on the stage that is not rejected, also where the stage was emptied.
    """
    gates = read_gates(state.model.gates, [stage.name for stage in state.ladder]).get(stage_name, ())
    top = standard_of(state, stage_name)
    stack = state.stacks.get(stage_name, ())
    stands = bool(stack) and stack[-1].number == top
    rows = evidence.evidence_of(state.model.model_id)
    versions = {row.number: row for row in models.versions_of_model(state.model.model_id)}
    allowed = allowed_evidence(state, rows)
    latest = {one: latest_by_data(allowed, one) for one in {number, *([top] if top else [])}}
    other = versions[top] if top else None
    values = values_of_versions([versions[number], *([other] if other and top != number else [])])
    candidate = _facts(state, versions[number], latest[number], other, values[number])
    occupant = _facts(state, other, latest[other.number], None, values[other.number]) if other else None
    return GateInquiry(gates, candidate, replace(occupant, stands=stands) if occupant else None, latest)


def standard_of(state: ModelState, stage_name: str) -> int | None:
    """Return the version that a candidate for a stage is held against; None where there is none yet."""
    events = stage_records.events_of(state.model.model_id)
    return rules.find_standard([e.after for e in events if e.stage == stage_name and e.after], state.standings)


def _facts(
    state: ModelState,
    row: ModelVersionRow,
    rows: Mapping[str, EvidenceRow],
    other: ModelVersionRow | None,
    values: VersionValues,
) -> Facts:
    verdicts = [
        Given(verdict.approves, verdict.older)
        for verdict in verdict_records.verdicts_of(state.model.model_id)
        if verdict.number == row.number
    ]
    doc = run_documents.load_doc(row.run_id) if row.run_id else None
    return Facts(
        number=row.number,
        approvals=counting_approvals(verdicts, state.model.renewed_approvals),
        values=values,
        evidence={on: facts_of_evidence(one) for on, one in rows.items()},
        missing_sections=_missing(state.model.card),
        incompatible=misfits(row, other),
        used_data=bool(doc and any(link.kind != "model" for link in doc.used)),
        commit=str(doc.code.get("commit") or "") or None if doc else None,
        uncommitted=bool(doc and doc.texts.get("difference")),
        from_run=doc is not None,
        untracked=_untracked(doc) if doc else (),
    )


def _untracked(doc: RunDoc) -> tuple[str, ...]:
    """Return the files of a run's own code that no commit has.

    Of runs that were recorded before these were listed, only whether their script was one is known.
    """
    if "untracked_code" in doc.code:
        return tuple(doc.code["untracked_code"])
    return (str(doc.code.get("entry") or "its script"),) if "script" in doc.texts else ()


def _missing(card: str) -> Callable[..., list[str]]:
    return lambda sections: missing_sections(card, sections)


def misfits(row: ModelVersionRow, other: ModelVersionRow | None) -> list[str] | None:
    """Say what keeps a version's signature from another's place; None where it has none of its own."""
    if row.signature is None:
        return None
    if other is None or other.signature is None:
        return []
    return incompatibilities(signature_from_json(row.signature), signature_from_json(other.signature))


def judge_rows(actor: Actor, store: BlobStore, project: str, inquiry: GateInquiry) -> Judged:
    """Judge predictions on the same rows, pair by pair, apart from this process and outside of any transaction."""
    return {
        (ours.uid, theirs.uid, confidence): judge_pair(actor, store, project, ours, theirs, confidence)
        for ours, theirs, confidence in inquiry.pairs()
    }


def judge_pair(
    actor: Actor, store: BlobStore, project: str, ours: EvidenceRow, theirs: EvidenceRow, confidence: float
) -> list[RowsVerdict] | str:
    """Compare the predictions of two pieces of evidence, or say why that cannot be."""
    try:
        left, right = _kept_rows(ours, theirs)
        return read_judged(actor, store, project, left, right, confidence)
    except KinetrumError as error:
        return f"the rows cannot be judged: {error}"


@snapshot
def _kept_rows(*rows: EvidenceRow) -> list[VersionRef]:
    versions = [artifacts.version_by_id(row.rows_version or 0) for row in rows]
    return [
        VersionRef(version.name, str(version.number), projects.project_by_id(version.project_id).name)
        for version in versions
    ]


@snapshot
def _held(actor: Actor, project: str, model_name: str, stage_name: str, number: int) -> GateInquiry:
    state = load_model(enter(actor, project), model_name, lock=False)
    stage = rules.find_stage(state.ladder, stage_name, model_name)
    standing_of(state, number)
    return asked_of(state, stage.name, number)


def look_at_gates(
    actor: Actor, store: BlobStore, project: str, model_name: str, stage_name: str, number: int
) -> tuple[list[GateCheck], Judged]:
    """Judge a stage's gates for a version now, changing nothing; with what the rows said."""
    inquiry = _held(actor, project, model_name, stage_name, number)
    judged = judge_rows(actor, store, project, inquiry)
    return inquiry.check(judged), judged
