"""Reviewing: a version beside the occupant of a stage, or beside any other version of its model."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from kinetrum.actions.context import Actor, enter
from kinetrum.actions.registry.evidence_records import allowed_evidence, latest_by_data
from kinetrum.actions.registry.gate_outcomes import judge_pair, look_at_gates, misfits, standard_of
from kinetrum.actions.registry.model_state import ModelState, load_model, standing_of
from kinetrum.actions.registry.registry_views import VersionDetailView, read_model_version
from kinetrum.actions.registry.stage_acts import why_not_place
from kinetrum.actions.registry.version_lookup import pick_version
from kinetrum.core.base.errors import InvalidInput
from kinetrum.core.registry import ladder as rules
from kinetrum.core.registry.gates import Better, Bound, GateCheck, read_gates
from kinetrum.core.registry.sentence import Judged, Placing, beside_sentence, review_sentence
from kinetrum.core.statistics.noise.difference import CONFIDENCE
from kinetrum.core.statistics.noise.measures import select_measures
from kinetrum.core.statistics.noise.verdict import RowsVerdict
from kinetrum.storage.data.blobs import BlobStore
from kinetrum.storage.db.database import snapshot
from kinetrum.storage.people import projects
from kinetrum.storage.registry import evidence, models, stage_records
from kinetrum.storage.registry.evidence import EvidenceRow
from kinetrum.storage.registry.models import ModelVersionRow
from kinetrum.storage.runs import runs


@dataclass(frozen=True)
class OnData:
    """Both versions' results on named data; what the same rows say, or why they say nothing."""

    on: str
    candidate: dict[str, Any]
    other: dict[str, Any]
    same_data: bool | None
    differences: list[RowsVerdict]
    note: str


@dataclass(frozen=True)
class PackageChoice:
    """A package that a version asks for in another release than the one beside it; null where one does without."""

    name: str
    before: str | None
    after: str | None


@dataclass(frozen=True)
class ReviewView:
    """A version beside another; with a stage, its gates and what keeps it from there.

    `emptied`: that and by whom the stage was emptied, where nothing stands there or it was filled again since; `other`
    is then the version that stood there last and is not rejected. `misfits`: what keeps its signature from the other's
    place, None where it has none.
    """

    sentence: str
    candidate: VersionDetailView
    other: VersionDetailView | None
    stage: str | None
    checks: list[GateCheck]
    obstacle: str | None
    why_not_place: str | None
    on_data: list[OnData]
    misfits: list[str] | None
    packages: list[PackageChoice]
    emptied: str | None


@dataclass(frozen=True)
class _Sides:
    number: int
    other: int | None
    stage: str | None
    occupant: int | None
    emptied: str | None
    obstacle: str | None
    why_not_place: str | None
    rows: list[EvidenceRow]
    misfits: list[str] | None
    goes_by: list[str]


def review_version(
    actor: Actor,
    store: BlobStore,
    project: str,
    model_name: str,
    which: str,
    stage: str | None = None,
    against: str | None = None,
) -> ReviewView:
    """Put a version beside the occupant of a stage, or (`against`) beside any version; with what the gates say.

    Without either it is the highest stage: what is in use.
    """
    sides = _sides(actor, project, model_name, which, stage, against)
    checks: list[GateCheck] = []
    if sides.stage:
        checks, _ = look_at_gates(actor, store, project, model_name, sides.stage, sides.number)
    on_data = _on_data(actor, store, project, sides)
    candidate = read_model_version(actor, project, model_name, str(sides.number))
    other = read_model_version(actor, project, model_name, str(sides.other)) if sides.other else None
    return ReviewView(
        _sentence(sides, checks, on_data),
        candidate,
        other,
        sides.stage,
        checks,
        sides.obstacle,
        sides.why_not_place,
        on_data,
        sides.misfits,
        _packages(candidate, other),
        sides.emptied,
    )


