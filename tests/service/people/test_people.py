"""People: invited, slowed when they guess, deactivated; what they change of their own."""

from __future__ import annotations

import re
import statistics
import time
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import ExitStack, closing
from pathlib import Path
from typing import Any

import httpx
import pytest

from kinetrum.core.base import errors
from kinetrum.instance import control
from kinetrum.instance.settings import Home
from tests.support.programs import wait_for
from tests.support.world import ALL_SCOPES, PASSWORD, Instance, Project, Service, change_rows, new_id, service_process


@pytest.fixture
def browser(instance: Instance) -> Iterator[httpx.Client]:
    with httpx.Client(base_url=f"{instance.url}/api/v1", timeout=30) as client:
        yield client


@pytest.fixture(autouse=True)
def _no_failures_before(instance: Instance) -> None:
    """All tests come from one address."""
    change_rows(instance, "DELETE FROM sign_in_failure")


def person(instance: Instance, **fields: Any) -> str:
    name = f"x-{new_id()[-10:]}"
    body = {"name": name, "full_name": "Noor Adair", "password": PASSWORD, **fields}
    instance.service().call("POST", "/people", json=body)
    return name


def sign_in(client: httpx.Client, name: str, password: str = PASSWORD) -> httpx.Response:
    answer = client.post("/session", json={"name": name, "password": password})
    if answer.status_code == 200:
        client.headers["Kinetrum-Csrf"] = answer.json()["csrf_token"]
    return answer


def test_an_invitation_opens_once(instance: Instance, browser: httpx.Client) -> None:
    name = f"x-{new_id()[-10:]}"
    made = instance.service().call(
        "POST", "/people", json={"name": name, "full_name": "Noor Adair", "mail": "n@a.example"}
    )
    assert re.fullmatch(rf"{instance.url}/welcome/kl_[\w-]{{43}}", made["link"])
    secret = made["link"].rpartition("/")[2]
    # Before it is opened nobody is let in, by whatever password.
    assert sign_in(browser, name, "").status_code == 401
    assert sign_in(browser, name, PASSWORD).status_code == 401
    for _ in range(2):
        welcome = browser.get(f"/account-links/{secret}").json()
        assert (welcome["name"], welcome["full_name"], welcome["purpose"]) == (name, "Noor Adair", "invitation")
    weak = browser.post(f"/account-links/{secret}", json={"password": "short"})
    assert (weak.status_code, weak.json()["field"]) == (422, "password")
    assert browser.post(f"/account-links/{secret}", json={"password": PASSWORD}).status_code == 204
    assert sign_in(browser, name).status_code == 200
    for answer in (
        browser.get(f"/account-links/{secret}"),
        browser.post(f"/account-links/{secret}", json={"password": "another long password"}),
        browser.get("/account-links/kl_nothing"),
    ):
        assert answer.status_code == 404 and "opens nothing" in answer.json()["detail"]
    assert sign_in(browser, name).status_code == 200


def test_an_invitation_ends_after_three_days_and_by_a_newer_one(instance: Instance, browser: httpx.Client) -> None:
    admin, name = instance.service(), f"x-{new_id()[-10:]}"
    first = admin.call("POST", "/people", json={"name": name, "full_name": "N"})["link"].rpartition("/")[2]
    (listed,) = [one for one in admin.get("/people") if one["name"] == name]
    assert listed["invited_until"] is not None and listed["sessions"] == 0
    second = admin.call("POST", f"/people/{name}/links")["link"].rpartition("/")[2]
    assert browser.get(f"/account-links/{first}").status_code == 404
    change_rows(instance, "UPDATE account_link SET expires_at = NOW(6) - INTERVAL 1 DAY WHERE used_at IS NULL")
    assert browser.post(f"/account-links/{second}", json={"password": PASSWORD}).status_code == 404


def test_two_who_open_one_link_at_once(instance: Instance, browser: httpx.Client) -> None:
    name = f"x-{new_id()[-10:]}"
    link = instance.service().call("POST", "/people", json={"name": name, "full_name": "N"})["link"]
    path = f"/account-links/{link.rpartition('/')[2]}"
    with ThreadPoolExecutor(4) as threads:
        tries = list(
            threads.map(lambda at: browser.post(path, json={"password": f"{at} {PASSWORD}"}).status_code, range(4))
        )
    assert sorted(tries) == [204, 404, 404, 404]


