"""Connections that finish nothing: they are dropped, make room, and change nothing for others."""

from __future__ import annotations

import contextlib
import os
import resource
import socket
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import httpx
import pytest

from kinetrum.service.guard import connections
from kinetrum.service.guard.connections import Connections
from kinetrum.service.settings import Settings, proxies, public_address
from tests.support.programs import wait_for
from tests.support.world import Instance, Project, service_process


class Held:
    """A connection as the register of connections sees one."""

    def __init__(self, address: str) -> None:
        self.address, self.aborted = address, False
        self.transport = self

    def abort(self) -> None:
        self.aborted = True


def register(known: Connections, address: str) -> Any:
    connection: Any = Held(address)
    return connection if known.add(connection) else None


def test_the_longest_waiting_of_an_address_makes_room() -> None:
    known = Connections(in_all=10, per_address=3)
    first, second, third = (register(known, "a") for _ in range(3))
    known.work(first)
    fourth = register(known, "a")
    assert (first.aborted, second.aborted, third.aborted, fourth.aborted) == (False, True, False, False)
    # Where all of them are at work, there is no room for one more of that address; for another there is.
    known.work(third)
    known.work(fourth)
    assert register(known, "a") is None
    assert register(known, "b") is not None
    known.remove(first)
    assert register(known, "a") is not None


def test_a_network_of_ipv6_is_one_address() -> None:
    """Whoever holds one has 2**64 addresses: counted apart, they would be no bound."""
    known = Connections(in_all=100, per_address=3)
    held = [register(known, f"2001:db8:1:2::{at}") for at in range(5)]
    assert [one.aborted for one in held] == [True, True, False, False, False]
    assert not register(known, "2001:db8:1:3::1").aborted


def test_in_all_the_address_with_most_that_wait_makes_room() -> None:
    known = Connections(in_all=6, per_address=5)
    lone = register(known, "b")
    crowd = [register(known, "a") for _ in range(5)]
    assert register(known, "c") is not None
    assert crowd[0].aborted and not lone.aborted
    assert sum(map(len, known._open.values())) == 6


def test_who_makes_room_for_themselves_is_counted_once() -> None:
    """The only connection of an address makes room for the next one; nothing is counted that has ended."""
    known = Connections(in_all=1, per_address=5)
    held = [register(known, "a") for _ in range(4)]
    assert [one.aborted for one in held] == [True, True, True, False]
    assert known._count == 1
    known.work(held[-1])
    assert register(known, "b") is None
    for one in held:
        known.remove(one)
    assert (known._count, dict(known._open), dict(known._waiting)) == (0, {}, {})


def test_a_proxy_may_have_all_there_are() -> None:
    believed = Settings("", Path(), proxies=proxies("10.1.0.0/16"))
    known = Connections(in_all=6, per_address=2, is_proxy=believed.is_proxy)
    assert all(register(known, "10.1.2.3") for _ in range(6))
    assert not any(one.aborted for one in known._open["10.1.2.3"])


def test_everything_is_forgotten_with_its_connection() -> None:
    known = Connections(in_all=3, per_address=3)
    held = [register(known, "a") for _ in range(3)]
    for one in [*held, held[0]]:
        known.remove(one)
    assert (known._count, dict(known._open), dict(known._waiting)) == (0, {}, {})


@contextlib.contextmanager
def half_sent(url: str, count: int, start: bytes) -> Iterator[list[socket.socket]]:
    host, port = url.removeprefix("http://").split(":")
    held = []
    try:
        for _ in range(count):
            one = socket.create_connection((host, int(port)), timeout=10)
            one.sendall(start)
            held.append(one)
        yield held
    finally:
        for one in held:
            one.close()


def ended(one: socket.socket) -> bytes:
    """Read until the other side closes."""
    one.settimeout(20)
    with contextlib.suppress(ConnectionResetError):
        received = b""
        while piece := one.recv(4_096):
            received += piece
        return received
    return b""


@pytest.fixture
def room() -> Iterator[None]:
    """This process may hold the many connections that it opens."""
    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    resource.setrlimit(resource.RLIMIT_NOFILE, (min(4_096, hard), hard))
    yield
    resource.setrlimit(resource.RLIMIT_NOFILE, (soft, hard))


