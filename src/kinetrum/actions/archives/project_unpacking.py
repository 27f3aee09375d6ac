"""Taking in what an archive of a whole project has beyond runs and versions: description, views, notes, and models.

What is here already stays as it is, and what differs is told. A model that is new here comes with its rules, its stages
and their history in one transaction; that takes a maintainer. Its approvals count for nothing here, and what stands on
a stage stays there as what the maintainer took in.
"""

from __future__ import annotations

from typing import Protocol

from kinetrum.actions.archives.origins import Origin
from kinetrum.actions.context import Place, enter, why_not
from kinetrum.core.archives.project import (
    EvidenceRecord,
    ModelRecord,
    ModelVersionRecord,
    ProjectRecord,
    ThingNote,
    ViewRecord,
)
from kinetrum.core.base.errors import Conflict
from kinetrum.core.base.ids import id_bytes
from kinetrum.core.base.permissions import Act
from kinetrum.core.base.refs import VersionRef, parse_ref
from kinetrum.storage.data import artifacts
from kinetrum.storage.db.clock import from_micros
from kinetrum.storage.db.database import transaction
from kinetrum.storage.people import journal, notes, people, projects
from kinetrum.storage.registry import model_records, models, stage_records
from kinetrum.storage.registry.models import ModelRow
from kinetrum.storage.runs import runs
from kinetrum.storage.search import views

Numbers = dict[tuple[str, int], tuple[int, int]]


class Told(Protocol):
    """What an import tells when it is done."""

    models: dict[str, str]
    views: list[str]
    known: list[str]
    remarks: list[str]


def check_room_for_models(place: Place, project: ProjectRecord) -> None:
    """Refuse before anything is kept: models whose names are artifacts here, versions that live elsewhere."""
    for model in project.models:
        if artifacts.thing_of_name(place.project_id, model.name) == "artifact":
            raise Conflict(
                f"{model.name!r} names an artifact of this project; import the archive into another project."
            )
        for version in model.versions:
            known = models.version_by_uid(id_bytes(version.uid))
            if known is not None and models.model_by_id(known.model_id).project_id != place.project_id:
                raise Conflict(
                    f"{model.name}@{version.number} is in another project of this instance; a version has one place."
                )


def take_project(origin: Origin, project: str, record: ProjectRecord, numbers: Numbers, done: Told) -> None:
    """Take in what a project has beyond runs and versions; `numbers`: artifact versions by their place there."""
    _describe(origin, project, record, done)
    refusal = _refusal(origin, project)
    if refusal and record.models:
        names = ", ".join(model.name for model in record.models[:12]) + (" …" if len(record.models) > 12 else "")
        done.remarks.append(f"Models come with rules and stages and were left out ({names}). {refusal}")
    for model in () if refusal else record.models:
        _take_model(origin, project, model, numbers, done)
    for view in record.views:
        _take_view(origin, project, view, done)
    _take_notes(origin, project, record.notes, numbers, done)


@transaction
def _refusal(origin: Origin, project: str) -> str | None:
    return why_not(origin.actor, enter(origin.actor, project, Act.RECORD), Act.RULE)


@transaction
def _describe(origin: Origin, project: str, record: ProjectRecord, done: Told) -> None:
    place = enter(origin.actor, project, Act.DESCRIBE)
    here = place.project
    description = here.description or record.description
    labels = {**record.labels, **here.labels}
    if (description, labels) != (here.description, here.labels):
        projects.set_description("project", place.project_id, description, labels)
    if record.description and description != record.description:
        done.remarks.append("The project's description differs there and stays as it is here.")
    if any(labels[key] != text for key, text in record.labels.items()):
        done.remarks.append("The project's labels differ there and stay as they are here.")


