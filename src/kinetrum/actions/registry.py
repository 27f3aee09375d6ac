"""The registry: register, review, promote, demote, roll back, retire, choose the lead.

Each act is one transaction under the lock of the model's row: stage, timeline and journal, or nothing.
"""

from __future__ import annotations

from dataclasses import dataclass

from kinetrum.actions.context import Actor, Place, enter, require
from kinetrum.actions.finding import find_run, find_version
from kinetrum.core.errors import Conflict, InvalidInput, NotAllowed, NotFound
from kinetrum.core.ids import id_bytes
from kinetrum.core.permissions import Act, Role
from kinetrum.core.refs import NameRef, RunRef, VersionRef, parse_ref
from kinetrum.core.registry import ladder as rules
from kinetrum.core.registry.ladder import DEFAULT_LADDER, Stack, Stage, Stay
from kinetrum.core.registry.review import Review, Standing
from kinetrum.core.values import check_name
from kinetrum.storage import artifacts, journal, links, models
from kinetrum.storage.artifacts import VersionRow
from kinetrum.storage.clock import iso, now
from kinetrum.storage.database import transaction
from kinetrum.storage.models import ModelRow, ModelVersionRow

COMMENT_LIMIT = 4_000


@dataclass(frozen=True)
class Held:
    """A model with everything that rules look at, its row locked where it is to be changed."""

    place: Place
    model: ModelRow
    ladder: tuple[Stage, ...]
    stacks: dict[str, Stack]
    standings: dict[int, Standing]


def hold(place: Place, name: str, lock: bool) -> Held:
    """Load a model; raises NotFound that names the models there are."""
    model = models.model_named(place.project_id, check_name(name, "model"), lock)
    if model is None:
        known = ", ".join(row.name for row in models.models_of(place.project_id)[:8])
        raise NotFound(f"{place.project.name} has no model {name!r}; it has {known or 'none yet'}.", field="model")
    return Held(
        place,
        model,
        models.ladder_of(model.model_id),
        models.stacks_of(model.model_id),
        models.standings_of(model),
    )


def _comment(text: str) -> str:
    if len(text) > COMMENT_LIMIT:
        raise InvalidInput(f"A comment has up to {COMMENT_LIMIT} characters.", field="comment")
    return text


def _standing(held: Held, number: int) -> Standing:
    if number not in held.standings:
        newest = f"the newest is {held.model.last_number}" if held.model.last_number else "it has none yet"
        raise NotFound(f"{held.model.name} has no version {number}; {newest}.", field="version")
    return held.standings[number]


def _log(actor: Actor, held: Held, act: str, subject: str, before: object, after: object, comment: str) -> None:
    journal.append(held.place.project_id, actor.person_id, act, subject, before, after, comment, actor.origin)


@transaction
def register(
    actor: Actor, project: str, model_name: str, uid: str, source: str, run_ref: str | None, origin: str | None,
    comment: str,
) -> ModelVersionRow:  # fmt: skip
    """Register an artifact version as the next version of a model, which is made on first use.

    `source` is `NAME@NUMBER`, or with `run_ref` the bare name of what that run generated.
    Without a run that generated it, `origin` tells in words where it came from.
    Sent again under the same id, the version that is there comes back.
    """
    place = enter(actor, project, Act.REGISTER)
    raw = id_bytes(uid)
    known = models.version_by_uid(raw)
    if known is not None:
        model = models.model_named(place.project_id, model_name)
        if model is None or known.model_id != model.model_id:
            raise Conflict(f"The id {uid} belongs to another version.", field="id")
        return known
    version, run_id = _source(place, source, run_ref)
    _hold_stored(version)
    if run_id is None and not (origin and origin.strip()):
        raise InvalidInput(
            f"No run generated {version.reference}; tell in words where it came from (origin).",
            field="origin",
        )
    _make_model(actor, place, check_name(model_name, "model"))
    held = hold(place, model_name, lock=True)
    number = models.add_model_version(
        held.model, raw, version.version_id, run_id, origin.strip()[:2000] if origin else None, _comment(comment),
        actor.person_id,
    )  # fmt: skip
    _log(actor, held, "registered", f"{model_name}@{number}", None, {"artifact": version.reference}, comment)
    made = models.version_by_uid(raw)
    if made is None:
        raise NotFound(f"{model_name}@{number} vanished.", field="version")
    return made