@pytest.mark.usefixtures("room")
def test_two_thousand_half_requests_change_nothing_for_others(instance: Instance) -> None:
    """They come from the same address as the others; the service was started with room for 1,024 files."""
    with service_process(instance) as (url, process):
        assert resource.prlimit(process.pid, resource.RLIMIT_NOFILE)[0] > 1_024
        with half_sent(url, 2_000, b"GET /api/v1/health HTTP/1.1\r\nHost: x\r\n"):
            wait_for(lambda: len(os.listdir(f"/proc/{process.pid}/fd")) < connections.PER_ADDRESS + 100)
            with httpx.Client(base_url=url, timeout=10) as client:
                for _ in range(5):
                    assert client.get("/api/v1/health").status_code == 200


def test_headers_have_to_arrive(instance: Instance) -> None:
    """Half a line, nothing at all, and a trickle: each is closed in time; a half one is told why."""
    with (
        service_process(instance) as (url, _),
        half_sent(url, 1, b"GET /api/v1/hea") as (half,),
        half_sent(url, 1, b"") as (nothing,),
        half_sent(url, 1, b"GET / HTTP/1.1\r\n") as (trickle,),
    ):
        began = time.monotonic()
        with contextlib.suppress(OSError):
            while time.monotonic() - began < connections.HEADERS_S + 5:
                trickle.sendall(b"X-Slow: 1\r\n")
                time.sleep(1)
        assert time.monotonic() - began < connections.HEADERS_S + 4
        assert ended(half).startswith(b"HTTP/1.1 408 ")
        assert ended(nothing) == b""


def test_a_second_request_on_a_connection_has_a_deadline_too(instance: Instance) -> None:
    with service_process(instance) as (url, _), half_sent(url, 1, b"") as (one,):
        one.sendall(b"GET /api/v1/session HTTP/1.1\r\nHost: x\r\n\r\n")
        assert one.recv(4_096).startswith(b"HTTP/1.1 204 ")
        one.sendall(b"GET /api/v1/ses")
        began = time.monotonic()
        assert ended(one).startswith(b"HTTP/1.1 408 ")
        assert time.monotonic() - began < connections.HEADERS_S + 4


def test_a_request_in_two_pieces_and_two_in_one_are_served(instance: Instance) -> None:
    with service_process(instance) as (url, _), half_sent(url, 1, b"GET /api/v1/session HTTP/1.1\r\nHo") as (one,):
        time.sleep(0.2)
        one.sendall(b"st: x\r\n\r\n")
        assert one.recv(4_096).startswith(b"HTTP/1.1 204 ")
        request = b"GET /api/v1/session HTTP/1.1\r\nHost: x\r\n\r\n"
        one.sendall(request + request.replace(b"\r\n\r\n", b"\r\nConnection: close\r\n\r\n"))
        assert ended(one).count(b"HTTP/1.1 204 ") == 2


def test_streams_of_changes_are_bounded_for_each_person(project: Project, people: dict[str, str]) -> None:
    """The 65th is refused; another person's first is not, and the refused one has room again once others closed."""
    from kinetrum.service.live.broker import STREAMS_EACH

    def ask(client: httpx.Client, role: str) -> httpx.Response:
        request = client.build_request("GET", "/api/v1/events", headers={"Authorization": f"Bearer {people[role]}"})
        return client.send(request, stream=True)

    limits = httpx.Limits(max_connections=None, max_keepalive_connections=0)
    with httpx.Client(base_url=project.instance.url, limits=limits, timeout=20) as client:
        streams = [ask(client, "stranger") for _ in range(STREAMS_EACH)]
        assert [stream.status_code for stream in streams] == [200] * STREAMS_EACH
        # Kept: a reader that is let go closes its stream.
        readers = [stream.iter_lines() for stream in streams]
        assert [next(reader) for reader in readers] == [": following"] * STREAMS_EACH
        refused = ask(client, "stranger")
        assert (refused.status_code, refused.headers["Retry-After"]) == (503, "2")
        refused.close()
        other = ask(client, "viewer")
        assert other.status_code == 200
        for stream in [*streams, other]:
            stream.close()
        give_up = time.monotonic() + 25
        while (again := ask(client, "stranger")).status_code == 503 and time.monotonic() < give_up:
            again.close()
            time.sleep(0.5)
        assert again.status_code == 200
        again.close()