@transaction
def _take_view(origin: Origin, project: str, view: ViewRecord, done: Told) -> None:
    place = enter(origin.actor, project, Act.DESCRIBE if view.shared else Act.SEE)
    if views.view_by_uid(id_bytes(view.uid)) is not None:
        done.known.append(f"view:{view.name}")
        return
    row = projects.experiment_named(place.project_id, view.experiment) if view.experiment else None
    if view.experiment and row is None:
        done.remarks.append(f"The view {view.name!r} is of {view.experiment}, which is not here; it was left out.")
        return
    views.save_view(
        id_bytes(view.uid),
        place.project_id,
        views.ViewChange(
            row.experiment_id if row else None,
            view.name,
            view.shared,
            origin.actor.person_id,
            dict(view.arrangement),
            1,
        ),
    )
    done.views.append(view.name)


@transaction
def _take_notes(origin: Origin, project: str, thing_notes: tuple[ThingNote, ...], numbers: Numbers, done: Told) -> None:
    place = enter(origin.actor, project, Act.DESCRIBE)
    for one in thing_notes:
        subject = _subject(place, one, numbers, done)
        if subject is not None:
            note = one.note
            notes.add_imported(
                place.project_id,
                one.kind,
                subject,
                notes.ImportedNote(
                    id_bytes(note.uid),
                    origin.person_id(note.by),
                    note.text,
                    from_micros(note.at),
                    origin.words(note.by),
                ),
            )


def _subject(place: Place, one: ThingNote, numbers: Numbers, done: Told) -> int | None:
    """Return the id of what a note stands on here, None where it is not here."""
    if one.kind == "project":
        return place.project_id
    if one.kind == "experiment":
        experiment = projects.experiment_named(place.project_id, one.name)
        return experiment.experiment_id if experiment else None
    if one.kind == "artifact":
        artifact = artifacts.artifact_named(place.project_id, one.name)
        return artifact.artifact_id if artifact else None
    if one.kind == "artifact@":
        version = numbers.get((one.name, one.number or 0))
        return version[0] if version else None
    model = models.model_named(place.project_id, one.name)
    if model is None or one.kind == "model":
        return model.model_id if model else None
    here = done.models.get(f"{one.name}@{one.number}")
    return model.model_id * notes.VERSIONS_PER_MODEL + int(here.rpartition("@")[2]) if here else None


@transaction
def _take_model(origin: Origin, project: str, record: ModelRecord, numbers: Numbers, done: Told) -> None:
    """Make a model as it was there, or add to one of that name the versions that it lacks."""
    place = enter(origin.actor, project, Act.RULE)
    row = models.model_named(place.project_id, record.name, lock=True)
    if row is None:
        if not artifacts.claim_name(place.project_id, record.name, "model"):
            raise Conflict(f"{record.name!r} names an artifact of this project.")
        row = _make_model(origin, place, record, done)
        added = _add_versions(origin, row, record, numbers, done)
        _place(origin, row, record, added, done)
    elif row.binned_at is not None:
        done.remarks.append(f"{record.name} is in the bin here; restore it to take in what it lacks.")
        return
    else:
        added = _add_versions(origin, row, record, numbers, done)
        done.remarks += _model_differences(row, record, added)
    if added:
        journal.append(
            place.project_id,
            origin.actor.person_id,
            "imported",
            row.name,
            journal.Change(after={"from": origin.source, "versions": len(added)}),
            source=origin.actor.source,
        )


def _make_model(origin: Origin, place: Place, record: ModelRecord, done: Told) -> ModelRow:
    owner = people.person_named(record.owner) if record.owner else None
    member = owner is not None and people.role_in(place.project_id, owner.person_id) is not None
    if record.owner and not member:
        done.remarks.append(
            f"{record.name}: the person to ask, {record.owner}, is not a member here; it is the importer."
        )
    model_id = model_records.add_model(
        place.project_id,
        record.name,
        record.ladder,
        origin.actor.person_id,
        from_micros(record.made_at),
        origin.words(record.by),
        purpose=record.purpose,
        approvals_needed=record.approvals_needed,
        second_pair=record.second_pair,
        renewed_approvals=record.renewed_approvals,
        card=record.card,
        card_sections=list(record.card_sections),
        gates=record.gates,
        evidence_rules=dict(record.evidence_rules),
        labels=dict(record.labels),
        owner_id=owner.person_id if owner and member else origin.actor.person_id,
    )
    done.remarks += _absent_people(record)
    return models.model_by_id(model_id)


