"""Models over HTTP: lists with pages and states, feeds, the journal of every act, random acts of many at once."""

from __future__ import annotations

import random
import threading
from typing import Any
from xml.etree import ElementTree

import httpx
import pytest

from kinetrum.core.base import errors
from tests.support.world import Project, new_id

ATOM = "{http://www.w3.org/2005/Atom}"


def test_pages_and_states_of_a_list(project: Project) -> None:
    for name in ("b-model", "a-model", "c-model"):
        project.registered(2, name)
    project.verdict(1, "approve", model="a-model")
    project.verdict(2, "approve", model="a-model")
    service = project.service("viewer")
    path = project.path("models")
    first = service.get(path, limit=2)
    assert ([one["name"] for one in first["models"]], first["count"]) == (["a-model", "b-model"], 3)
    assert [one["name"] for one in service.get(path, limit=2, offset=2)["models"]] == ["c-model"]
    assert first["models"][0]["reviews"] == {"pending": 0, "approved": 2, "rejected": 0}
    assert [one["name"] for one in service.get(path, state="pending")["models"]] == ["b-model", "c-model"]
    assert service.get(path, state="unplaced")["count"] == 3
    assert [one["name"] for one in service.get(path, find="A-MOD")["models"]] == ["a-model"]
    with pytest.raises(errors.InvalidInput):
        service.get(path, state="odd")
    with pytest.raises(errors.InvalidInput):
        service.get(path, limit=0)
    # What a list tells is what the model itself tells.
    whole = service.get(project.path("models", "a-model"))
    glance = first["models"][0]
    assert (glance["lead"], glance["versions"], glance["person"]) == (
        whole["lead"],
        len(whole["versions"]),
        whole["person"],
    )


def test_the_rule_of_lists_is_the_rule_of_models(project: Project) -> None:
    """Counting in the database and judging one by one come to the same, whatever the verdicts are."""
    chance = random.Random(7)
    project.registered(8)
    project.service("maintainer").call(
        "PUT", project.path("models", "frost-alarm", "rules"), json={"approvals_needed": 2}
    )
    for number in range(1, 9):
        for role in ("approver", "maintainer"):
            verdict = chance.choice(["approve", "reject", None])
            if verdict:
                project.verdict(number, verdict, role)
    service = project.service("viewer")
    reviews = [one["review"] for one in service.get(project.path("models", "frost-alarm"))["versions"]]
    (glance,) = service.get(project.path("models"))["models"]
    assert glance["reviews"] == {state: reviews.count(state) for state in ("pending", "approved", "rejected")}


def test_a_feed_of_everything_that_happened(project: Project) -> None:
    project.registered(1)
    project.verdict(1, "approve")
    project.place("promotions", "production", version=1, expect=None, comment="go <b>now</b> \x07&")
    url = f"{project.instance.url}/api/v1{project.path('models', 'frost-alarm', 'feed')}"
    answer = httpx.get(url, headers={"Authorization": f"Bearer {project.tokens['viewer']}"})
    assert answer.headers["content-type"].startswith("application/atom+xml")
    feed = ElementTree.fromstring(answer.content)
    entries = feed.findall(f"{ATOM}entry")
    assert [entry.findtext(f"{ATOM}title") for entry in entries] == [
        "promoted frost-alarm@1",
        "approved frost-alarm@1",
        "registered frost-alarm@1",
        "made the model frost-alarm",
    ]
    assert entries[0].findtext(f"{ATOM}content") == "production: none → 1. go <b>now</b> &"
    assert entries[0].findtext(f"{ATOM}author/{ATOM}name") == "A Approver"
    # RFC 4287: an id, a title and when for the feed and for each entry, and ids never repeat.
    for part in (feed, *entries):
        assert all(part.findtext(f"{ATOM}{name}") for name in ("id", "title", "updated"))
    assert len({entry.findtext(f"{ATOM}id") for entry in entries}) == len(entries)
    stranger = httpx.get(url, headers={"Authorization": f"Bearer {project.tokens['stranger']}"})
    assert stranger.status_code == 404


WRONG: list[tuple[dict[str, Any], str | None]] = [
    ({"values": {"": 1}}, None),
    ({"values": {"x": {"float": "much"}}}, None),
    ({"labels": {"a": "x" * 10_000}}, "a"),
    ({"signature": {"inputs": 3}}, "signature.inputs"),
    ({"origin": "x" * 2_001}, None),
    ({"labels": {"a'b": "x"}}, None),
    ({"artifact": "frost-net@1:net.onnx"}, "artifact"),
    ({"run": "nothing"}, "run"),
]


