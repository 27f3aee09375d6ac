"""Consuming: a version by number, stage, lead or digest, counted and verified."""

from __future__ import annotations

from dataclasses import replace

from kinetrum.actions.context import Actor, Place, enter
from kinetrum.actions.data.artifact_versions import stored_entry
from kinetrum.actions.registry.model_state import load_model
from kinetrum.actions.registry.registry_views import VersionDetailView, read_model_version
from kinetrum.actions.registry.version_lookup import pick_version
from kinetrum.core.base.manifests import FileEntry
from kinetrum.core.base.values import check_name
from kinetrum.core.registry.review import Review, Standing, fault_of
from kinetrum.storage.data import artifacts
from kinetrum.storage.db.database import snapshot, transaction
from kinetrum.storage.registry import fetches, models
from kinetrum.storage.registry.fetches import Fetch


def _asked_for(place: Place, model_name: str, which: str) -> tuple[int, int, int]:
    """Return model, number and artifact version of what is asked for: by number or stage in two short statements."""
    model = models.model_named(place.project_id, check_name(model_name, "model"))
    version = models.version_asked_for(model.model_id, which) if model else None
    if model and version:
        return model.model_id, *version
    # `lead`, a digest, or what is not there, which is told in full.
    state = load_model(place, model_name, lock=False)
    number = pick_version(state, which)
    row = next(row for row in models.versions_of_model(state.model.model_id) if row.number == number)
    return state.model.model_id, number, row.version_id


@transaction
def count(actor: Actor, project: str, model_name: str, which: str) -> int:
    """Count a fetch of what a consumer asks for; returns the version's number."""
    model_id, number, _ = _asked_for(enter(actor, project), model_name, which)
    fetches.count_fetch(model_id, number, actor.person_id, which)
    return number


def fetch(actor: Actor, project: str, model_name: str, which: str) -> VersionDetailView:
    """Resolve what a consumer asks for and count it; returns the version with its files."""
    number = count(actor, project, model_name, which)
    return read_model_version(actor, project, model_name, str(number))


@snapshot
def entry_of(actor: Actor, project: str, model_name: str, which: str, path: str) -> tuple[int, FileEntry, str | None]:
    """Return a version's number, one of its files whose bytes are stored, and what is wrong with the version."""
    model_id, number, version_id = _asked_for(enter(actor, project), model_name, which)
    version = artifacts.version_by_id(version_id)
    rejected, retired = models.marks_of(model_id, number)
    review = Review.REJECTED if rejected else Review.PENDING
    # Told as what was asked for: the artifact may be of a project that the actor does not see.
    named = replace(version, name=model_name, number=number)
    return number, stored_entry(named, path), fault_of(Standing(number, review, retired, version.damaged))


@snapshot
def list_fetches(actor: Actor, project: str, model_name: str) -> list[Fetch]:
    """Return who fetched which version of a model, how often and since when; the latest first."""
    return fetches.fetches_of(load_model(enter(actor, project), model_name, lock=False).model.model_id)