def _absent_people(record: ModelRecord) -> list[str]:
    """Say which people that rules name have no account here: what is theirs alone is nobody's until that is changed."""
    named = {name for stage in record.ladder for name in stage.placers}
    named |= {str(name) for rule in record.evidence_rules.values() for name in rule.get("people", ())}
    absent = sorted(name for name in named if people.person_named(name) is None)
    if not absent:
        return []
    verb = "has" if len(absent) == 1 else "have"
    return [f"{record.name}: its rules name {' and '.join(absent)}, who {verb} no account here; change the rules."]


def _add_versions(origin: Origin, row: ModelRow, record: ModelRecord, numbers: Numbers, done: Told) -> dict[int, int]:
    """Add the versions that the model lacks; returns numbers here by numbers there."""
    taken = {version.number for version in models.versions_of_model(row.model_id)}
    added: dict[int, int] = {}
    for version in sorted(record.versions, key=lambda version: version.number):
        reference = f"{record.name}@{version.number}"
        if models.version_by_uid(id_bytes(version.uid)) is not None:
            done.known.append(reference)
            continue
        files = numbers.get(version.artifact) if version.artifact else None
        if files is None:
            done.remarks.append(f"{reference} was left out: its files are not in the archive.")
            continue
        number = version.number if version.number not in taken else max(taken) + 1
        taken.add(number)
        _add_version(origin, row.model_id, number, version, files[0])
        added[version.number] = number
        done.models[reference] = f"{row.name}@{number}"
        if number != version.number:
            done.remarks.append(f"{reference} arrived as {row.name}@{number}: its number is taken here.")
    _add_findings(origin, row.model_id, record, numbers, added)
    return added


def _add_version(origin: Origin, model_id: int, number: int, version: ModelVersionRecord, files: int) -> None:
    run = runs.run_by_uid(id_bytes(version.run)) if version.run else None
    source_text = version.origin or (None if run else f"imported from {origin.source}")
    model_records.add_version(
        model_id,
        number,
        origin.actor.person_id,
        from_micros(version.made_at),
        origin.words(version.by),
        uid=id_bytes(version.uid),
        version_id=files,
        run_id=run.run_id if run else None,
        origin=source_text,
        comment=version.comment,
        retired=version.retired,
        labels=dict(version.labels),
        added_values=dict(version.values),
        signature=None if version.signature is None else dict(version.signature),
        step=version.step,
    )


def _add_findings(origin: Origin, model_id: int, record: ModelRecord, numbers: Numbers, added: dict[int, int]) -> None:
    """Add the evidence and the verdicts of the versions that were added."""
    for evidence in record.evidence:
        if evidence.number in added:
            _add_evidence(origin, model_id, added[evidence.number], evidence, numbers)
    verdicts = [verdict for verdict in record.verdicts if verdict.number in added]
    for at, verdict in enumerate(verdicts):
        said_by = verdict.by.full_name or verdict.by.name
        row = model_records.ImportedVerdictRow(
            added[verdict.number], said_by[:200], verdict.approves, verdict.comment, from_micros(verdict.at)
        )
        model_records.add_verdict(model_id, at, row)