def test_what_cannot_be_registered_changes_nothing(project: Project) -> None:
    project.registered(1)
    service = project.service("contributor")
    path = project.path("models", "frost-alarm", "versions")
    for body, field in WRONG:
        with pytest.raises(errors.InvalidInput) as refused:
            service.call("POST", path, json={"id": new_id(), "artifact": "frost-net@1", **body})
        assert field is None or refused.value.field == field, body
    assert len(service.get(project.path("models", "frost-alarm"))["versions"]) == 1
    # Nothing said of a signature is as good as not said.
    said = {"id": new_id(), "artifact": "frost-net@1", "signature": {}}
    assert service.call("POST", path, json=said)["signature"] is None


def act_at_random(project: Project, seed: int, done: list[str]) -> None:
    """Place, roll back, demote and judge as chance will have it, over the occupant that was seen; notes what was done."""
    chance = random.Random(seed)
    for _ in range(14):
        stages = project.service("viewer").get(project.path("models", "frost-alarm"))["stages"]
        stage = chance.choice(stages[:2])
        kind = chance.choice(["promotions", "promotions", "promotions", "rollbacks", "demotions", "verdict"])
        try:
            if kind == "verdict":
                project.verdict(chance.randint(1, 4), chance.choice(["approve", "reject"]), "maintainer")
            else:
                version = {"version": chance.randint(1, 4)} if kind == "promotions" else {}
                project.place(kind, stage["name"], "maintainer", expect=stage["occupant"], **version)
        except errors.Conflict:
            continue
        done.append(kind)


def test_random_acts_of_many_at_once_leave_one_history(project: Project) -> None:
    """The timeline of each stage is a chain: what one act left is what the next one found, and the last is what stands."""
    project.registered(4)
    for number in range(1, 5):
        project.verdict(number, "approve")
    # The clients of both roles are there before the threads: each is made once.
    assert project.service("viewer") is not project.service("maintainer")
    done: list[str] = []
    threads = [threading.Thread(target=act_at_random, args=(project, seed, done)) for seed in range(4)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    service = project.service("maintainer")
    model = service.get(project.path("models", "frost-alarm"))
    assert len(model["events"]) == len([kind for kind in done if kind != "verdict"])
    for stage in model["stages"]:
        chain = [event for event in model["events"] if event["stage"] == stage["name"]]
        found = None
        for event in chain:
            assert event["before"] == found
            found = event["after"]
        assert found == stage["occupant"]
    # Every act has its line in the journal, and nothing else has one.
    acts = [entry["act"] for entry in service.get(project.path("journal"), subject="frost-alarm", limit=500)]
    assert sum(acts.count(word) for word in ("promoted", "demoted", "rolled back")) == len(model["events"])
    (glance,) = service.get(project.path("models"))["models"]
    assert {one["name"]: one["occupant"] for one in glance["stages"]} == {
        one["name"]: one["occupant"] for one in model["stages"]
    }
    assert {one["name"]: one["warning"] for one in glance["stages"]} == {
        one["name"]: one["warning"] for one in model["stages"]
    }
    assert glance["lead"] == model["lead"]


def test_gates_asked_for_by_a_form(project: Project) -> None:
    project.registered(1)
    model, service = project.path("models", "frost-alarm"), project.service("maintainer")
    stages = [{"name": "staging"}, {"name": "prod.eu"}]
    service.call("PUT", f"{model}/ladder", json={"stages": stages})
    kinds = {kind["kind"]: kind for kind in service.get("/gate-kinds")}
    assert list(kinds) == ["bound", "better", "evidence", "approvals", "card", "signature", "recorded"]
    body = {"gates": "# ours\n", "stage": "prod.eu", "kind": "approvals", "fields": {"approvals": "2"}}
    draft = service.call("POST", f"{model}/gates/drafts", json=body)["gates"]
    assert service.get(model)["gates"] == ""
    service.call("PUT", f"{model}/gates", json={"gates": draft})
    assert service.get(model)["gates"] == '# ours\n\n["prod.eu"]\napprovals = 2\n'
    with pytest.raises(errors.InvalidInput, match="No stage is named 'production'; the ladder is staging"):
        service.call("POST", f"{model}/gates/drafts", json=body | {"stage": "production"})
    with pytest.raises(errors.NotFound):
        project.service("stranger").call("POST", f"{model}/gates/drafts", json=body)
