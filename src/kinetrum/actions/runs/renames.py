"""Other names for experiments and models; the earlier ones go on leading there, so nothing written down breaks."""

from __future__ import annotations

from kinetrum.actions.context import Actor, Place, enter, experiment_in
from kinetrum.actions.registry.model_state import load_model
from kinetrum.core.base.errors import Conflict
from kinetrum.core.base.permissions import Act
from kinetrum.core.base.values import check_name
from kinetrum.storage.data import artifacts
from kinetrum.storage.db.database import transaction
from kinetrum.storage.people import journal, names, projects
from kinetrum.storage.registry import models


@transaction
def rename_experiment(actor: Actor, project: str, experiment: str, name: str) -> str:
    """Give an experiment another name; returns it. What still records under the earlier one arrives as before.

    Raises Conflict where another experiment has that name or had it.
    """
    place = enter(actor, project, Act.DESCRIBE)
    row = experiment_in(place, experiment)
    check_name(name, "experiment")
    projects.lock_experiment(row.experiment_id)
    other = projects.experiment_named(place.project_id, name)
    if other is not None and other.experiment_id != row.experiment_id:
        raise Conflict(_taken("experiment", name, other.name), field="name")
    if name != row.name:
        names.rename(place.project_id, names.EXPERIMENT, row.experiment_id, row.name, name)
        _log(actor, place, f"experiment:{name}", row.name, name)
    return name


@transaction
def rename_model(actor: Actor, project: str, model_name: str, name: str) -> str:
    """Give a model another name; returns it. Who fetches under the earlier one gets the same as before.

    Raises Conflict where another model or an artifact has that name, or a model had it.
    """
    place = enter(actor, project, Act.RULE)
    model = load_model(place, model_name, lock=True).model
    check_name(name, "model")
    other = models.model_named(place.project_id, name)
    if other is not None and other.model_id != model.model_id:
        raise Conflict(_taken("model", name, other.name), field="name")
    if not artifacts.claim_name(place.project_id, name, "model"):
        raise Conflict(f"{name!r} names an artifact of this project, and a name is one thing.", field="name")
    if name != model.name:
        names.rename(place.project_id, names.MODEL, model.model_id, model.name, name)
        _log(actor, place, name, model.name, name)
    return name


def _taken(what: str, name: str, of: str) -> str:
    if name == of:
        return f"There is {'an' if what[0] in 'aeiou' else 'a'} {what} {name!r} already; choose another name."
    return f"{name!r} was the name of {of} before and still leads there; choose another name."


def _log(actor: Actor, place: Place, subject: str, before: str, after: str) -> None:
    journal.append(
        place.project_id, actor.person_id, "renamed", subject, journal.Change(before, after), "", actor.source
    )
