"""Tokens: their scopes, projects and ends, who makes them, and what becomes of them."""

from __future__ import annotations

import hashlib
from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, datetime, timedelta
from typing import Any

import httpx
import pytest

from kinetrum.core.access import token_form
from kinetrum.core.base import errors
from tests.support.world import ALL_SCOPES, PASSWORD, Instance, Project, Service, change_rows, new_id, read_rows


def make(project: Project, role: str = "maintainer", **fields: Any) -> dict[str, Any]:
    body = {"name": f"t-{new_id()[-12:]}", "person": f"a-{role}", **fields}
    made: dict[str, Any] = project.service("admin").call("POST", "/tokens", json=body)
    return made


def speaks(project: Project, made: dict[str, Any]) -> Service:
    return project.instance.service(made["secret"])


def test_without_a_choice_a_token_does_everything_but_administer_for_ninety_days(project: Project) -> None:
    made = make(project)
    assert made["scopes"] == [scope for scope in ALL_SCOPES if scope != "administer"]
    assert made["projects"] is None
    end = datetime.fromisoformat(made["expires_at"])
    assert timedelta(days=89, hours=23) < end - datetime.now(UTC) < timedelta(days=90, minutes=1)
    assert token_form.is_whole(made["secret"])
    with pytest.raises(errors.NotAllowed, match="takes the scope 'administer', and the token has read, record"):
        speaks(project, made).call("PUT", project.path("members", "a-viewer"), json={"role": "viewer"})


def test_a_token_is_limited_to_projects(instance: Instance, project: Project) -> None:
    """Another project is as if it were not there, in every list too, though its person is its maintainer."""
    other = f"q-{new_id()[-8:]}"
    admin = instance.service()
    admin.call("POST", "/projects", json={"name": other})
    admin.call("PUT", f"/projects/{other}/members/a-maintainer", json={"role": "maintainer"})
    limited = speaks(project, make(project, projects=[project.name]))
    assert [row["name"] for row in limited.get("/projects")] == [project.name]
    with pytest.raises(errors.NotFound, match="no project"):
        limited.get(f"/projects/{other}")
    with pytest.raises(errors.NotFound, match="no project"):
        limited.get(f"/projects/{other}/events")
    assert {one["name"] for one in project.service("maintainer").get("/projects")} >= {other, project.name}
    with pytest.raises(errors.NotFound):
        make(project, projects=["no-such-project"])


def test_an_administrators_token_is_limited_too(project: Project) -> None:
    admin = project.service("admin")
    made = admin.call(
        "POST", "/tokens", json={"name": f"t-{new_id()[-12:]}", "scopes": ["read"], "projects": [project.name]}
    )
    reader = speaks(project, made)
    assert [row["name"] for row in reader.get("/projects")] == [project.name]
    for method, path, body in (
        ("GET", "/people", None),
        ("POST", "/projects", {"name": "x-y"}),
        ("POST", "/storage/checks", {"remove_orphans": False}),
        ("POST", "/people", {"name": "x", "full_name": "X", "password": PASSWORD}),
    ):
        with pytest.raises(errors.NotAllowed, match="takes the scope 'administer'"):
            reader.call(method, path, json=body)


def test_a_token_makes_none_that_may_more(project: Project) -> None:
    made = make(project, scopes=["read", "record", "administer"], projects=[project.name])
    maker = speaks(project, made)
    less = maker.call(
        "POST", "/tokens", json={"name": f"t-{new_id()[-12:]}", "scopes": ["record"], "projects": [project.name]}
    )
    assert less["scopes"] == ["record"]
    with pytest.raises(errors.NotAllowed, match="has not the scope 'review'"):
        maker.call("POST", "/tokens", json={"name": "x", "scopes": ["review"], "projects": [project.name]})
    with pytest.raises(errors.NotAllowed, match="limited to projects"):
        maker.call("POST", "/tokens", json={"name": "x", "scopes": ["read"]})
    with pytest.raises(errors.NotAllowed, match="takes the scope 'administer'"):
        speaks(project, less).call(
            "POST", "/tokens", json={"name": "x", "scopes": ["record"], "projects": [project.name]}
        )