def _hold_stored(version: VersionRow) -> None:
    """Hold the content against a purge until it is registered; what is in the bin is restored first."""
    artifacts.lock_versions([version.version_id])
    if artifacts.version_by_id(version.version_id).binned_at is not None:
        raise Conflict(f"{version.reference} is in the bin; restore it, then register it.", field="artifact")


def _makers(version: VersionRow) -> list[int]:
    """Return the runs that generated a version, the first one first."""
    return [link.run_id for link in links.links_of_versions([version.version_id]) if link.relation == "generated"]


def _source(place: Place, source: str, run_ref: str | None) -> tuple[VersionRow, int | None]:
    ref = parse_ref(source)
    if run_ref is None:
        if not isinstance(ref, VersionRef) or ref.path:
            raise InvalidInput(f"{source!r} names no artifact version; write NAME@NUMBER.", field="artifact")
        version = find_version(place, ref.name, ref.which)
        makers = _makers(version)
        return version, makers[0] if makers else None
    run = parse_ref(run_ref)
    if not isinstance(run, RunRef) or run.experiment is None:
        raise InvalidInput(f"{run_ref!r} names no run; write EXPERIMENT/NUMBER.", field="run")
    found = find_run(place, run.experiment, run.pick)
    if isinstance(ref, NameRef):
        version_id = links.latest_of_run(found.run_id, ref.name)
        if version_id is None:
            raise NotFound(f"{found.reference} generated nothing named {ref.name!r}.", field="artifact")
        return artifacts.version_by_id(version_id), found.run_id
    if not isinstance(ref, VersionRef):
        raise InvalidInput(f"{source!r} names no artifact.", field="artifact")
    version = find_version(place, ref.name, ref.which)
    if found.run_id not in _makers(version):
        raise Conflict(f"{found.reference} did not generate {version.reference}.", field="run")
    return version, found.run_id


def _make_model(actor: Actor, place: Place, name: str) -> None:
    if models.model_named(place.project_id, name) is not None:
        return
    if not artifacts.claim_name(place.project_id, name, "model"):
        raise Conflict(
            f"{name!r} names an artifact of this project, and a name is one thing; choose another for the model.",
            field="model",
        )
    if models.model_named(place.project_id, name) is None:
        models.add_model(place.project_id, name, "", DEFAULT_LADDER, actor.person_id)
        journal.append(place.project_id, actor.person_id, "made the model", name, origin=actor.origin)


@transaction
def review(actor: Actor, project: str, model_name: str, number: int, approves: bool | None, comment: str) -> Review:
    """Approve (True), reject (False) or take one's verdict back (None); returns the version's review now."""
    place = enter(actor, project, Act.REVIEW)
    held = hold(place, model_name, lock=True)
    before = _standing(held, number).review
    version = next(row for row in models.versions_of_model(held.model.model_id) if row.number == number)
    if approves and held.model.second_pair and version.created_by == actor.person_id:
        raise NotAllowed(
            f"{held.model.name} asks for a second pair of eyes: who registered version {number} may not approve it."
        )
    mine = [row for row in models.verdicts_of(held.model.model_id)
            if row.number == number and row.person_id == actor.person_id]  # fmt: skip
    if approves is None and not mine:
        raise Conflict(f"{actor.full_name} has no verdict on {model_name}@{number} to take back.", field="verdict")
    if mine and mine[0].approves == approves and mine[0].comment == comment:
        return before
    models.set_verdict(held.model.model_id, number, actor.person_id, approves, _comment(comment))
    after = models.standings_of(held.model)[number].review
    act = {True: "approved", False: "rejected", None: "took back the verdict on"}[approves]
    _log(actor, held, act, f"{model_name}@{number}", before, after, comment)
    return after


def _placing(actor: Actor, project: str, model_name: str, stage_name: str) -> tuple[Held, Stage, Stack]:
    place = enter(actor, project)
    held = hold(place, model_name, lock=True)
    stage = rules.find_stage(held.ladder, stage_name, model_name)
    require(actor, place, act_for(stage))
    return held, stage, held.stacks.get(stage.name, ())


def act_for(stage: Stage) -> Act:
    """Return the act of placing on a stage."""
    return Act.PLACE if stage.least_role in {Role.VIEWER, Role.CONTRIBUTOR} else Act.PLACE_GUARDED


