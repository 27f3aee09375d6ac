"""Certificates of a company's own, and proxies: the client trusts and goes where every client of the machine does."""

from __future__ import annotations

import ssl
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import pytest
import trustme

import kinetrum
from kinetrum.client.spool.status import undelivered
from kinetrum.client.transport import session, trust
from kinetrum.client.transport.http import Service
from kinetrum.core.base.errors import InvalidInput, Unavailable
from tests.cli.test_commands import Out, run
from tests.gateways import Seen, gateway, tunnel
from tests.support.programs import run_script, stop_sender
from tests.support.world import Project

SCRIPT = """
import kinetrum
with kinetrum.begin('secure') as run:
    run.measure(loss=1)
print(run.id)
"""


@dataclass(frozen=True)
class Company:
    """A service behind TLS with a certificate of the company's own authority."""

    way: Seen
    ca: Path

    @property
    def url(self) -> str:
        return self.way.url


@pytest.fixture
def company(recording: Project, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Company]:
    authority = trustme.CA()
    authority.cert_pem.write_to_path(tmp_path / "company.pem")
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    authority.issue_cert("127.0.0.1", "service.test").configure_cert(context)
    monkeypatch.setenv("KINETRUM_CONNECTIONS", str(tmp_path / "connections.json"))
    for name in trust.PROXIES:
        monkeypatch.delenv(name, raising=False)
    with gateway(recording.instance.url, tls=context) as way:
        monkeypatch.setenv("KINETRUM_URL", way.url)
        yield Company(way, tmp_path / "company.pem")
        stop_sender(tmp_path / "spool")
        session.close_all()


def test_a_certificate_that_is_not_trusted_is_told_with_the_remedy(company: Company, tmp_path: Path) -> None:
    done = run_script(SCRIPT)
    assert done.returncode == 0
    (line,) = done.stderr.splitlines()
    assert f"The certificate of {company.url} is not trusted (unable to get local issuer certificate)" in line
    assert f"'kinetrum connect {company.url} --ca FILE', or SSL_CERT_FILE." in line
    (item,) = undelivered(tmp_path / "spool")
    assert item.obstruction is not None
    assert "is not trusted" in item.obstruction.reason
    with pytest.warns(UserWarning, match="3 records of 1 run"), pytest.raises(Unavailable, match="is not trusted"):
        kinetrum.runs()
    assert company.way.passed == []


def test_the_saved_authority_is_trusted(
    company: Company, recording: Project, tmp_path: Path, capsys: Out, monkeypatch: pytest.MonkeyPatch
) -> None:
    uid = run_script(SCRIPT).stdout.strip()
    monkeypatch.chdir(tmp_path)
    status, _, told = run(capsys, "connect", company.url, "--token", recording.tokens["contributor"])
    assert (status, "is not trusted" in told) == (5, True)
    status, shown, told = run(
        capsys, "connect", company.url, "--token", recording.tokens["contributor"], "--ca", "company.pem"
    )
    assert status == 0, told
    assert shown.startswith(f"Connected to {company.url}")
    assert "records of 1 run that waited here go there now" in told
    assert [row.id for row in kinetrum.runs(experiment="secure")] == [uid]
    # Connecting once more, with a new token, keeps it.
    assert run(capsys, "connect", company.url, "--token", recording.tokens["viewer"])[0] == 0


def test_the_authority_of_the_environment_is_trusted(
    company: Company, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Also by the process that delivers, which was started without it."""
    uid = run_script(SCRIPT).stdout.strip()
    monkeypatch.setenv("SSL_CERT_FILE", str(company.ca))
    assert [row.id for row in kinetrum.runs(experiment="secure")] == [uid]
    assert undelivered(tmp_path / "spool") == []


def test_another_authority_is_not_enough(company: Company, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    trustme.CA().cert_pem.write_to_path(tmp_path / "other.pem")
    monkeypatch.setenv("SSL_CERT_FILE", str(tmp_path / "other.pem"))
    with pytest.raises(Unavailable, match="is not trusted"):
        kinetrum.runs()


def test_what_is_no_file_of_certificates_is_refused(tmp_path: Path, capsys: Out) -> None:
    (tmp_path / "empty.pem").write_text("")
    (tmp_path / "text.pem").write_text("a text")
    for name in ("empty.pem", "text.pem", "none.pem"):
        with pytest.raises(InvalidInput, match="is not a file of certificates"):
            trust.check_ca(str(tmp_path / name))
    status, _, told = run(capsys, "connect", "https://service.test", "--token", "t", "--ca", str(tmp_path / "none.pem"))
    assert (status, "No such file" in told) == (2, True)


def test_a_machine_without_authorities_trusts_those_that_came_with_the_client(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    (tmp_path / "empty").mkdir()
    for name in ("SSL_CERT_FILE", "SSL_CERT_DIR"):
        monkeypatch.setenv(name, str(tmp_path / "empty" / "none"))
    monkeypatch.setattr(
        ssl, "get_default_verify_paths", lambda: ssl.DefaultVerifyPaths(None, str(tmp_path / "empty"), "", "", "", "")
    )  # type: ignore[attr-defined]
    assert trust.context_for(None).cert_store_stats()["x509_ca"] > 50


def test_proxies_of_the_environment_are_used(
    company: Company, recording: Project, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("SSL_CERT_FILE", str(company.ca))
    monkeypatch.setenv("KINETRUM_URL", "https://service.test")
    with tunnel(company.url) as proxy:
        monkeypatch.setenv("HTTPS_PROXY", proxy.url)
        uid = run_script(SCRIPT).stdout.strip()
        assert [row.id for row in kinetrum.runs(experiment="secure")] == [uid]
        assert set(proxy.tunnels) == {"service.test:443"}
        assert company.way.passed
        count = len(proxy.tunnels)
        session.close_all()
        monkeypatch.setenv("NO_PROXY", "elsewhere.test,service.test")
        with pytest.raises(Unavailable, match=r"https://service\.test was not reached"):
            kinetrum.runs(experiment="secure")
        assert len(proxy.tunnels) == count
    session.close_all()
    monkeypatch.delenv("NO_PROXY")
    with pytest.raises(Unavailable, match="was not reached"):
        kinetrum.runs(experiment="secure")


def test_loopback_goes_through_no_proxy(recording: Project, monkeypatch: pytest.MonkeyPatch) -> None:
    for name in ("HTTP_PROXY", "HTTPS_PROXY", "ALL_PROXY"):
        monkeypatch.setenv(name, "http://127.0.0.1:9")
    session.close_all()
    assert len(kinetrum.runs()) == 0


@pytest.mark.parametrize("proxy", ["socks5://127.0.0.1:9", "nonsense://x"])
def test_a_proxy_that_cannot_be_used_is_told(monkeypatch: pytest.MonkeyPatch, proxy: str) -> None:
    monkeypatch.setenv("HTTPS_PROXY", proxy)
    with pytest.raises(Unavailable, match="The proxy that HTTPS_PROXY names cannot be used"):
        Service("https://service.test", None)