def _add_evidence(origin: Origin, model_id: int, number: int, evidence: EvidenceRecord, numbers: Numbers) -> None:
    run = runs.run_by_uid(id_bytes(evidence.run))
    if run is None:
        return
    rows = numbers.get(evidence.rows) if evidence.rows else None
    model_records.add_evidence(
        model_id,
        model_records.ImportedEvidence(
            id_bytes(evidence.uid),
            number,
            evidence.on,
            evidence.digest,
            run.run_id,
            rows[0] if rows else None,
            dict(evidence.results),
            origin.actor.person_id,
            from_micros(evidence.at),
            origin.words(evidence.by),
        ),
    )


def _place(origin: Origin, row: ModelRow, record: ModelRecord, added: dict[int, int], done: Told) -> None:
    """Put a new model's stages, their history, lead and image as they were there."""
    depths: dict[str, int] = {}
    for stay in record.stays:
        if stay.number in added:
            depth = depths.get(stay.stage, 0)
            model_records.add_stay(
                row.model_id, stay.stage, depth, added[stay.number], origin.actor.person_id, from_micros(stay.at)
            )
            depths[stay.stage] = depth + 1
    for event in record.events:
        model_records.add_event(
            row.model_id,
            model_records.ImportedEvent(
                id_bytes(event.uid),
                event.act,
                event.stage,
                added.get(event.before or 0),
                added.get(event.after or 0),
                origin.actor.person_id,
                event.comment,
                from_micros(event.at),
                event.checks,
                event.override_reason,
                origin.words(event.by),
            ),
        )
    changes = {"lead_number": added.get(record.lead or 0), "image": _image(record)}
    there = {name: value for name, value in changes.items() if value is not None}
    if there:
        models.set_model(row.model_id, **there)
    approved = sorted({verdict.number for verdict in record.verdicts if verdict.approves and verdict.number in added})
    if approved:
        names = ", ".join(f"{record.name}@{number}" for number in approved[:8])
        names += f" and {len(approved) - 8} more" if len(approved) > 8 else ""
        verb = "was" if len(approved) == 1 else "were"
        done.remarks.append(
            f"Approvals do not travel: {names} {verb} approved there, which is shown; here approvers give their own."
        )


def _image(record: ModelRecord) -> str | None:
    """Return the image of a model where it says a file of an artifact version of its own project."""
    ref = parse_ref(record.image) if record.image else None
    return record.image if isinstance(ref, VersionRef) and ref.path and not ref.project else None


def _model_differences(row: ModelRow, record: ModelRecord, added: dict[int, int]) -> list[str]:
    """Say in what a model that is here already differs from what it is there."""
    pairs = {
        "purpose": (record.purpose, row.purpose),
        "card": (record.card, row.card),
        "gates": (record.gates, row.gates),
        "labels": (dict(record.labels), row.labels),
        "ladder": (record.ladder, stage_records.ladder_of(row.model_id)),
        "rules": (
            (
                record.approvals_needed,
                record.second_pair,
                record.renewed_approvals,
                list(record.card_sections),
                dict(record.evidence_rules),
            ),
            (row.approvals_needed, row.second_pair, row.renewed_approvals, row.card_sections, row.evidence_rules),
        ),
    }
    differing = [name for name, (there, here) in pairs.items() if there != here]
    remarks = [f"{record.name}: {' and '.join(differing)} differ there and stay as they are here."] if differing else []
    here = {stage: stack[-1].number for stage, stack in stage_records.stacks_of(row.model_id).items() if stack}
    there = {stay.stage: stay.number for stay in record.stays}
    by_uid = {version.number: version.uid for version in record.versions}
    for stage in dict.fromkeys((*there, *here)):
        occupant = models.version_by_uid(id_bytes(by_uid[there[stage]])) if stage in there else None
        number = occupant.number if occupant and occupant.model_id == row.model_id else None
        if number != here.get(stage):
            remarks.append(
                f"{record.name}: on {stage} stands {_version_said(there.get(stage))} there and "
                f"{_version_said(here.get(stage))} here, which stays."
            )
    return remarks


def _version_said(number: int | None) -> str:
    return "nothing" if number is None else f"version {number}"
