"""Who reads what of the journal, and of the people in it."""

from __future__ import annotations

import json
import time
from typing import Any

import pytest

from kinetrum.client.transport.http import Service
from kinetrum.core.base import errors
from tests.support.programs import wait_for
from tests.support.world import Instance, Project, change_rows, new_id, read_rows, service_process


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


def test_the_journal_is_searched(project: Project) -> None:
    begun = project.begin("tries")
    maintainer = project.service("maintainer")
    maintainer.call("PUT", project.path("members", "a-stranger"), json={"role": "viewer"})
    path = project.path("journal")
    assert {one["act"] for one in maintainer.get(path, text="began tries")} == {"began"}
    assert {one["subject"] for one in maintainer.get(path, text="role stranger")} == {"a-stranger"}
    assert maintainer.get(path, text="role tries") == []
    with pytest.raises(errors.NotFound):
        maintainer.get(path, person="a-nobody")
    admin = project.service("admin")
    assert {one["person"] for one in maintainer.get(path, person="a-contributor")} == {"A Contributor"}
    (entry,) = [one for one in maintainer.get(path) if one["act"] == "began"]
    assert [one["act"] for one in maintainer.get(path, since=entry["at"], until=entry["at"])] == []
    assert "began" in {one["act"] for one in maintainer.get(path, since=entry["at"])}
    assert "began" not in {one["act"] for one in maintainer.get(path, until=entry["at"])}
    for hostile in ("%", "_", "\\", "' OR 1=1 --"):
        assert maintainer.get(path, text=hostile) == [] or hostile == "_"
    # Of all projects and of the instance, for administrators.
    whole = admin.get("/journal", text=begun["reference"])
    assert project.name in {one["project"] for one in whole}
    with pytest.raises(errors.NotAllowed):
        maintainer.get("/journal")


def test_the_journal_is_taken_along_whole(project: Project) -> None:
    for _ in range(3):
        project.begin("tries")
    with project.service("maintainer").stream(project.path("journal", "lines")) as response:
        lines = [json.loads(line) for line in response.iter_lines()]
    shown = project.service("maintainer").get(project.path("journal"))
    assert lines == list(reversed(shown))
    with pytest.raises(errors.NotAllowed), project.service("approver").stream(project.path("journal", "lines")):
        pass
    with pytest.raises(errors.NotAllowed), project.service("maintainer").stream("/journal/lines"):
        pass


def test_the_chain_tells_what_was_removed_or_altered(instance: Instance, project: Project) -> None:
    """Only who owns the database can do that; the service's own account can only append."""
    begun = project.begin("tries")
    admin = project.service("admin")

    def chained() -> Any:
        state = admin.get("/journal/chain")
        return state if state["unchained"] == 0 else None

    def covered() -> bool:
        (entry,) = [one for one in admin.get(project.path("journal"), text=begun["reference"]) if one["act"] == "began"]
        return bool(read_rows(instance, f"SELECT 1 FROM journal_digest WHERE entry_id = {entry['entry_id']}"))

    wait_for(covered)
    before = chained()
    assert before["fault"] is None and before["entries"] > 3 and len(before["digest"]) == 64
    (entry,) = [one for one in admin.get(project.path("journal"), text=begun["reference"]) if one["act"] == "began"]
    number = entry["entry_id"]
    (act,) = read_rows(instance, f"SELECT act FROM journal WHERE entry_id = {number}")
    change_rows(instance, f"UPDATE journal SET act = 'ended' WHERE entry_id = {number}")
    fault = admin.get("/journal/chain")["fault"]
    assert (fault["entry"], fault["why"]) == (number, "the entry, or one before it, was altered")
    change_rows(instance, f"UPDATE journal SET act = '{act[0]}' WHERE entry_id = {number}")
    assert admin.get("/journal/chain")["fault"] is None
    change_rows(instance, f"CREATE TABLE kept AS SELECT * FROM journal WHERE entry_id = {number}")
    change_rows(instance, f"DELETE FROM journal WHERE entry_id = {number}")
    assert admin.get("/journal/chain")["fault"]["why"] == "the entry was removed"
    change_rows(instance, "INSERT INTO journal SELECT * FROM kept")
    change_rows(instance, "DROP TABLE kept")
    assert admin.get("/journal/chain")["fault"] is None
    with pytest.raises(errors.NotAllowed):
        project.service("maintainer").get("/journal/chain")


def test_two_processes_keep_one_chain(instance: Instance, project: Project) -> None:
    with service_process(instance) as (url, _):
        second = Service(url, project.tokens["contributor"])
        for at in range(20):
            service = second if at % 2 else project.service("contributor")
            service.call("PUT", project.path("experiments", "tries", "runs", new_id()), json={"started_at": 1})
        second.close()
        time.sleep(6)
        state = project.service("admin").get("/journal/chain")
    assert state["fault"] is None
    positions = [row[0] for row in read_rows(instance, "SELECT position FROM journal_digest ORDER BY position")]
    assert positions == list(range(1, len(positions) + 1))
