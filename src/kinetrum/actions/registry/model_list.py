"""Models over all projects that one may see, searched and filtered, every ladder at a glance."""

from __future__ import annotations

from dataclasses import dataclass

from kinetrum.actions.context import Actor, enter, visible_projects
from kinetrum.actions.registry.registry_views import warning_of
from kinetrum.core.base.errors import InvalidInput
from kinetrum.core.registry.review import Review, kept_standing
from kinetrum.storage.db.database import snapshot
from kinetrum.storage.registry import model_summaries
from kinetrum.storage.registry.model_summaries import Summary

STATES = ("pending", "warning", "unplaced")
PAGE_LIMIT = 1_000


@dataclass(frozen=True)
class Listed:
    """A model, what is wrong with each occupant by stage, and its lead version."""

    summary: Summary
    warnings: dict[str, str]
    lead: int | None


@dataclass(frozen=True)
class ModelPage:
    """A stretch of the models that fit, and how many fit altogether."""

    models: list[Listed]
    count: int


@snapshot
def list_models(
    actor: Actor, project: str | None, find: str = "", state: str | None = None, offset: int = 0, limit: int = 100
) -> ModelPage:
    """Return models by name, of one project or (None) of all that the actor may see.

    `find`: words that each stand in the name, purpose, person, project or a label. `state`: `pending` (a version waits
    for review), `warning` (something is wrong with an occupant) or `unplaced` (no stage is occupied).
    """
    if state is not None and state not in STATES:
        raise InvalidInput(f"The state is one of {', '.join(STATES)}, not {state!r}.", field="state")
    if project is not None:
        ids = [enter(actor, project).project_id]
    else:
        ids = [one.project.project_id for one in visible_projects(actor)]
    summaries = [one for one in model_summaries.models_in(ids) if _has_words(one, find)]
    size = min(limit, PAGE_LIMIT)
    if state is None:
        # Only those of the page are looked at closer, however many there are.
        page = summaries[offset : offset + size]
        model_summaries.complete(page)
        return ModelPage([_listed(one) for one in page], len(summaries))
    model_summaries.complete(summaries)
    fitting = [one for one in map(_listed, summaries) if _is(one, state)]
    return ModelPage(fitting[offset : offset + size], len(fitting))


@dataclass(frozen=True)
class Trouble:
    """An occupant that could not be placed any more: what is wrong with it."""

    project: str
    model: str
    stage: str
    number: int
    warning: str


def occupants_in_trouble(project_ids: list[int]) -> list[Trouble]:
    """Return the occupants that are rejected, retired or damaged; inside a running snapshot."""
    summaries = model_summaries.models_in(project_ids)
    model_summaries.complete(summaries, reviews=False)
    return [
        Trouble(one.summary.project, one.summary.name, stage.stage.name, stage.number, one.warnings[stage.stage.name])
        for one in map(_listed, summaries)
        for stage in one.summary.stages
        if stage.number and stage.stage.name in one.warnings
    ]


def _listed(summary: Summary) -> Listed:
    warnings = {}
    for stage in summary.stages:
        wrong = (
            warning_of(stage.stage, kept_standing(stage.standing, stage.approvals_asked)) if stage.standing else None
        )
        if wrong:
            warnings[stage.stage.name] = wrong
    return Listed(summary, warnings, _lead(summary))


def _lead(summary: Summary) -> int | None:
    """Return the lead version by the rule of `core.registry.ladder.lead_of`."""
    highest = next((highest_stage for highest_stage in reversed(summary.stages) if highest_stage.number), None)
    if summary.lead_number is not None:
        standing, approvals = summary.lead_standing, summary.lead_approvals
    elif highest is not None:
        standing, approvals = highest.standing, highest.approvals_asked
    else:
        return None
    if standing is None:
        return None
    standing = kept_standing(standing, max(1, approvals))
    if standing.review is not Review.APPROVED or standing.retired or standing.damaged:
        return None
    return standing.number


def _has_words(summary: Summary, find: str) -> bool:
    labels = [f"{key}={text}" for key, text in summary.labels.items()]
    words_of_model = "\n".join([summary.name, summary.purpose, summary.person, summary.project, *labels]).lower()
    return all(word in words_of_model for word in find.lower().split())


def _is(one: Listed, state: str) -> bool:
    if state == "pending":
        return one.summary.reviews[Review.PENDING] > 0
    return bool(one.warnings) if state == "warning" else not any(stage.number for stage in one.summary.stages)
