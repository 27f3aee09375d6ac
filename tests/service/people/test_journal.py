"""Who reads what of the journal, and of the people in it."""

from __future__ import annotations

import pytest

from kinetrum.core.base import errors
from tests.support.world import Project


def test_the_journal_of_a_thing_is_for_everybody_of_the_project(project: Project) -> None:
    project.registered()
    entries = project.service("viewer").get(project.path("journal"), subject="frost-alarm")
    assert [entry["act"] for entry in entries] == ["registered", "made the model"]
    assert entries[0]["person"] == "A Contributor"
    assert [entry["origin"] for entry in entries] == ["", ""]
    whole = project.service("maintainer").get(project.path("journal"), subject="frost-alarm")
    assert whole[0]["origin"].startswith("127.0.0.1")


def test_who_has_an_account_is_for_administrators_to_know(project: Project, people: dict[str, str]) -> None:
    place = project.path("members", "nobody-of-this-name")
    with pytest.raises(errors.NotFound, match=r"Unknown person 'nobody-of-this-name'\.$"):
        project.service("maintainer").call("PUT", place, json={"role": "viewer"})
    with pytest.raises(errors.NotFound, match=r"Choose one of: .*a-viewer"):
        project.service("admin").call("PUT", place, json={"role": "viewer"})


def test_what_is_done_to_members_is_for_who_reads_the_journal(project: Project) -> None:
    name = project.service("contributor").get("/session")["name"]
    path = project.path("journal")
    assert project.service("maintainer").get(path, subject=name)[0]["origin"].startswith("127.0.0.1")
    for role in ("viewer", "contributor", "approver"):
        assert project.service(role).get(path, subject=name) == []


def test_a_model_called_like_a_person_shows_nothing_of_the_person(project: Project) -> None:
    name = project.service("contributor").get("/session")["name"]
    project.registered(model=name)
    acts = {entry["act"] for entry in project.service("viewer").get(project.path("journal"), subject=name)}
    assert acts == {"registered", "made the model"}
    whole = project.service("maintainer").get(project.path("journal"), subject=name)
    assert "changed a role" in {entry["act"] for entry in whole}
