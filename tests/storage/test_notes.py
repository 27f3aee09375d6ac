"""Notes on all kinds of things, as tables hold them: each under its own reference, none of what is in the bin."""

from __future__ import annotations

import pytest

from kinetrum.storage.db.database import connection, execute, query
from kinetrum.storage.people import notes
from tests.support.world import Project

pytestmark = pytest.mark.usefixtures("_connected")


def ids(project: Project) -> dict[tuple[str, int], str]:
    """Return kinds and ids of things of a project with two versions of one model, with their references."""
    ((project_id, experiment_id, run_id, artifact_id, version_id, model_id),) = query(
        "SELECT p.project_id, e.experiment_id, r.run_id, a.artifact_id, v.version_id, m.model_id FROM project p"
        " JOIN experiment e ON e.project_id = p.project_id JOIN run r ON r.experiment_id = e.experiment_id AND r.number = 1"
        " JOIN artifact a ON a.project_id = p.project_id JOIN artifact_version v ON v.artifact_id = a.artifact_id"
        " AND v.number = 1 JOIN model m ON m.project_id = p.project_id WHERE p.name = %s",
        project.name,
    )
    return {
        ("project", project_id): f"project:{project.name}",
        ("experiment", experiment_id): "experiment:frost-alarm",
        ("run", run_id): "frost-alarm/1",
        ("artifact", artifact_id): "artifact:frost-net",
        ("artifact@", version_id): "frost-net@1",
        ("model", model_id): "model:frost-alarm",
        ("model@", model_id * notes.VERSIONS_PER_MODEL + 2): "frost-alarm@2",
    }


def test_every_kind_has_its_reference(project: Project) -> None:
    project.registered(2)
    with connection():
        wanted = ids(project)
        assert notes.references_of(list(wanted)) == wanted
        assert notes.references_of([]) == {}


def test_what_is_not_there_or_in_the_bin_has_none(project: Project) -> None:
    project.registered(2)
    with connection():
        wanted = ids(project)
        run = next(thing for thing in wanted if thing[0] == "run")
        execute("UPDATE run SET binned_at = NOW() WHERE run_id = %s", run[1])
        model = next(row_id for kind, row_id in wanted if kind == "model")
        nowhere = [("model@", model * notes.VERSIONS_PER_MODEL + 9), ("experiment", 2**31), ("artifact", 2**31)]
        found = notes.references_of([*wanted, *nowhere])
        assert found == {thing: reference for thing, reference in wanted.items() if thing != run}


def test_versions_of_different_models_are_different_things(project: Project) -> None:
    project.registered(1)
    project.registered(1, "dawn-minimum")
    with connection():
        models = [
            row[0]
            for row in query(
                "SELECT m.model_id FROM model m JOIN project p USING (project_id) WHERE p.name = %s ORDER BY m.name",
                project.name,
            )
        ]
        things = [("model@", model * notes.VERSIONS_PER_MODEL + 1) for model in models]
        assert [notes.references_of(things)[thing] for thing in things] == ["dawn-minimum@1", "frost-alarm@1"]
