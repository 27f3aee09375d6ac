"""Placing versions on stages: promote through gates, demote, roll back. One transaction each: all of it or nothing."""

from __future__ import annotations

from dataclasses import asdict, dataclass, replace
from typing import Any

from kinetrum.actions.context import Actor, Place, enter, require, why_not
from kinetrum.actions.registry.gate_outcomes import Judged, asked_of, look_at_gates
from kinetrum.actions.registry.model_state import ModelState, checked_comment, load_model, log, standing_of
from kinetrum.core.base.errors import Conflict, InvalidInput, NotAllowed
from kinetrum.core.base.ids import id_bytes
from kinetrum.core.base.permissions import Act, Role
from kinetrum.core.registry import ladder as rules
from kinetrum.core.registry.gates import GateCheck
from kinetrum.core.registry.ladder import Stack, Stage, Stay
from kinetrum.storage.data.blobs import BlobStore
from kinetrum.storage.db.clock import iso, now
from kinetrum.storage.db.database import snapshot, transaction
from kinetrum.storage.registry import stage_records

REASON_LIMIT = 2_000
# Acts on stages in the words of the journal.
_WORDS = {"promote": "promoted", "demote": "demoted", "roll back": "rolled back"}


def act_for(stage: Stage) -> Act:
    """Return the act of placing on a stage."""
    return Act.PLACE if stage.least_role in {Role.VIEWER, Role.CONTRIBUTOR} else Act.PLACE_GUARDED


def why_not_place(actor: Actor, place: Place, stage: Stage) -> str | None:
    """Say why the actor may not place on a stage, None where that is allowed.

    Where a stage names people, they alone may, as contributors at least; a maintainer can change who is named.
    """
    if not stage.placers:
        return why_not(actor, place, act_for(stage))
    if actor.name in stage.placers:
        return why_not(actor, place, Act.PLACE)
    return f"On {stage.name} only {' and '.join(stage.placers)} may place versions; {actor.full_name} is not named."


def _placing(actor: Actor, project: str, model_name: str, stage_name: str) -> tuple[ModelState, Stage, Stack]:
    place = enter(actor, project)
    state = load_model(place, model_name, lock=True)
    stage = rules.find_stage(state.ladder, stage_name, model_name)
    reason = why_not_place(actor, place, stage)
    if reason:
        raise NotAllowed(reason)
    return state, stage, state.stacks.get(stage.name, ())


def _done_before(uid: str, state: ModelState, act: str, stage: str) -> bool:
    known = stage_records.event_by_uid(id_bytes(uid))
    if known is None:
        return False
    if known[:3] != (state.model.model_id, act, stage):
        raise Conflict(f"The id {uid} belongs to another act.", field="id")
    return True


def _occupant(stack: Stack) -> int | None:
    return stack[-1].number if stack else None


@dataclass(frozen=True)
class StageAct:
    """An act on a stage: the occupant that was seen, a comment, its id, a maintainer's reason to override gates."""

    expect: int | None
    comment: str
    uid: str
    override: str | None = None


def promote(
    actor: Actor,
    store: BlobStore,
    project: str,
    model_name: str,
    stage_name: str,
    number: int,
    act: StageAct,
) -> None:
    """Place a version on a stage; `expect` is the occupant the actor saw (None: none).

    Every gate of the stage is asked and its outcome kept with the promotion. `override` is a maintainer's reason to
    place it although gates are not met. Raises Conflict that lists what is not met, where none is given.
    """
    if act.override is not None and not 1 <= len(act.override.strip()) <= REASON_LIMIT:
        raise InvalidInput(f"To override a gate takes a reason of up to {REASON_LIMIT:,} characters.", field="override")
    if _repeated(actor, project, model_name, stage_name, act.uid):
        return
    # Rows are judged before anything is locked: that may take seconds, and the locked part sees if they still count.
    _, judged = look_at_gates(actor, store, project, model_name, stage_name, number)
    _promote(
        actor,
        project,
        model_name,
        stage_name,
        (number, judged),
        act,
    )