@pytest.mark.parametrize("text", ["10.0.0.300", "example.org", "10.0.0.0/33", "*"])
def test_proxies_are_addresses(text: str) -> None:
    with pytest.raises(SystemExit, match="give addresses or networks between commas"):
        proxies(text)


@pytest.mark.parametrize("text", ["kinetrum.example", "ftp://x", "https://", "https://a?b", "https://u:p@host"])
def test_the_public_address_is_one_that_people_open(text: str) -> None:
    with pytest.raises(SystemExit, match="give the address that people open"):
        public_address(text)
    for below in ("/api", "/assets/x", "/api/"):
        with pytest.raises(SystemExit, match="which are the service's own"):
            public_address(f"https://tools.example{below}")
    assert public_address("https://tools.example/apis") == "https://tools.example/apis"
    assert public_address("https://tools.example/kinetrum/") == "https://tools.example/kinetrum"
    assert public_address("") is None


def test_nobody_is_believed_about_who_asks_unless_named(instance: Instance, project: Project) -> None:
    """A forged header changes neither the journal's address nor the cookie; of a proxy that is named both hold."""
    name, password = instance.first_account
    forged = {"X-Forwarded-For": "203.0.113.9", "X-Forwarded-Proto": "https", "Host": "evil.example"}

    def look(url: str) -> tuple[str, str, str, str]:
        with httpx.Client(base_url=f"{url}/api/v1", headers=forged) as client:
            signed = client.post("/session", json={"name": name, "password": password})
            token = {"Authorization": f"Bearer {instance.token}"}
            client.put(f"/projects/{project.name}/members/a-stranger", json={"role": "viewer"}, headers=token)
            client.delete(f"/projects/{project.name}/members/a-stranger", headers=token)
            entry = client.get(f"/projects/{project.name}/journal", headers=token).json()[0]
            project.registered() if not client.get(f"/projects/{project.name}/models", headers=token).json()[
                "models"
            ] else None
            feed = client.get(f"/projects/{project.name}/models/frost-alarm/feed", headers=token).text
            return (
                entry["origin"].split()[0],
                signed.headers["set-cookie"],
                signed.headers.get("strict-transport-security", ""),
                feed,
            )

    with service_process(instance) as (url, _):
        origin, cookie, hsts, feed = look(url)
        assert (origin, hsts) == ("127.0.0.1", "")
        assert "Secure" not in cookie and cookie.startswith("kinetrum_session_")
        assert "evil.example" not in feed and url in feed
    public = "https://tools.example/kinetrum"
    settings = {"KINETRUM_PROXIES": "127.0.0.0/8", "KINETRUM_PUBLIC_ADDRESS": public}
    with service_process(instance, **settings) as (url, _):
        origin, cookie, hsts, feed = look(url)
        assert (origin, hsts) == ("203.0.113.9", "max-age=31536000")
        assert "Secure" in cookie and "HttpOnly" in cookie and cookie.startswith("__Host-kinetrum_session_")
        assert public in feed and "evil.example" not in feed and "127.0.0.1" not in feed


def test_answers_of_the_interface_are_no_pages(project: Project, raw: httpx.Client) -> None:
    assert raw.get(project.path()).headers["content-security-policy"].startswith("default-src 'none'")


def test_wrong_settings_are_said_in_a_sentence(instance: Instance) -> None:
    done = subprocess.run(
        [sys.executable, "-m", "kinetrum.service.main"],
        env=os.environ | {"KINETRUM_DATABASE": "x", "KINETRUM_STORE": "/tmp/x", "KINETRUM_PROXIES": "proxy.example"},
        capture_output=True,
        text=True,
        check=False,
        timeout=30,
    )
    assert done.returncode == 1
    assert done.stderr.startswith("KINETRUM_PROXIES names 'proxy.example'")
    assert "Traceback" not in done.stderr
