"""Signing in elsewhere: by the stand-in provider, as browsers do, and as somebody who lies does."""

from __future__ import annotations

import json
import os
import socket
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any
from urllib.parse import parse_qs, urlsplit

import httpx
import pytest
from joserfc import jwt
from joserfc.jwk import OctKey, RSAKey

from kinetrum.core.access.claims import as_name, read_claims
from kinetrum.demo.stand_ins import sign_in_provider
from kinetrum.demo.stand_ins.sign_in_provider import Provider
from kinetrum.demo.stand_ins.starting import CLIENT, SECRET
from tests.support.world import PASSWORD, Instance, Project, change_rows, new_id, service_process

MARA = {"sub": "7", "preferred_username": "Mara.Ostrow", "name": "Mara Ostrow", "email": "mara@kestrelfold.example"}


@pytest.fixture(scope="module")
def people_file(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return tmp_path_factory.mktemp("provider") / "people.json"


@pytest.fixture(scope="module")
def provider(people_file: Path) -> Iterator[Provider]:
    people_file.write_text("[]")
    made = Provider(0, people_file)
    threading.Thread(target=made.serve_forever, daemon=True).start()
    yield made
    made.shutdown()
    made.server_close()


@pytest.fixture(scope="module")
def url(instance: Instance, provider: Provider) -> Iterator[str]:
    """A process of the service that knows the provider."""
    settings = {
        "KINETRUM_OIDC_ISSUER": provider.issuer,
        "KINETRUM_OIDC_CLIENT": CLIENT,
        "KINETRUM_OIDC_SECRET": SECRET,
        "KINETRUM_OIDC_LABEL": "Sign in with Kestrelfold",
    }
    with service_process(instance, **settings) as (address, _):
        yield address


@pytest.fixture
def browser(url: str) -> Iterator[httpx.Client]:
    with httpx.Client(base_url=url, timeout=30) as client:
        yield client


def told(people_file: Path, **claims: Any) -> dict[str, Any]:
    """Let the provider know one person, whom nobody met before."""
    one = {**MARA, "sub": new_id(), "preferred_username": f"m{new_id()[-10:]}", **claims}
    people_file.write_text(json.dumps([one]))
    return one


def out_and_back(browser: httpx.Client, one: dict[str, Any], to: str = "/orchard/models") -> httpx.Response:
    """Go to the provider, choose who one is, and come back; returns what the service answers then."""
    return browser.get(way_back(browser, one, to))


def way_back(browser: httpx.Client, one: dict[str, Any], to: str = "/orchard/models") -> str:
    out = browser.get("/api/v1/sign-in/elsewhere", params={"to": to})
    assert out.status_code == 302
    with httpx.Client() as there:
        assert one["name"] in there.get(out.headers["location"]).text
        chosen = there.get(out.headers["location"], params=None, follow_redirects=False)
        assert chosen.status_code == 200
        answer = there.get(f"{out.headers['location']}&as={one['sub']}")
    return str(answer.headers["location"])


def test_somebody_appears_with_their_first_sign_in(
    instance: Instance, browser: httpx.Client, people_file: Path, project: Project
) -> None:
    group = f"g-{new_id()[-8:]}"
    project.service("maintainer").call("PUT", project.path("groups", group), json={"role": "contributor"})
    one = told(people_file, groups=[group, "Others & More"])
    assert browser.get("/api/v1/sign-in").json() == {"passwords": True, "elsewhere": "Sign in with Kestrelfold"}
    answer = out_and_back(browser, one)
    assert (answer.status_code, answer.headers["location"]) == (302, "/orchard/models")
    me = browser.get("/api/v1/session").json()
    assert (me["name"], me["full_name"], me["is_admin"]) == (one["preferred_username"], "Mara Ostrow", False)
    assert browser.get(f"/api/v1/projects/{project.name}").json()["role"] == "contributor"
    own = browser.get("/api/v1/account").json()
    assert (sorted(own["groups"]), own["has_password"]) == (sorted([group, "others-more"]), False)
    # They have no password, so none lets anybody in.
    for password in ("", PASSWORD):
        assert browser.post("/api/v1/session", json={"name": me["name"], "password": password}).status_code == 401
    # The next time they are the same, with the groups of then.
    people_file.write_text(json.dumps([{**one, "groups": [], "preferred_username": "somebody-else"}]))
    out_and_back(browser, one)
    assert browser.get("/api/v1/session").json()["name"] == me["name"]
    assert browser.get(f"/api/v1/projects/{project.name}").status_code == 404
    change_rows(instance, "DELETE FROM sign_in_failure")


def test_a_name_that_is_taken_is_not_taken_over(instance: Instance, browser: httpx.Client, people_file: Path) -> None:
    """Whoever may choose names at the provider does not become the administrator here."""
    name, _ = instance.first_account
    one = told(people_file, preferred_username=name)
    out_and_back(browser, one)
    me = browser.get("/api/v1/session").json()
    assert me["name"].startswith(f"{name}-") and me["is_admin"] is False


def test_who_was_deactivated_here_does_not_come_back(
    instance: Instance, browser: httpx.Client, people_file: Path
) -> None:
    one = told(people_file)
    out_and_back(browser, one)
    instance.service().call("PATCH", f"/people/{one['preferred_username']}", json={"is_active": False})
    browser.cookies.clear()
    assert out_and_back(browser, one).headers["location"] == "/?refused=deactivated"
    assert browser.get("/api/v1/session").status_code == 204


def test_a_code_is_good_once_for_the_browser_that_began(browser: httpx.Client, people_file: Path, url: str) -> None:
    one = told(people_file)
    back = way_back(browser, one)
    # Another's browser: nobody is signed in as somebody else by a link.
    with httpx.Client(base_url=url) as other:
        assert other.get(back).headers["location"] == "/?refused=begun-elsewhere"
        other.get("/api/v1/sign-in/elsewhere")
        assert other.get(back).headers["location"] == "/?refused=begun-elsewhere"
    assert browser.get(back).headers["location"] == "/orchard/models"
    assert browser.get(back).headers["location"] == "/?refused=begun-elsewhere"


@pytest.mark.parametrize("to", ["https://evil.example/", "//evil.example", "/\\evil.example", "/a\nb", "x"])
def test_nobody_is_led_elsewhere_by_a_link_to_here(browser: httpx.Client, people_file: Path, to: str) -> None:
    assert out_and_back(browser, told(people_file), to).headers["location"] == "/"


def lying(
    provider: Provider, browser: httpx.Client, people_file: Path, monkeypatch: pytest.MonkeyPatch, **changes: Any
) -> str:
    """Come back with an ID token of which something does not hold; returns where the browser is led."""
    one = told(people_file)
    header, key = {"alg": "RS256", "kid": provider.key.kid}, provider.key
    encode = jwt.encode

    def forge(_: dict[str, Any], claims: dict[str, Any], __: Any) -> str:
        forged = {name: value for name, value in {**claims, **changes.get("claims", {})}.items() if value is not None}
        return str(
            encode(changes.get("header", header), forged, changes.get("key", key), algorithms=["HS256", "RS256"])
        )

    monkeypatch.setattr(sign_in_provider.jwt, "encode", forge)
    return str(out_and_back(browser, one).headers["location"])


@pytest.mark.parametrize(
    "changes",
    [
        {"claims": {"nonce": "another"}},
        {"claims": {"nonce": None}},
        {"claims": {"aud": "somebody-else"}},
        # Made for somebody else, who passes it on.
        {"claims": {"aud": [CLIENT, "somebody-else"]}},
        {"claims": {"aud": [CLIENT, "somebody-else"], "azp": "somebody-else"}},
        {"claims": {"azp": "somebody-else"}},
        {"claims": {"iss": "http://127.0.0.1:1"}},
        {"claims": {"exp": int(time.time()) - 3_600}},
        {"claims": {"exp": None}},
        {"claims": {"sub": None}},
        {"key": RSAKey.generate_key(2048)},
        # The secret that both know is no key of the provider.
        {"header": {"alg": "HS256"}, "key": OctKey.import_key(SECRET * 5)},
    ],
)
def test_a_token_that_does_not_hold_lets_nobody_in(
    provider: Provider,
    browser: httpx.Client,
    people_file: Path,
    monkeypatch: pytest.MonkeyPatch,
    changes: dict[str, Any],
) -> None:
    assert lying(provider, browser, people_file, monkeypatch, **changes) == "/?refused=not-believed"
    assert browser.get("/api/v1/session").status_code == 204


@pytest.mark.parametrize("audience", [[CLIENT], [CLIENT, "somebody-else"]])
def test_a_token_for_several_is_believed_where_it_was_made_for_us(
    provider: Provider,
    browser: httpx.Client,
    people_file: Path,
    monkeypatch: pytest.MonkeyPatch,
    audience: list[str],
) -> None:
    claims = {"aud": audience, "azp": CLIENT}
    assert lying(provider, browser, people_file, monkeypatch, claims=claims) == "/orchard/models"


def test_a_provider_that_hangs_holds_up_nobody_who_signs_in_here(instance: Instance) -> None:
    with socket.create_server(("127.0.0.1", 0), backlog=64) as silent:
        settings = {
            "KINETRUM_OIDC_ISSUER": f"http://127.0.0.1:{silent.getsockname()[1]}",
            "KINETRUM_OIDC_CLIENT": CLIENT,
        }
        with service_process(instance, **settings) as (address, _), ThreadPoolExecutor(6) as many:
            hanging = [many.submit(httpx.get, f"{address}/api/v1/sign-in/elsewhere", timeout=60) for _ in range(6)]
            time.sleep(1)
            name, password = instance.first_account
            body = {"name": name, "password": password}
            # A provider is given up after ten seconds.
            assert httpx.post(f"{address}/api/v1/session", json=body, timeout=8).status_code == 200
            assert {one.result().status_code for one in hanging} == {503}


def test_what_is_asked_has_a_challenge_and_no_secret(browser: httpx.Client) -> None:
    out = browser.get("/api/v1/sign-in/elsewhere")
    asked = {key: values[0] for key, values in parse_qs(urlsplit(out.headers["location"]).query).items()}
    assert (asked["response_type"], asked["code_challenge_method"]) == ("code", "S256")
    assert len(asked["code_challenge"]) == 43 and len(asked["state"]) >= 32 and len(asked["nonce"]) >= 32
    assert SECRET not in out.headers["location"]
    cookie = out.headers["set-cookie"]
    assert "HttpOnly" in cookie and "SameSite=lax" in cookie and "Path=/api/v1/sign-in" in cookie


def test_passwords_can_be_off(instance: Instance, provider: Provider) -> None:
    name, password = instance.first_account
    environment = {
        "KINETRUM_OIDC_ISSUER": provider.issuer,
        "KINETRUM_OIDC_CLIENT": CLIENT,
        "KINETRUM_PASSWORDS": "off",
    }
    with service_process(instance, **environment) as (url, _):
        assert httpx.get(f"{url}/api/v1/sign-in").json()["passwords"] is False
        refused = httpx.post(f"{url}/api/v1/session", json={"name": name, "password": password})
        assert refused.status_code == 403 and "sign in at the provider" in refused.json()["detail"]


@pytest.mark.parametrize(
    ("environment", "why"),
    [
        ({"KINETRUM_PASSWORDS": "off"}, "nobody could sign in"),
        ({"KINETRUM_OIDC_ISSUER": "http://login.example"}, "begins with https://"),
        ({"KINETRUM_OIDC_ISSUER": "https://login.example"}, "KINETRUM_OIDC_CLIENT is not set"),
    ],
)
def test_wrong_settings_of_a_provider_are_said(environment: dict[str, str], why: str) -> None:
    done = subprocess.run(
        [sys.executable, "-m", "kinetrum.service.main"],
        env=os.environ | {"KINETRUM_DATABASE": "x", "KINETRUM_STORE": "/tmp/x"} | environment,
        capture_output=True,
        text=True,
        check=False,
        timeout=30,
    )
    assert done.returncode == 1 and why in done.stderr and "Traceback" not in done.stderr


def test_without_a_provider_there_is_no_such_way(instance: Instance) -> None:
    assert httpx.get(f"{instance.url}/api/v1/sign-in").json() == {"passwords": True, "elsewhere": None}
    assert httpx.get(f"{instance.url}/api/v1/sign-in/elsewhere").status_code == 404


@pytest.mark.parametrize(
    ("text", "name"),
    [
        ("Mara.Ostrow", "mara.ostrow"),
        ("mara@kestrelfold.example", "mara-kestrelfold.example"),
        ("7 of 9", "x-7-of-9"),
        ("Ünïcode", "n-code"),
        ("../../etc", "etc"),
        ("", "x"),
        ("latest", "latest-1"),
        ("a" * 300, "a" * 100),
    ],
)
def test_what_they_are_called_here(text: str, name: str) -> None:
    assert as_name(text) == name


def test_claims_that_are_missing_or_odd() -> None:
    claims = read_claims(
        "https://a", {"sub": 7, "groups": "growers", "name": "x\x1b[2J"}, "preferred_username", "groups"
    )
    assert (claims.subject, claims.name, claims.full_name, claims.groups) == ("https://a 7", "x-7", "7", ("growers",))
    long = [read_claims("https://a", {"sub": "7" * 298 + last}, "n", "groups").subject for last in "ab"]
    assert len(set(long)) == 2 and max(map(len, long)) <= 300
    assert read_claims("https://a", {"sub": "7" * 290}, "n", "groups").subject == f"https://a {'7' * 290}"
    assert read_claims("https://a", {"sub": "7", "groups": [1, None, "a", "A"]}, "n", "groups").groups == ("a",)
