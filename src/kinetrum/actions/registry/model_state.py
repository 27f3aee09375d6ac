"""The registry: review, retire, choose the lead; a model held for any act on it.

Each act is one transaction under the lock of the model's row: stage, timeline and journal, or nothing.
"""

from __future__ import annotations

from dataclasses import dataclass

from kinetrum.actions.context import Actor, Place, enter
from kinetrum.core.base.errors import Conflict, InvalidInput, NotAllowed, NotFound
from kinetrum.core.base.permissions import Act
from kinetrum.core.base.values import check_name
from kinetrum.core.registry.ladder import Stack, Stage, Stay
from kinetrum.core.registry.review import Review, Standing, kept_standing
from kinetrum.storage.db.database import transaction
from kinetrum.storage.people import journal
from kinetrum.storage.registry import models, stage_records, verdict_records
from kinetrum.storage.registry.models import ModelRow

COMMENT_LIMIT = 4_000


@dataclass(frozen=True)
class ModelState:
    """A model with everything that rules look at, its row locked where it is to be changed."""

    place: Place
    model: ModelRow
    ladder: tuple[Stage, ...]
    stacks: dict[str, Stack]
    standings: dict[int, Standing]

    @property
    def chosen_lead(self) -> Stay | None:
        """The version chosen as the lead, under the rules of then; None where none was chosen."""
        number = self.model.lead_number
        return None if number is None else Stay(number, approvals_asked=self.model.lead_approvals)

    def standing_on(self, stage: Stage) -> Standing | None:
        """Return how a stage's occupant stands, under the rules by which it was placed; None for an empty stage."""
        stack = self.stacks.get(stage.name, ())
        return kept_standing(self.standings[stack[-1].number], stack[-1].approvals_asked) if stack else None


def load_model(place: Place, name: str, lock: bool) -> ModelState:
    """Load a model; raises NotFound that names the models there are, Conflict where one to change is in the bin."""
    model = models.model_named(place.project_id, check_name(name, "model"), lock)
    if model is None:
        known = ", ".join(row.name for row in models.models_of(place.project_id)[:8])
        raise NotFound(f"{place.project.name} has no model {name!r}; it has {known or 'none yet'}.", field="model")
    if lock and model.binned_at is not None:
        raise Conflict(
            f"{model.name} is in the bin; 'kinetrum bin --restore model:{model.name}' takes it out.", field="model"
        )
    return ModelState(
        place,
        model,
        stage_records.ladder_of(model.model_id),
        stage_records.stacks_of(model.model_id),
        verdict_records.standings_of(model),
    )


def checked_comment(text: str) -> str:
    """Return a comment that is not over the limit."""
    if len(text) > COMMENT_LIMIT:
        raise InvalidInput(f"A comment has up to {COMMENT_LIMIT} characters.", field="comment")
    return text


def standing_of(state: ModelState, number: int) -> Standing:
    """Return how a version stands; raises NotFound that says which is the newest."""
    if number not in state.standings:
        newest = f"the newest is {state.model.last_number}" if state.model.last_number else "it has none yet"
        raise NotFound(f"{state.model.name} has no version {number}; {newest}.", field="version")
    return state.standings[number]


def log(actor: Actor, state: ModelState, act: str, subject: str, before: object, after: object, comment: str) -> None:
    """Write an act on a model into the journal, inside the running transaction."""
    journal.append(
        state.place.project_id, actor.person_id, act, subject, journal.Change(before, after), comment, actor.source
    )


@transaction
def review(actor: Actor, project: str, model_name: str, number: int, approves: bool | None, comment: str) -> Review:
    """Approve (True), reject (False) or take one's verdict back (None); returns the version's review now."""
    place = enter(actor, project, Act.REVIEW)
    state = load_model(place, model_name, lock=True)
    before = standing_of(state, number).review
    version = next(row for row in models.versions_of_model(state.model.model_id) if row.number == number)
    if approves and state.model.second_pair and version.created_by == actor.person_id:
        raise NotAllowed(
            f"{state.model.name} asks for a second pair of eyes: who registered version {number} may not approve it."
        )
    mine = [
        row
        for row in verdict_records.verdicts_of(state.model.model_id)
        if row.number == number and row.person_id == actor.person_id
    ]
    if approves is None and not mine:
        raise Conflict(f"{actor.full_name} has no verdict on {model_name}@{number} to take back.", field="verdict")
    # What was given before the newest evidence came is given anew, also in the same words.
    if mine and mine[0].approves == approves and mine[0].comment == comment and not mine[0].older:
        return before
    verdict_records.set_verdict(state.model.model_id, number, actor.person_id, approves, checked_comment(comment))
    after = verdict_records.standings_of(state.model)[number].review
    act = {True: "approved", False: "rejected", None: "took back the verdict on"}[approves]
    log(actor, state, act, f"{state.model.name}@{number}", before, after, comment)
    return after


@transaction
def retire(actor: Actor, project: str, model_name: str, number: int, retired: bool, comment: str) -> None:
    """Put the mark of retirement on a version, or take it off."""
    place = enter(actor, project, Act.RETIRE)
    state = load_model(place, model_name, lock=True)
    if standing_of(state, number).retired == retired:
        return
    models.set_retired(state.model.model_id, number, retired)
    act = "retired" if retired else "took back the retirement of"
    log(actor, state, act, f"{state.model.name}@{number}", not retired, retired, checked_comment(comment))


@transaction
def choose_lead(actor: Actor, project: str, model_name: str, number: int | None, comment: str) -> None:
    """Choose the lead version, or (None) leave it to the highest occupied stage."""
    place = enter(actor, project, Act.CHOOSE_LEAD)
    model_state = load_model(place, model_name, lock=True)
    if number is not None:
        standing = standing_of(model_state, number)
        if standing.review is not Review.APPROVED or standing.retired or standing.damaged:
            state = "retired" if standing.retired else "damaged" if standing.damaged else standing.review
            raise Conflict(
                f"Version {number} is {state}; the lead version is approved, not retired and intact.", field="version"
            )
    before = model_state.model.lead_number
    if before == number:
        return
    models.set_lead(model_state.model.model_id, number, model_state.model.approvals_needed)
    log(actor, model_state, "chose the lead version of", model_name, before, number, checked_comment(comment))
