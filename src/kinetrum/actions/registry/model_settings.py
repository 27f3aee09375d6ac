"""What a model is and how it is ruled: card, purpose, person to ask, labels, ladder, gates, approvals."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

from kinetrum.actions.context import Actor, Place, enter
from kinetrum.actions.data.artifact_versions import stored_entry
from kinetrum.actions.registry.model_state import ModelState, load_model, log, standing_of
from kinetrum.actions.search.references import find_version
from kinetrum.core.base.errors import Conflict, InvalidInput, NotFound
from kinetrum.core.base.permissions import Act, Role, permits
from kinetrum.core.base.refs import VersionRef, parse_ref
from kinetrum.core.base.values import merged_labels
from kinetrum.core.media import kind_of
from kinetrum.core.registry import ladder as rules
from kinetrum.core.registry.card import CARD_LIMIT
from kinetrum.core.registry.evidence import read_rules
from kinetrum.core.registry.gates import add_gate, read_gates
from kinetrum.core.registry.ladder import Stage
from kinetrum.core.registry.review import Review
from kinetrum.storage.db.database import snapshot, transaction
from kinetrum.storage.people import people, projects
from kinetrum.storage.registry import models, stage_records, verdict_records

PURPOSE_LIMIT, SECTIONS_LIMIT, APPROVALS_LIMIT = 1_000, 40, 20


@transaction
def write_card(actor: Actor, project: str, model_name: str, card: str, expect: int) -> int:
    """Write a model's card over the revision that was seen; returns the revision now.

    Raises Conflict where somebody else wrote it since.
    """
    place = enter(actor, project, Act.WRITE_CARD)
    state = load_model(place, model_name, lock=True)
    if len(card) > CARD_LIMIT:
        raise InvalidInput(f"A card has up to {CARD_LIMIT:,} characters.", field="card")
    model = state.model
    if model.card == card:
        return model.card_revision
    if model.card_revision != expect:
        raise Conflict(
            f"The card of {model_name} was written anew meanwhile (revision {model.card_revision}, you saw {expect}); "
            "look at it and write yours into it.",
            field="expect",
        )
    models.set_model(model.model_id, card=card, card_revision=expect + 1)
    log(actor, state, "wrote the card of", model_name, {"revision": expect}, {"revision": expect + 1}, "")
    return expect + 1


@transaction
def describe_model(
    actor: Actor,
    project: str,
    model_name: str,
    *,
    purpose: str | None = None,
    owner: str | None = None,
    labels: dict[str, str | None] | None = None,
    image: str | None = None,
) -> None:
    """Set a model's purpose, the person to ask, labels (None takes one away), or its image (empty: none).

    What is None stays as it is.
    """
    place = enter(actor, project, Act.DESCRIBE)
    state = load_model(place, model_name, lock=True)
    changes: dict[str, Any] = {}
    if purpose is not None:
        if len(purpose) > PURPOSE_LIMIT:
            raise InvalidInput(f"The purpose has up to {PURPOSE_LIMIT:,} characters.", field="purpose")
        changes["purpose"] = purpose.strip()
    if owner is not None:
        changes["owner_id"] = _member(place, owner, "owner")
    if labels:
        changes["labels"] = merged_labels(state.model.labels, labels, model_name)
    if image is not None:
        changes["image"] = _image(place, image)
    _set(actor, state, "described", changes)


def _set(actor: Actor, state: ModelState, act: str, changes: dict[str, Any]) -> None:
    before = {name: getattr(state.model, name) for name in changes}
    after = {name: value for name, value in changes.items() if before[name] != value}
    if not after:
        return
    models.set_model(state.model.model_id, **after)
    log(actor, state, act, state.model.name, {name: before[name] for name in after}, after, "")


def _member(place: Place, name: str, field: str) -> int:
    person = people.person_named(name)
    members = {member: role for member, _, role in people.members(place.project_id)}
    if person is None or not (person.is_admin or name in members):
        known = ", ".join(sorted(members)[:8]) or "none"
        raise NotFound(f"{place.project.name} has no member {name!r}; it has {known}.", field=field)
    return person.person_id


def _image(place: Place, reference: str) -> str | None:
    if not reference:
        return None
    ref = parse_ref(reference)
    if not isinstance(ref, VersionRef) or not ref.path or kind_of(ref.path) != "image":
        raise InvalidInput(f"{reference!r} names no image that is kept; write NAME@NUMBER:PATH.", field="image")
    stored_entry(find_version(place, ref.name, ref.which), ref.path)
    return reference


@transaction
def label_model_version(
    actor: Actor, project: str, model_name: str, number: int, labels: dict[str, str | None]
) -> None:
    """Set labels on a version; a label given as None is taken away."""
    place = enter(actor, project, Act.DESCRIBE)
    state = load_model(place, model_name, lock=True)
    standing_of(state, number)
    row = next(row for row in models.versions_of_model(state.model.model_id) if row.number == number)
    fresh = merged_labels(row.labels, labels, f"{model_name}@{number}")
    if fresh != row.labels:
        models.set_model_version(state.model.model_id, number, labels=fresh)
        log(actor, state, "labelled", f"{state.model.name}@{number}", row.labels, fresh, "")


@dataclass(frozen=True)
class NewRules:
    """Rules of a model; what is None stays. `evidence`: what evidence on names is bound to, all names at once."""

    approvals_needed: int | None = None
    second_pair: bool | None = None
    card_sections: Sequence[str] | None = None
    renewed_approvals: bool | None = None
    evidence: Mapping[str, Mapping[str, Any]] | None = None


@dataclass(frozen=True)
class ReviewChange:
    """A version whose review a change of rules turns, and the stages on which it stands and stays."""

    number: int
    before: Review
    after: Review
    stages: tuple[str, ...]


@snapshot
def preview_rules(actor: Actor, project: str, model_name: str, new: NewRules) -> list[ReviewChange]:
    """Return the versions whose review a change of rules would turn, the newest first; nothing is changed."""
    state = load_model(enter(actor, project), model_name, lock=False)
    return _review_changes(state, _changes_of(state, new))


@transaction
def rule_model(actor: Actor, project: str, model_name: str, new: NewRules, confirmed: bool = False) -> None:
    """Set the rules of a model: approvals, second pair of eyes, sections of the card, who adds evidence.

    A change that turns approved versions into pending ones is carried out only where it is `confirmed`; Conflict lists
    them. What stands on a stage stays there with the standing that it had.
    """
    place = enter(actor, project, Act.RULE)
    state = load_model(place, model_name, lock=True)
    changes = _changes_of(state, new)
    _check_enough(place, changes.get("approvals_needed", state.model.approvals_needed))
    turned = [one for one in _review_changes(state, changes) if one.before is Review.APPROVED]
    if turned and not confirmed:
        raise Conflict(f"{_told_changes(model_name, turned)} Confirm to change the rules.", field="confirmed")
    _set(actor, state, "changed the rules of", changes)


def _changes_of(state: ModelState, new: NewRules) -> dict[str, Any]:
    """Return the columns that new rules set, checked."""
    changes: dict[str, Any] = {}
    if new.approvals_needed is not None:
        if not 1 <= new.approvals_needed <= APPROVALS_LIMIT:
            raise InvalidInput(f"A model asks 1 to {APPROVALS_LIMIT} approvals.", field="approvals_needed")
        changes["approvals_needed"] = new.approvals_needed
    if new.second_pair is not None:
        if new.second_pair:
            _check_second_pair(state.place, state.model.name)
        changes["second_pair"] = new.second_pair
    if new.renewed_approvals is not None:
        changes["renewed_approvals"] = new.renewed_approvals
    if new.card_sections is not None:
        titles = list(dict.fromkeys(title.strip() for title in new.card_sections if title.strip()))
        if len(titles) > SECTIONS_LIMIT:
            raise InvalidInput(f"A card requires up to {SECTIONS_LIMIT} sections.", field="card_sections")
        changes["card_sections"] = titles
    if new.evidence is not None:
        changes["evidence_rules"] = _evidence_rules(state.place, new.evidence)
    return changes


def _evidence_rules(place: Place, rules_by_place: Mapping[str, Mapping[str, Any]]) -> dict[str, Any]:
    rules_given = read_rules(rules_by_place)
    for on, rule in rules_given.items():
        for name in rule.people:
            _member(place, name, "evidence")
        if rule.experiment is not None and projects.experiment_named(place.project_id, rule.experiment) is None:
            raise NotFound(
                f"{place.project.name} has no experiment {rule.experiment!r}; evidence on {on} cannot be bound to it.",
                field="evidence",
            )
    return {on: rule.to_json() for on, rule in rules_given.items()}


def _review_changes(state: ModelState, changes: Mapping[str, Any]) -> list[ReviewChange]:
    """Return the versions whose review changes with these columns, the newest first."""
    needed = {name: changes[name] for name in ("approvals_needed", "renewed_approvals") if name in changes}
    after = verdict_records.standings_of(replace(state.model, **needed))
    standing_on = stage_records.stages_of_versions(state.model.model_id)
    return [
        ReviewChange(number, before.review, after[number].review, tuple(standing_on.get(number, ())))
        for number, before in sorted(state.standings.items(), reverse=True)
        if before.review is not after[number].review
    ]


def _told_changes(model_name: str, changes: Sequence[ReviewChange]) -> str:
    lines = [
        f"version {one.number}" + (f" (stays on {' and '.join(one.stages)})" if one.stages else "")
        for one in changes[:8]
    ]
    more = f" and {len(changes) - 8} more" if len(changes) > 8 else ""
    return (
        f"With these rules {', '.join(lines)}{more} of {model_name} {'is' if len(changes) == 1 else 'are'} no longer "
        "approved and cannot be placed until approved again."
    )


def _approvers(place: Place) -> list[str]:
    """Return who may approve in a project, administrators among them."""
    members = {name for name, _, role in people.members(place.project_id) if permits(role, Act.REVIEW)}
    return sorted(members | {person.name for person in people.people() if person.is_admin})


def _check_second_pair(place: Place, model_name: str) -> None:
    approvers = _approvers(place)
    if len(approvers) < 2:
        raise Conflict(
            f"Nobody but {approvers[0] if approvers else 'nobody'} may approve in {place.project.name}: with a second "
            f"pair of eyes asked for, what that person registers in {model_name} could never be approved. Make someone "
            "an approver first.",
            field="second_pair",
        )


def _check_enough(place: Place, needed: int) -> None:
    approvers = _approvers(place)
    if needed > len(approvers):
        raise Conflict(
            f"{needed} approvals are more than {place.project.name} has approvers ({len(approvers)}); nothing could "
            "ever be approved.",
            field="approvals_needed",
        )


@transaction
def set_ladder(actor: Actor, project: str, model_name: str, stages: Sequence[Stage]) -> None:
    """Put a ladder in the place of a model's; raises Conflict where an occupied stage would be gone."""
    place = enter(actor, project, Act.RULE)
    state = load_model(place, model_name, lock=True)
    ladder = rules.change_ladder(state.ladder, stages, state.stacks, model_name)
    for stage in ladder:
        for name in stage.placers:
            _check_placer(place, stage, name)
    if ladder == state.ladder:
        return
    gates = read_gates(state.model.gates, [stage.name for stage in state.ladder])
    orphaned = [name for name in gates if name not in {stage.name for stage in ladder}]
    if orphaned:
        raise Conflict(
            f"The gates of {model_name} name {' and '.join(orphaned)}; take them out of the gates first.",
            field="stages",
        )
    stage_records.set_ladder(state.model.model_id, ladder)
    log(actor, state, "changed the ladder of", model_name, _told(state.ladder), _told(ladder), "")


