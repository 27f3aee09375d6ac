"""Which version a number, a stage, `lead` or a digest means, and what a name is."""

from __future__ import annotations

from dataclasses import dataclass

from kinetrum.actions.context import Actor, Place, enter
from kinetrum.actions.registry.model_state import ModelState, standing_of
from kinetrum.core.base.errors import InvalidInput, KinetrumError, NotFound
from kinetrum.core.base.permissions import Role
from kinetrum.core.registry import ladder as rules
from kinetrum.core.registry.review import newest_approved
from kinetrum.storage.data import artifacts
from kinetrum.storage.db.database import snapshot
from kinetrum.storage.people import projects
from kinetrum.storage.registry import models

DIGITS = 8


def lead_or_none(state: ModelState) -> int | None:
    """Return the lead version's number, None where there is none."""
    try:
        return rules.lead_of(state.chosen_lead, state.ladder, state.stacks, state.standings, state.model.name)
    except KinetrumError:
        return None


def pick_version(state: ModelState, which: str) -> int:
    """Return the version number that a number, a stage, `lead`, `newest` or `sha256:…` stands for."""
    model = state.model
    if which.isascii() and which.isdigit() and len(which) < 10:
        return standing_of(state, int(which)).number
    if which == "lead":
        return rules.lead_of(state.chosen_lead, state.ladder, state.stacks, state.standings, model.name)
    if which == "newest":
        newest = newest_approved(state.standings.values())
        if newest is None:
            raise NotFound(f"{model.name} has no approved version yet.", field="version")
        return newest
    if which == "latest" or which.startswith("best:"):
        raise NotFound(
            f"{model.name} is a model, and {which} is a word for artifacts: {model.name}@newest is its newest approved "
            f"version, {model.name}@lead the one in use.",
            field="version",
        )
    if which.startswith("sha256:"):
        return _of_digest(state, which)
    stage = rules.find_stage(state.ladder, which, model.name)
    stack = state.stacks.get(stage.name, ())
    if not stack:
        raise NotFound(f"No version of {model.name} stands on {stage.name}.", field="version")
    return stack[-1].number


def _of_digest(state: ModelState, which: str) -> int:
    """Return the newest version whose files have a digest that begins so."""
    digits = which.removeprefix("sha256:")
    if len(digits) < DIGITS:
        raise InvalidInput(f"A digest is named by {DIGITS} or more of its hexadecimal digits.", field="version")
    numbers = {
        artifacts.version_by_id(row.version_id).digest: row.number
        for row in reversed(models.versions_of_model(state.model.model_id))
        if artifacts.version_by_id(row.version_id).digest.startswith(digits)
    }
    if not numbers:
        raise NotFound(f"No version of {state.model.name} has a digest that begins with {which}.", field="version")
    if len(numbers) > 1:
        raise InvalidInput(
            f"{which} names {len(numbers)} versions of {state.model.name}; give more digits.", field="version"
        )
    return next(iter(numbers.values()))


def thing_named(place: Place, name: str) -> str | None:
    """Return whether a name is an artifact, a model, an experiment, or nothing."""
    return artifacts.thing_of_name(place.project_id, name) or (
        "experiment" if projects.experiment_named(place.project_id, name) else None
    )


@dataclass(frozen=True)
class Named:
    """What a bare name names: every kind of thing that has it."""

    name: str
    things: list[str]
    role: Role


@snapshot
def what_is(actor: Actor, project: str, name: str) -> Named:
    """Tell what a bare name is: experiment, artifact, model, or several of them."""
    place = enter(actor, project)
    things = [thing for thing in [artifacts.thing_of_name(place.project_id, name)] if thing]
    if projects.experiment_named(place.project_id, name):
        things.insert(0, "experiment")
    if not things:
        raise NotFound(f"{place.project.name} has no experiment, artifact or model {name!r}.", field="name")
    return Named(name, things, place.role)