@snapshot
def _sides(
    actor: Actor, project: str, model_name: str, which: str, stage_name: str | None, against: str | None
) -> _Sides:
    place = enter(actor, project)
    state = load_model(place, model_name, lock=False)
    number = pick_version(state, which)
    if stage_name is not None and against is not None:
        raise InvalidInput("Compare with the occupant of a stage or with a version, not with both.", field="against")
    versions = {row.number: row for row in models.versions_of_model(state.model.model_id)}
    rows = allowed_evidence(state, evidence.evidence_of(state.model.model_id))
    if against is not None:
        other = pick_version(state, against)
        differences = misfits(versions[number], versions[other])
        goes_by = _goes_by(state, None, versions[number])
        return _Sides(
            number=number,
            other=other,
            stage=None,
            occupant=None,
            emptied=None,
            obstacle=None,
            why_not_place=None,
            rows=rows,
            misfits=differences,
            goes_by=goes_by,
        )
    stage = rules.find_stage(state.ladder, stage_name or state.ladder[-1].name, model_name)
    stack = state.stacks.get(stage.name, ())
    top = stack[-1].number if stack else None
    beside = top if top not in {None, number} else standard_of(state, stage.name)
    beside = beside if beside != number else None
    return _Sides(
        number=number,
        other=beside,
        stage=stage.name,
        occupant=top,
        emptied=_emptied(state, stage.name),
        obstacle=rules.obstacle(stage, standing_of(state, number)),
        why_not_place=why_not_place(actor, place, stage),
        rows=rows,
        misfits=misfits(versions[number], versions.get(beside or 0)),
        goes_by=_goes_by(state, stage.name, versions[number]),
    )


def _emptied(state: ModelState, stage: str) -> str | None:
    """Say that a stage was emptied before what stands there now came, None where it never was."""
    events = [event for event in stage_records.events_of(state.model.model_id) if event.stage == stage]
    emptied = next((at for at in range(len(events) - 1, -1, -1) if events[at].act == "demote"), None)
    if emptied is None or len(events) - emptied > 2:
        return None
    event = events[emptied]
    by = f"{event.person} emptied {stage} at {event.at:%Y-%m-%d %H:%M} UTC; version {event.before} stood there"
    return by if emptied == len(events) - 1 else f"{by}, and version {events[-1].after} was placed on the empty stage"


def _goes_by(state: ModelState, stage: str | None, row: ModelVersionRow) -> list[str]:
    """Return the measures that a stage's gates name, then those of the goals of the version's experiment."""
    gates = read_gates(state.model.gates, [one.name for one in state.ladder])
    gates_asked = gates.get(stage, ()) if stage else [gate for stage_gates in gates.values() for gate in stage_gates]
    named = [gate.value for kind in (Better, Bound) for gate in gates_asked if isinstance(gate, kind)]
    goals = projects.goals_of(runs.run_by_id(row.run_id).experiment_id) if row.run_id else {}
    return list(dict.fromkeys((*named, *(key.rsplit("/", 1)[-1] for key in goals))))


def _on_data(actor: Actor, store: BlobStore, project: str, sides: _Sides) -> list[OnData]:
    ours = latest_by_data(sides.rows, sides.number)
    theirs = latest_by_data(sides.rows, sides.other) if sides.other else {}
    comparisons = []
    for on in dict.fromkeys((*ours, *theirs)):
        one, two = ours.get(on), theirs.get(on)
        differences: list[RowsVerdict] = []
        note = ""
        if one and two and one.rows_version is not None and two.rows_version is not None:
            verdicts = judge_pair(actor, store, project, one, two, CONFIDENCE)
            told_of = (*sides.goes_by, *one.results, *two.results)
            differences, note = (
                ([], verdicts) if isinstance(verdicts, str) else (select_measures(verdicts, told_of), "")
            )
        elif sides.other:
            note = _missing(on, one, two, sides.number, sides.other)
        same = one.digest == two.digest if one and two and one.digest and two.digest else None
        comparisons.append(OnData(on, one.results if one else {}, two.results if two else {}, same, differences, note))
    return comparisons


def _missing(on: str, one: EvidenceRow | None, two: EvidenceRow | None, number: int, other: int) -> str:
    for row, of in ((one, number), (two, other)):
        if row is None:
            return f"version {of} has no evidence on {on}"
        if row.rows_version is None:
            return f"version {of} has no predictions row by row on {on}"
    return ""


def _sentence(sides: _Sides, checks: list[GateCheck], on_data: list[OnData]) -> str:
    judged = [Judged(one.on, one.differences) for one in on_data if one.differences]
    if sides.stage:
        placing = Placing(sides.number, sides.stage, sides.occupant, sides.obstacle, sides.other)
        return review_sentence(placing, checks, judged, sides.goes_by)
    return beside_sentence(sides.number, sides.other or sides.number, judged, sides.goes_by)


def _packages(candidate: VersionDetailView, other: VersionDetailView | None) -> list[PackageChoice]:
    if other is None:
        return []
    before, after = other.dependencies, candidate.dependencies
    names = sorted(before.keys() | after.keys())
    return [
        PackageChoice(name, before.get(name), after.get(name)) for name in names if before.get(name) != after.get(name)
    ]