def _check_placer(place: Place, stage: Stage, name: str) -> None:
    _member(place, name, "placers")
    person = people.person_named(name)
    role = people.role_in(place.project_id, person.person_id) if person else None
    if person and not person.is_admin and not permits(role, Act.PLACE):
        raise InvalidInput(
            f"{person.full_name} is a {role or Role.VIEWER} in {place.project.name} and could not place on "
            f"{stage.name}; that takes a contributor.",
            field="placers",
        )


def _told(ladder: Sequence[Stage]) -> list[dict[str, Any]]:
    return [
        {
            "stage": stage.name,
            "asks_approved": stage.asks_approved,
            "least_role": stage.least_role,
            "placers": list(stage.placers),
        }
        for stage in ladder
    ]


@dataclass(frozen=True)
class OneMoreGate:
    """Gates that are being written, as TOML, and one more for a stage by the fields of its kind's form."""

    gates: str
    stage: str
    kind: str
    fields: Mapping[str, str]


@snapshot
def draft_gates(actor: Actor, project: str, model_name: str, change: OneMoreGate) -> str:
    """Return gates with one more, changing nothing; raises InvalidInput that names the field that is wrong."""
    state = load_model(enter(actor, project), model_name, lock=False)
    return add_gate(change.gates, [stage.name for stage in state.ladder], change.stage, change.kind, change.fields)


@transaction
def set_gates(actor: Actor, project: str, model_name: str, text: str) -> None:
    """Set a model's gates, as TOML; raises InvalidInput that names the key that is wrong."""
    place = enter(actor, project, Act.RULE)
    state = load_model(place, model_name, lock=True)
    read_gates(text, [stage.name for stage in state.ladder])
    _set(actor, state, "changed the gates of", {"gates": text})
