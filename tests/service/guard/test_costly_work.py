"""Costly work asked for by somebody hostile: others are answered meanwhile, and too much of it is refused."""

from __future__ import annotations

import gzip
import io
import json
import time
import zipfile
from concurrent.futures import ThreadPoolExecutor

import httpx
import pytest

from kinetrum.core.archives.archive import ARCHIVE
from tests.service.data.test_files_api import keep
from tests.support.world import Project


def test_forty_previews_of_a_bomb_stop_nobody(project: Project) -> None:
    """One person's wait in one line of bounded length; health and another person's preview are answered in between."""
    bomb = io.BytesIO()
    with gzip.GzipFile(fileobj=bomb, mode="wb", compresslevel=9) as packed:
        for _ in range(256):
            packed.write(bytes(1024 * 1024))
    keep(project, "bomb", {"bomb.tar.gz": bomb.getvalue()})
    keep(project, "plain", {"plain.txt": b"a line\n"})
    base = f"{project.instance.url}/api/v1"
    preview = project.path("artifacts", "bomb", "versions", "1", "preview")

    def look(client: httpx.Client) -> int:
        headers = {"Authorization": f"Bearer {project.tokens['viewer']}"}
        return client.get(f"{base}{preview}", params={"path": "bomb.tar.gz"}, headers=headers).status_code

    with httpx.Client(timeout=120, limits=httpx.Limits(max_connections=60)) as client, ThreadPoolExecutor(40) as many:
        asked = [many.submit(look, client) for _ in range(40)]
        time.sleep(0.3)
        for _ in range(5):
            began = time.monotonic()
            assert client.get(f"{base}/health").status_code == 200
            assert time.monotonic() - began < 5
        began = time.monotonic()
        others = client.get(
            f"{base}{project.path('artifacts', 'plain', 'versions', '1', 'preview')}",
            params={"path": "plain.txt"},
            headers={"Authorization": f"Bearer {project.tokens['contributor']}"},
        )
        assert others.status_code == 200
        # Behind at most the one that is under way, not behind forty.
        assert time.monotonic() - began < 40
        statuses = [one.result() for one in asked]
    assert set(statuses) == {200, 503}
    # One of theirs is under way and eight wait; while the forty come in, some more may have had their turn.
    assert statuses.count(503) >= 20 and statuses.count(200) >= 1


def archive(**members: bytes) -> bytes:
    made = io.BytesIO()
    with zipfile.ZipFile(made, "w", zipfile.ZIP_DEFLATED) as packed:
        for name, content in members.items():
            packed.writestr(name, content)
    return made.getvalue()


@pytest.mark.parametrize(
    ("content", "why"),
    [
        (b"[" + b"[]," * (13 * 1024 * 1024) + b"[]]", "unpacks to over 200 times its size"),
        (b'{"format": ' + b"[" * 100_000 + b"]" * 100_000 + b"}", "cannot be read"),
    ],
)
def test_an_archive_that_is_a_bomb_is_refused_at_once(project: Project, content: bytes, why: str) -> None:
    began = time.monotonic()
    answer = httpx.post(
        f"{project.instance.url}/api/v1{project.path('imports')}",
        content=archive(**{ARCHIVE: content}),
        headers={"Authorization": f"Bearer {project.tokens['contributor']}", "Content-Type": "application/zip"},
        timeout=60,
    )
    assert answer.status_code in {413, 422}
    assert why in answer.json()["detail"]
    assert time.monotonic() - began < 20


def test_an_archive_of_many_values_holds_nobody_up(project: Project) -> None:
    """It is packed as JSON usually is, and read by a process of its own: the service answers meanwhile."""
    import random

    numbers = random.Random(7)
    values = json.dumps([[numbers.randrange(10**6)] for _ in range(1_500_000)]).encode()
    with ThreadPoolExecutor(1) as one:
        sent = one.submit(
            httpx.post,
            f"{project.instance.url}/api/v1{project.path('imports')}",
            content=archive(**{ARCHIVE: values}),
            headers={"Authorization": f"Bearer {project.tokens['contributor']}", "Content-Type": "application/zip"},
            timeout=120,
        )
        longest = 0.0
        while not sent.done():
            began = time.monotonic()
            assert httpx.get(f"{project.instance.url}/api/v1/health", timeout=30).status_code == 200
            longest = max(longest, time.monotonic() - began)
            time.sleep(0.05)
    assert sent.result().status_code == 422
    assert longest < 5