def _done_before(uid: str, held: Held, act: str, stage: str) -> bool:
    known = models.event_by_uid(id_bytes(uid))
    if known is None:
        return False
    if known[:3] != (held.model.model_id, act, stage):
        raise Conflict(f"The id {uid} belongs to another act.", field="id")
    return True


def _occupant(stack: Stack) -> int | None:
    return stack[-1].number if stack else None


@transaction
def promote(
    actor: Actor, project: str, model_name: str, stage_name: str, number: int, expect: int | None, comment: str,
    uid: str,
) -> None:  # fmt: skip
    """Place a version on a stage; `expect` is the occupant the actor saw (None: none)."""
    held, stage, stack = _placing(actor, project, model_name, stage_name)
    if _done_before(uid, held, "promote", stage.name):
        return
    stay = Stay(number, actor.full_name, iso(now()) or "")
    grown = rules.promote(stack, stage, stay, _standing(held, number), expect, model_name)
    models.push_stay(held.model.model_id, stage.name, len(grown) - 1, number, actor.person_id)
    _placed(actor, held, "promote", "promoted", stage, stack, number, comment, uid)


@transaction
def demote(
    actor: Actor, project: str, model_name: str, stage_name: str, expect: int | None, comment: str, uid: str
) -> None:
    """Empty a stage and clear its stack."""
    held, stage, stack = _placing(actor, project, model_name, stage_name)
    if _done_before(uid, held, "demote", stage.name):
        return
    rules.demote(stack, stage, expect, model_name)
    models.cut_stack(held.model.model_id, stage.name, 0)
    _placed(actor, held, "demote", "demoted", stage, stack, None, comment, uid)


@transaction
def roll_back(
    actor: Actor, project: str, model_name: str, stage_name: str, expect: int | None, comment: str, uid: str
) -> int:
    """Put a stage back to the latest earlier version that can stand; returns its number."""
    held, stage, stack = _placing(actor, project, model_name, stage_name)
    if _done_before(uid, held, "roll back", stage.name):
        return _occupant(stack) or 0
    back = rules.roll_back(stack, stage, held.standings, expect, model_name)
    models.cut_stack(held.model.model_id, stage.name, len(back.stack))
    number = back.stack[-1].number
    _placed(actor, held, "roll back", "rolled back", stage, stack, number, comment, uid)
    return number


def _placed(
    actor: Actor,
    held: Held,
    act: str,
    word: str,
    stage: Stage,
    stack: Stack,
    after: int | None,
    comment: str,
    uid: str,
) -> None:
    before = _occupant(stack)
    model = held.model
    models.add_event(model.model_id, id_bytes(uid), act, stage.name, before, after, actor.person_id, _comment(comment))
    subject = f"{model.name}@{after if act == 'promote' else before}"
    _log(actor, held, word, subject, {stage.name: before}, {stage.name: after}, comment)


@transaction
def retire(actor: Actor, project: str, model_name: str, number: int, retired: bool, comment: str) -> None:
    """Put the mark of retirement on a version, or take it off."""
    place = enter(actor, project, Act.RETIRE)
    held = hold(place, model_name, lock=True)
    if _standing(held, number).retired == retired:
        return
    models.set_retired(held.model.model_id, number, retired)
    act = "retired" if retired else "took back the retirement of"
    _log(actor, held, act, f"{model_name}@{number}", not retired, retired, _comment(comment))


@transaction
def choose_lead(actor: Actor, project: str, model_name: str, number: int | None, comment: str) -> None:
    """Choose the lead version, or (None) leave it to the highest occupied stage."""
    place = enter(actor, project, Act.CHOOSE_LEAD)
    held = hold(place, model_name, lock=True)
    if number is not None:
        standing = _standing(held, number)
        if standing.review is not Review.APPROVED or standing.retired or standing.damaged:
            state = "retired" if standing.retired else "damaged" if standing.damaged else standing.review
            raise Conflict(f"Version {number} is {state}; the lead version is approved, not retired and intact.",
                           field="version")  # fmt: skip
    before = held.model.lead_number
    if before == number:
        return
    models.set_lead(held.model.model_id, number)
    _log(actor, held, "chose the lead version of", model_name, before, number, _comment(comment))