def test_a_token_ends(instance: Instance, project: Project, raw: httpx.Client) -> None:
    """What it says then is when, which is not what is said of a mistyped or an unknown one."""
    made = make(project, days=1)
    with pytest.raises(errors.InvalidInput, match="1 to 3,660 days"):
        make(project, days=0)
    assert make(project, days=None)["expires_at"] is None
    speaks(project, made).get("/projects")
    digest = hashlib.sha256(made["secret"].encode()).hexdigest()
    change_rows(instance, f"UPDATE token SET expires_at = '2026-01-02 03:00' WHERE secret_sha256 = x'{digest}'")
    with pytest.raises(errors.NotSignedIn, match="ended on 2026-01-02; connect again"):
        speaks(project, made).get("/projects")
    mistyped = made["secret"][:-1] + ("a" if made["secret"][-1] != "a" else "b")
    for secret, why in ((mistyped, "mistyped or cut short"), (token_form.new_secret(), "not known here")):
        answer = raw.get("/projects", headers={"Authorization": f"Bearer {secret}"})
        assert answer.status_code == 401 and why in answer.json()["detail"]


def test_what_a_token_makes_ends_with_it_at_the_latest(project: Project) -> None:
    service = speaks(project, make(project, scopes=["read", "administer"], days=2))
    mine = project.service("maintainer").get("/tokens")[0]["expires_at"]
    for days, same in ((1, False), (2, True), (3, True), (None, True)):
        body = {"name": f"t-{new_id()[-12:]}", "scopes": ["read"], "days": days}
        for path in ("/tokens", project.path("tokens")):
            ends = service.call("POST", path, json=body)["expires_at"]
            assert (ends == mine) is same and ends <= mine
    # One that does not end makes what it is asked for.
    unbounded = {"name": f"t-{new_id()[-12:]}", "scopes": ["read"], "days": None}
    endless = speaks(project, make(project, scopes=["read", "administer"], days=None))
    assert endless.call("POST", "/tokens", json=unbounded)["expires_at"] is None


def test_a_name_is_one_token_also_of_two_at_once(project: Project) -> None:
    """Of a person and of a machine; whoever comes second is told."""
    owner = project.service("maintainer")
    maker = speaks(project, make(project, scopes=["read", "administer"]))

    def try_one(path: str, name: str) -> bool:
        try:
            maker.call("POST", path, json={"name": name, "scopes": ["read"]})
        except errors.Conflict:
            return False
        return True

    with ThreadPoolExecutor(6) as many:
        for path in ("/tokens", project.path("tokens")):
            for _ in range(4):
                name = f"t-{new_id()[-12:]}"
                assert sum(many.map(lambda _, path=path, name=name: try_one(path, name), range(6))) == 1
                assert [one["name"] for one in owner.get(path)].count(name) == 1


def test_machines_of_long_and_taken_names(instance: Instance, project: Project) -> None:
    owner = project.service("maintainer")
    for first in "ab":
        made = owner.call("POST", project.path("tokens"), json={"name": first + "x" * 99, "scopes": ["record"]})
        assert instance.service(made["secret"]).get("/session")["full_name"] == first + "x" * 99
    # Somebody is called as the account of a machine would be.
    owner.call("POST", project.path("tokens"), json={"name": "first", "scopes": ["record"]})
    rows = read_rows(instance, "SELECT name FROM person WHERE full_name = 'first' ORDER BY person_id DESC")
    person = rows[0][0].replace("first", "weekly")
    instance.service().call("POST", "/people", json={"name": person, "full_name": "Ada Weekly", "password": PASSWORD})
    made = owner.call("POST", project.path("tokens"), json={"name": "weekly", "scopes": ["record"]})
    assert instance.service(made["secret"]).get("/session")["name"] == f"{person}-2"


def test_last_use_is_noted_once_a_minute(instance: Instance, project: Project) -> None:
    """Also where two programs use a token in turn: not every request writes."""
    made = make(project)

    def noted() -> tuple[str, str]:
        (one,) = [row for row in project.service("maintainer").get("/tokens") if row["name"] == made["name"]]
        return one["last_used_at"], one["last_used_from"]

    def ask(program: str) -> None:
        headers = {"Authorization": f"Bearer {made['secret']}", "User-Agent": program}
        assert httpx.get(f"{instance.url}/api/v1/session", headers=headers).status_code == 200

    ask("first")
    before = noted()
    assert before[1] == "127.0.0.1 first"
    ask("second")
    assert noted() == before
    change_rows(instance, f"UPDATE token SET last_used_at = NOW(6) - INTERVAL 61 SECOND WHERE name = '{made['name']}'")
    ask("second")
    assert noted()[1] == "127.0.0.1 second"