def test_a_link_for_a_new_password_ends_sessions_and_if_asked_tokens(instance: Instance, browser: httpx.Client) -> None:
    admin, name = instance.service(), person(instance)
    sign_in(browser, name)
    token = admin.call("POST", "/tokens", json={"name": "laptop", "person": name})["secret"]
    bearer = {"Authorization": f"Bearer {token}"}
    for revoke, status in ((False, 200), (True, 401)):
        secret = admin.call("POST", f"/people/{name}/links")["link"].rpartition("/")[2]
        with httpx.Client(base_url=f"{instance.url}/api/v1") as fresh:
            assert fresh.get(f"/account-links/{secret}").json()["purpose"] == "new password"
            body = {"password": f"fresh {PASSWORD}", "revoke_tokens": revoke}
            assert fresh.post(f"/account-links/{secret}", json=body).status_code == 204
        assert browser.get("/projects").status_code == 401
        assert httpx.get(f"{instance.url}/api/v1/projects", headers=bearer).status_code == status


def pass_time(instance: Instance, seconds: int) -> None:
    """Set when the last wrong passwords came; below zero they are still to come, and whoever has to wait waits."""
    last = f"UTC_TIMESTAMP(6) - INTERVAL {seconds} SECOND"
    change_rows(instance, f"UPDATE sign_in_failure SET last_at = {last}")


def test_guesses_are_slowed_by_name_and_nobody_inside_is(instance: Instance, browser: httpx.Client) -> None:
    """The sixth waits, whoever guesses; who has a session or a token goes on; the right password does after the pause."""
    name = person(instance)
    sign_in(browser, name)
    with httpx.Client(base_url=f"{instance.url}/api/v1") as guesser:
        # An unknown name is slowed alike: that it is slowed tells nothing.
        for one in (name, "nobody-here"):
            assert [sign_in(guesser, one, f"wrong {at}").status_code for at in range(5)] == [401] * 5
            pass_time(instance, -60)
            assert sign_in(guesser, one, "wrong").status_code == 429
        refused = sign_in(guesser, name)
        assert refused.status_code == 429
        assert refused.headers["Retry-After"] == "1"
        assert "Too many passwords were wrong with this name; try again in 1 s" in refused.json()["detail"]
        assert browser.get("/projects").status_code == 200
        pass_time(instance, 1)
        assert sign_in(guesser, name).status_code == 200
        # Forgotten with the right one.
        assert sign_in(guesser, name, "wrong").status_code == 401
        assert sign_in(guesser, name).status_code == 200
    entries = instance.service().get("/journal", subject=name)
    assert "was slowed at sign-in" in {one["act"] for one in entries}


def test_guesses_are_slowed_by_address_over_many_names_on_every_process(instance: Instance) -> None:
    with service_process(instance) as (url, _), httpx.Client(base_url=f"{url}/api/v1") as other:
        with httpx.Client(base_url=f"{instance.url}/api/v1") as first:
            clients = (first, other)
            statuses = [sign_in(clients[at % 2], f"name-{at}", "wrong").status_code for at in range(20)]
        assert statuses == [401] * 20
        pass_time(instance, -60)
        assert sign_in(other, "name-20", "wrong").status_code == 429
        name = person(instance)
        refused = sign_in(other, name)
        assert refused.status_code == 429 and "from this address" in refused.json()["detail"]


def test_unknown_and_known_names_take_the_same_time(instance: Instance, browser: httpx.Client) -> None:
    name = person(instance)
    times: dict[str, list[float]] = {name: [], "nobody-at-all": []}
    for at in range(14):
        for one, measured in times.items():
            change_rows(instance, "DELETE FROM sign_in_failure")
            began = time.perf_counter()
            assert sign_in(browser, one, f"wrong {at}").status_code == 401
            measured.append(time.perf_counter() - began)
    known, unknown = (statistics.median(one) for one in times.values())
    assert 0.6 < known / unknown < 1.6