@snapshot
def _repeated(actor: Actor, project: str, model_name: str, stage_name: str, uid: str) -> bool:
    """Tell whether a promotion was carried out under this id before: then nothing has to be judged."""
    state = load_model(enter(actor, project), model_name, lock=False)
    return _done_before(uid, state, "promote", rules.find_stage(state.ladder, stage_name, model_name).name)


@transaction
def _promote(
    actor: Actor,
    project: str,
    model_name: str,
    stage_name: str,
    version: tuple[int, Judged],
    act: StageAct,
) -> None:
    number, judged = version
    state, stage, stack = _placing(actor, project, model_name, stage_name)
    if _done_before(act.uid, state, "promote", stage.name):
        return
    stay = Stay(number, actor.full_name, iso(now()) or "")
    grown = rules.promote(stack, stage, stay, standing_of(state, number), act.expect, model_name)
    checks = asked_of(state, stage.name, number).check(judged)
    unmet = [check for check in checks if not check.met]
    if unmet:
        _pass_unmet(actor, state, stage, number, unmet, act.override)
    asked_approvals = state.model.approvals_needed if stage.asks_approved else 0
    stage_records.push_stay(state.model.model_id, stage.name, len(grown) - 1, number, actor.person_id, asked_approvals)
    reason = act.override.strip() if act.override and unmet else None
    outcomes = [asdict(check) for check in checks]
    _placed(actor, state, "promote", (stage, stack), number, replace(act, override=reason), outcomes)


def _pass_unmet(
    actor: Actor, state: ModelState, stage: Stage, number: int, unmet: list[GateCheck], override: str | None
) -> None:
    """Refuse unless a maintainer gives a reason."""
    if override is not None:
        require(actor, state.place, Act.OVERRIDE)
        return
    summary = "; ".join(f"{check.asks}: {check.found}" for check in unmet)
    word = "gate is" if len(unmet) == 1 else "gates are"
    raise Conflict(
        f"{state.model.name}@{number} was not promoted: {len(unmet)} {word} not met on {stage.name}. {summary}. "
        "A maintainer may override with a reason.",
        field="gates",
    )


@transaction
def demote(actor: Actor, project: str, model_name: str, stage_name: str, act: StageAct) -> None:
    """Empty a stage and clear its stack."""
    state, stage, stack = _placing(actor, project, model_name, stage_name)
    if _done_before(act.uid, state, "demote", stage.name):
        return
    rules.demote(stack, stage, act.expect, model_name)
    stage_records.cut_stack(state.model.model_id, stage.name, 0)
    _placed(actor, state, "demote", (stage, stack), None, act)


@transaction
def roll_back(actor: Actor, project: str, model_name: str, stage_name: str, act: StageAct) -> int:
    """Put a stage back to the latest other version that can stand; returns its number. Gates are not asked."""
    state, stage, stack = _placing(actor, project, model_name, stage_name)
    if _done_before(act.uid, state, "roll back", stage.name):
        return _occupant(stack) or 0
    back = rules.roll_back(stack, stage, state.standings, act.expect, model_name)
    stage_records.cut_stack(state.model.model_id, stage.name, len(back.stack))
    number = back.stack[-1].number
    _placed(actor, state, "roll back", (stage, stack), number, act)
    return number


def _placed(
    actor: Actor,
    state: ModelState,
    kind: str,
    place: tuple[Stage, Stack],
    after: int | None,
    act: StageAct,
    checks: list[dict[str, Any]] | None = None,
) -> None:
    """Write a change of a stage's occupant into its timeline and the journal; `place` is the stage as it was."""
    (stage, stack), model = place, state.model
    before = _occupant(stack)
    comment = checked_comment(act.comment)
    stage_records.add_event(
        model.model_id,
        stage_records.NewEvent(
            id_bytes(act.uid), kind, stage.name, before, after, actor.person_id, comment, checks, act.override
        ),
    )
    subject = f"{model.name}@{after if kind == 'promote' else before}"
    remark = f"{act.comment} (gates overridden: {act.override})".strip() if act.override else act.comment
    log(actor, state, _WORDS[kind], subject, {stage.name: before}, {stage.name: after}, remark)
