"""Replicates are marked anew a few at a time after an experiment's seeds changed, also where that was cut off."""

from __future__ import annotations

from collections.abc import Iterator

import pytest

from kinetrum.actions.runs import descriptions
from kinetrum.storage.db.database import connection, query, transaction
from kinetrum.storage.people import projects
from kinetrum.storage.runs import reindexing
from tests.support.world import Project


def groups(project: Project) -> list[int]:
    found = project.service("viewer").get(project.path("experiments", "folds", "groups"), by="replicates")
    return sorted(group["runs"] for group in found["groups"])


def waits(experiment_id: int) -> int | None:
    ((marked_to,),) = query("SELECT marked_to FROM experiment WHERE experiment_id = %s", experiment_id)
    return None if marked_to is None else int(marked_to)


@pytest.fixture
def experiment_id(project: Project, _connected: None, monkeypatch: pytest.MonkeyPatch) -> Iterator[int]:
    """An experiment of seven runs that differ in their fold alone."""
    for number in range(7):
        project.begin("folds", params={"fold": number})
    monkeypatch.setattr(reindexing, "_MARKED_AT_ONCE", 3)
    with connection():
        ((found,),) = query(
            "SELECT e.experiment_id FROM experiment e JOIN project p USING (project_id) WHERE p.name = %s", project.name
        )
        yield int(found)


@transaction
def change_alone(experiment_id: int, *seeds: str) -> None:
    """Change the seeds as a service that is killed right afterwards."""
    projects.set_seeds(experiment_id, seeds)


def test_what_was_cut_off_goes_on_and_ends(project: Project, experiment_id: int) -> None:
    assert groups(project) == [1] * 7
    assert waits(experiment_id) is None
    change_alone(experiment_id, "fold")
    assert waits(experiment_id) == 0
    assert descriptions.mark_some(experiment_id)
    assert groups(project) == [1, 1, 1, 1, 3]
    # The same asked once more goes on with what waits, by the service or by itself.
    project.service("contributor").call("PUT", project.path("experiments", "folds", "seeds"), json={"seeds": ["fold"]})
    assert (groups(project), waits(experiment_id)) == ([7], None)
    assert not descriptions.mark_some(experiment_id)
    acts = project.service("viewer").get(project.path("journal"), subject="experiment:folds")
    assert not [entry for entry in acts if entry["act"] == "named the seeds of"]


def test_the_service_goes_on_by_itself(project: Project, experiment_id: int) -> None:
    change_alone(experiment_id, "fold")
    descriptions.mark_some(experiment_id)
    descriptions.mark_what_waits()
    assert (groups(project), waits(experiment_id)) == ([7], None)


def test_another_change_meanwhile_begins_anew(project: Project, experiment_id: int) -> None:
    change_alone(experiment_id, "fold")
    descriptions.mark_some(experiment_id)
    change_alone(experiment_id, "seed")
    assert waits(experiment_id) == 0
    descriptions.mark_what_waits()
    assert groups(project) == [1] * 7


def test_a_run_begun_meanwhile_has_the_new_seeds(project: Project, experiment_id: int) -> None:
    change_alone(experiment_id, "fold")
    descriptions.mark_some(experiment_id)
    project.begin("folds", params={"fold": 8})
    assert groups(project) == [1, 1, 1, 1, 4]
    descriptions.mark_what_waits()
    assert groups(project) == [8]