def test_who_is_deactivated_is_out_at_once(instance: Instance, browser: httpx.Client, project: Project) -> None:
    """Session, token, link and stream of changes, on another process too; what they did keeps their name."""
    admin, name = instance.service(), person(instance)
    admin.call("PUT", project.path("members", name), json={"role": "contributor"})
    sign_in(browser, name)
    token = admin.call("POST", "/tokens", json={"name": "laptop", "person": name})["secret"]
    mine = instance.service(token)
    mine.call("PUT", project.path("experiments", "tries", "runs", new_id()), json={"started_at": 1})
    with service_process(instance) as (url, _), httpx.Client(base_url=f"{url}/api/v1", timeout=15) as other:
        with other.stream("GET", "/events", headers={"Authorization": f"Bearer {token}"}) as stream:
            lines = stream.iter_lines()
            next(lines)
            admin.call("PATCH", f"/people/{name}", json={"is_active": False})
            began = time.monotonic()
            for _ in lines:
                continue
            assert time.monotonic() - began < 3
        assert other.get("/projects", headers={"Authorization": f"Bearer {token}"}).status_code == 401
    assert browser.get("/projects").status_code == 401
    assert sign_in(browser, name).status_code == 401
    with pytest.raises(errors.NotSignedIn, match="was revoked"):
        mine.get("/projects")
    assert project.service("viewer").get(project.path("experiments", "tries", "runs", "1"))["author"] == "Noor Adair"
    assert name not in {one["name"] for one in project.service("viewer").get(project.path("members"))}
    for path, body in (("/tokens", {"name": "x", "person": name}), (f"/people/{name}/links", None)):
        with pytest.raises(errors.Conflict, match="is deactivated"):
            admin.call("POST", path, json=body)
    back = admin.call("PATCH", f"/people/{name}", json={"is_active": True})
    assert back["deactivated_at"] is None
    assert sign_in(browser, name).status_code == 200
    with pytest.raises(errors.NotSignedIn):
        mine.get("/projects")


def test_the_last_administrator_stays(instance: Instance) -> None:
    admin = instance.service()
    me = admin.get("/session")["name"]
    for change in ({"is_admin": False}, {"is_active": False}):
        with pytest.raises(errors.Conflict, match="is the last administrator"):
            admin.call("PATCH", f"/people/{me}", json=change)
    other = person(instance, is_admin=True)
    assert admin.call("PATCH", f"/people/{other}", json={"is_admin": False})["is_admin"] is False


def test_of_two_last_administrators_one_stays(tmp_path: Path) -> None:
    home = Home(tmp_path / "i")
    url = control.up(home, 0)["url"]
    opened = ExitStack()
    try:
        first = opened.enter_context(closing(Service(url, home.token.read_text().strip())))
        mine = first.get("/session")["name"]
        body = {"name": "ada", "full_name": "Ada Lind", "password": PASSWORD, "is_admin": True}
        first.call("POST", "/people", json=body)
        asked = {"name": "t", "person": "ada", "scopes": ALL_SCOPES}
        second = opened.enter_context(closing(Service(url, first.call("POST", "/tokens", json=asked)["secret"])))
        both = {mine: first, "ada": second}

        def leave(name: str) -> bool:
            try:
                both[name].call("PATCH", f"/people/{name}", json={"is_admin": False})
            except errors.Conflict:
                return False
            return True

        with ThreadPoolExecutor(2) as many:
            for _ in range(10):
                left = list(many.map(leave, both))
                assert sorted(left) == [False, True]
                stayed, gone = (mine, "ada") if left[1] else ("ada", mine)
                both[stayed].call("PATCH", f"/people/{gone}", json={"is_admin": True})
    finally:
        opened.close()
        control.down(home)


def test_ones_own_account(instance: Instance, browser: httpx.Client) -> None:
    name = person(instance)
    sign_in(browser, name)
    changed = browser.patch(
        "/account", json={"full_name": " Noor B. Adair ", "time_zone": "Europe/Vienna", "theme": "dark"}
    )
    assert {key: changed.json()[key] for key in ("full_name", "time_zone", "theme")} == {
        "full_name": "Noor B. Adair",
        "time_zone": "Europe/Vienna",
        "theme": "dark",
    }
    assert browser.get("/account").json() == changed.json()
    for wrong, field in (
        ({"time_zone": "Mars/Olympus"}, "time_zone"),
        ({"time_zone": "../../etc/passwd"}, "time_zone"),
        ({"theme": "pink"}, "theme"),
        ({"full_name": " "}, "full_name"),
    ):
        answer = browser.patch("/account", json=wrong)
        assert (answer.status_code, answer.json()["field"]) == (422, field)
    assert browser.patch("/account", json={"time_zone": ""}).json()["time_zone"] == ""