def test_last_use_and_revoking(project: Project) -> None:
    made = make(project, scopes=["read", "administer"])
    name = made["name"]
    owner = project.service("maintainer")
    (listed,) = [one for one in owner.get("/tokens") if one["name"] == name]
    assert (listed["last_used_at"], listed["last_used_from"]) == (None, "")
    assert "secret" not in listed
    speaks(project, made).get("/projects")
    (listed,) = [one for one in owner.get("/tokens") if one["name"] == name]
    assert listed["last_used_at"] is not None
    assert listed["last_used_from"].startswith("127.0.0.1 ")
    with pytest.raises(errors.NotAllowed):
        project.service("viewer").get("/tokens", person="a-maintainer")
    assert name in {one["name"] for one in project.service("admin").get("/tokens", person="a-maintainer")}
    # Whoever finds one can stop it with itself.
    speaks(project, made).remove(f"/tokens/{name}")
    with pytest.raises(errors.NotSignedIn, match="was revoked on"):
        speaks(project, made).get("/projects")
    assert name not in {one["name"] for one in owner.get("/tokens")}


def test_a_token_without_administer_revokes_itself_and_no_other(project: Project) -> None:
    first, second = make(project, scopes=["record"]), make(project, scopes=["record"])
    with pytest.raises(errors.NotAllowed):
        speaks(project, first).remove(f"/tokens/{second['name']}")
    speaks(project, first).remove(f"/tokens/{first['name']}")
    with pytest.raises(errors.NotSignedIn):
        speaks(project, first).get("/projects")
    speaks(project, second).get("/session")


def test_a_machine_records_under_its_own_name(project: Project) -> None:
    """It has no person, no sign-in, and is no member; what it does is said to be of it, by its token."""
    maintainer = project.service("maintainer")
    body = {"name": "nightly", "scopes": ["record"]}
    made = maintainer.call("POST", project.path("tokens"), json=body)
    assert (made["scopes"], made["projects"]) == (["record"], [project.name])
    machine = project.instance.service(made["secret"])
    uid = new_id()
    begun = machine.call("PUT", project.path("experiments", "tries", "runs", uid), json={"started_at": 1})
    assert begun["reference"] == "tries/1"
    run = maintainer.get(project.path("experiments", "tries", "runs", "1"))
    assert run["author"] == "nightly"
    entries = maintainer.get(project.path("journal"))
    (entry,) = [one for one in entries if one["act"] == "began"]
    assert (entry["person"], entry["token"]) == ("nightly", "nightly")
    # What it was not made for, it does not do: not even read.
    with pytest.raises(errors.NotAllowed, match="takes the scope 'read'"):
        machine.get(project.path("experiments", "tries", "runs", "1"))
    assert machine.get("/projects") == []
    with pytest.raises(errors.Conflict, match="has a token 'nightly' in use"):
        maintainer.call("POST", project.path("tokens"), json=body)
    assert "nightly" not in {one["full_name"] for one in maintainer.get(project.path("members"))}
    assert not [one for one in project.service("admin").get("/people") if "nightly" in one["name"]]
    for name in ("nightly", f"nightly-of-{project.name}"):
        with pytest.raises(errors.NotFound):
            maintainer.call("PUT", project.path("members", name), json={"role": "maintainer"})
    (listed,) = maintainer.get(project.path("tokens"))
    assert (listed["name"], listed["made_by"]) == ("nightly", "A Maintainer")
    maintainer.remove(project.path("tokens", "nightly"))
    with pytest.raises(errors.NotSignedIn, match="was revoked"):
        machine.call("PUT", project.path("experiments", "tries", "runs", new_id()), json={"started_at": 1})
    # A later machine of that name is the same to the journal; its old token stays revoked.
    again = maintainer.call("POST", project.path("tokens"), json={**body, "scopes": ["read"]})
    assert project.instance.service(again["secret"]).get(project.path("experiments", "tries", "runs", "1"))
    with pytest.raises(errors.NotSignedIn):
        machine.get("/session")


@pytest.mark.parametrize(
    "scopes",
    [["read"], ["report"], ["record"], ["review"], ["place"], ["register"]],
)
def test_a_machine_does_what_it_is_for_and_no_more(project: Project, scopes: list[str]) -> None:
    """A machine that reviews still cannot record, and one that reads cannot open the project's settings."""
    made = project.service("maintainer").call("POST", project.path("tokens"), json={"name": "m", "scopes": scopes})
    machine = project.instance.service(made["secret"])
    with pytest.raises(errors.NotAllowed):
        machine.get(project.path("settings"))
    if "record" not in scopes:
        with pytest.raises(errors.NotAllowed):
            machine.call("PUT", project.path("experiments", "e", "runs", new_id()), json={"started_at": 1})


def test_the_journal_names_the_token(project: Project) -> None:
    made = make(project)
    begun = speaks(project, made).call(
        "PUT", project.path("experiments", "tries", "runs", new_id()), json={"started_at": 1}
    )
    (entry,) = [
        one
        for one in project.service("maintainer").get(project.path("journal"))
        if begun["reference"] in one["subject"]
    ]
    assert (entry["person"], entry["token"]) == ("A Maintainer", made["name"])
