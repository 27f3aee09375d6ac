"""Two services behind nginx with TLS, below a path, with its own limit of bodies: the client takes no notice."""

from __future__ import annotations

import re
import secrets
import ssl
from collections.abc import Iterator
from pathlib import Path

import httpx
import pytest

import kinetrum
from kinetrum.client.transport import session
from tests.cli.test_commands import Out, run
from tests.support.nginx import Behind, behind_nginx
from tests.support.programs import stop_sender
from tests.support.world import PASSWORD, Project

# Three times what nginx takes.
CONTENT = secrets.token_bytes(3 * 2**20)


@pytest.fixture
def behind(recording: Project, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Behind]:
    (tmp_path / "nginx").mkdir()
    with behind_nginx(recording.instance, tmp_path / "nginx") as found:
        monkeypatch.setenv("KINETRUM_URL", found.url)
        monkeypatch.setenv("SSL_CERT_FILE", str(found.ca))
        yield found
        stop_sender(tmp_path / "spool")
        session.close_all()


def test_a_run_with_a_large_file_is_recorded_and_fetched(
    behind: Behind, recording: Project, tmp_path: Path, capsys: Out
) -> None:
    (tmp_path / "net.bin").write_bytes(CONTENT)
    with kinetrum.begin("behind", params={"depth": 3}) as training:
        for step in range(50):
            training.measure(loss=1 / (step + 1), step=step)
        training.generated(tmp_path / "net.bin", name="net")
        training.result(recall=0.75)
    training.flush()
    assert "0.75" in run(capsys, "show", "behind/1")[1]
    kinetrum.fetch("net@1", tmp_path / "fetched")
    assert (tmp_path / "fetched" / "net.bin").read_bytes() == CONTENT
    requests = behind.passed()
    # Both services were asked; what was too large came in parts instead.
    assert len({service for service, *_ in requests if service != "-"}) == 2
    assert [status for service, status, method, _ in requests if method == "PATCH"].count("413") in range(1, 8)
    assert all(path.startswith("/kinetrum/api/v1/") for *_, path in requests)


def test_what_leaves_the_service_has_the_path_and_the_headers_of_tls(behind: Behind, recording: Project) -> None:
    headers = {"Authorization": f"Bearer {recording.tokens['maintainer']}", "X-Forwarded-For": "203.0.113.9"}
    trusted = ssl.create_default_context(cafile=str(behind.ca))
    with httpx.Client(base_url=behind.url, verify=trusted, headers=headers) as client:
        health = client.get("/api/v1/health")
        assert (health.status_code, "max-age" in health.headers["Strict-Transport-Security"]) == (200, True)
        page = client.get("/some/page/of/the/console").text
        below = re.findall(r'(?:src|href)="([^"]+)"', page)
        assert below
        for address in below:
            assert address.startswith("/kinetrum/"), address
            assert client.get(address.removeprefix("/kinetrum")).status_code == 200
        assert client.get("/api/v1/nothing").headers["Content-Type"] == "application/problem+json"
        # The host is another tool's but for this path.
        assert httpx.get(behind.url.removesuffix("/kinetrum"), verify=trusted).status_code == 404
        signed_in = httpx.post(
            f"{behind.url}/api/v1/session",
            json={"name": "a-maintainer", "password": PASSWORD},
            verify=trusted,
            headers={"X-Forwarded-For": "203.0.113.9"},
        )
        assert re.match(r"__Host-kinetrum_session_\d+=.*; Secure", signed_in.headers["Set-Cookie"])
        sessions = client.get("/api/v1/account/sessions").json()
        # Who asks writes headers too; nginx says over them whom it sees.
        assert {one["origin"].split()[0] for one in sessions} == {"127.0.0.1"}


@pytest.mark.parametrize("strips", [True, False])
def test_a_proxy_may_take_the_path_off_itself(recording: Project, strips: bool) -> None:
    from tests.support.world import service_process

    public = {"KINETRUM_PUBLIC_ADDRESS": "https://tools.example/kinetrum"}
    with service_process(recording.instance, **public) as (url, _), httpx.Client(base_url=url) as client:
        before = "" if strips else "/kinetrum"
        assert client.get(f"{before}/api/v1/health").json()["status"]
        assert 'content="/kinetrum"' in client.get(f"{before}/{recording.name}").text
        (script,) = re.findall(r'src="/kinetrum(/assets/[^"]+\.js)"', client.get(f"{before}/").text)
        assert client.get(f"{before}{script}").headers["Content-Type"].startswith("text/javascript")
        # The bounds hold below the path too: who has no account is answered before the body is read.
        large = client.post(f"{before}/api/v1/projects", content=b"[" * 3_000_000)
        assert (large.status_code, large.headers["Content-Type"]) == (401, "application/problem+json")
        # A name that only begins alike is a page like any other.
        assert client.get("/kinetrums/api/v1/health").headers["Content-Type"].startswith("text/html")