def test_a_token_changes_no_account(instance: Instance, browser: httpx.Client) -> None:
    """A stolen laptop's token, with every scope, takes nothing over."""
    name = person(instance)
    scopes = ["read", "record", "register", "review", "place", "report", "administer"]
    made = instance.service().call("POST", "/tokens", json={"name": "laptop", "person": name, "scopes": scopes})
    mine = instance.service(made["secret"])
    for method, path, body in (
        ("PUT", "/account/password", {"current": PASSWORD, "password": f"other {PASSWORD}"}),
        ("PATCH", "/account", {"full_name": "X"}),
        ("DELETE", "/account/sessions", None),
        ("DELETE", "/account/sessions/1", None),
        ("PUT", f"/people/{name}/password", {"password": f"other {PASSWORD}"}),
    ):
        with pytest.raises(errors.NotAllowed):
            mine.call(method, path, json=body)
    assert sign_in(browser, name).status_code == 200


def test_a_new_password_takes_the_present_one(instance: Instance, browser: httpx.Client) -> None:
    name = person(instance)
    with httpx.Client(base_url=f"{instance.url}/api/v1") as elsewhere:
        sign_in(elsewhere, name)
        sign_in(browser, name)
        fresh = f"fresh {PASSWORD}"
        wrong = browser.put("/account/password", json={"current": "not it at all", "password": fresh})
        assert wrong.status_code == 401
        for password in ("short", "aaaaaaaaaaaaaaa", name * 2):
            answer = browser.put("/account/password", json={"current": PASSWORD, "password": password})
            assert (answer.status_code, answer.json()["field"]) == (422, "password")
        assert browser.put("/account/password", json={"current": PASSWORD, "password": fresh}).status_code == 204
        # The session that asked goes on, the others do not.
        assert browser.get("/projects").status_code == 200
        assert elsewhere.get("/projects").status_code == 401
    # Guesses at the present one are slowed as at sign-in.
    statuses = [
        browser.put("/account/password", json={"current": f"guess {at}", "password": fresh}).status_code
        for at in range(7)
    ]
    assert 429 in statuses


def test_sessions_are_listed_and_ended(instance: Instance, browser: httpx.Client) -> None:
    name = person(instance)
    sign_in(browser, name)
    with httpx.Client(base_url=f"{instance.url}/api/v1", headers={"User-Agent": "a tablet"}) as tablet:
        sign_in(tablet, name)
        listed = browser.get("/account/sessions").json()
        assert [one["is_this"] for one in listed].count(True) == 1
        (other,) = [one for one in listed if not one["is_this"]]
        assert other["origin"] == "127.0.0.1 a tablet"
        assert browser.delete(f"/account/sessions/{other['id']}").status_code == 204
        assert tablet.get("/projects").status_code == 401
        assert browser.delete(f"/account/sessions/{other['id']}").status_code == 404
        sign_in(tablet, name)
        assert browser.delete("/account/sessions").status_code == 204
        assert tablet.get("/projects").status_code == 401
        assert browser.get("/projects").status_code == 200
    # Nobody ends another's.
    stranger = person(instance)
    with httpx.Client(base_url=f"{instance.url}/api/v1") as client:
        sign_in(client, stranger)
        (mine,) = browser.get("/account/sessions").json()
        assert client.delete(f"/account/sessions/{mine['id']}").status_code == 404


def test_an_idle_session_ends(instance: Instance, browser: httpx.Client) -> None:
    name = person(instance)
    sign_in(browser, name)
    for days, status in ((6, 200), (8, 401)):
        change_rows(
            instance,
            f"UPDATE session JOIN person USING (person_id) SET seen_at = UTC_TIMESTAMP(6) - INTERVAL {days} DAY"
            f" WHERE person.name = '{name}'",
        )
        assert browser.get("/projects").status_code == status


def test_an_administrators_new_password_for_somebody_ends_their_tokens(instance: Instance) -> None:
    admin, name = instance.service(), person(instance)
    mine = instance.service(admin.call("POST", "/tokens", json={"name": "laptop", "person": name})["secret"])
    mine.get("/projects")
    admin.call("PUT", f"/people/{name}/password", json={"password": f"fresh {PASSWORD}"})
    wait_for(lambda: True)
    with pytest.raises(errors.NotSignedIn):
        mine.get("/projects")
