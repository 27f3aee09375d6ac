"""Models at a glance, 500 with 50 versions against 10 with 5; and fetching by stage under 50 clients against plain files."""

from __future__ import annotations

import os
import secrets
import statistics
import time
from concurrent.futures import ThreadPoolExecutor

import httpx

from benchmarks.measuring import Ratio, in_turn, ratio
from kinetrum.client.transport.http import Service
from kinetrum.core.base.ids import uuid7
from kinetrum.storage.db.clock import now
from kinetrum.storage.db.database import connection, insert_many, query

CLIENTS, EACH = 50, 8
SIZE = 256 * 1024
STAGES = ("development", "staging", "production")


def _id() -> str:
    return uuid7(time.time_ns() // 1_000_000, os.urandom(10))


def registry(url: str, token: str) -> list[Ratio]:
    """Fill two projects with models, then fetch from a third."""
    service = Service(url, token, timeout_s=60)
    for name, models, versions in (("many-models", 500, 50), ("few-models", 10, 5)):
        service.call("POST", "/projects", json={"name": name})
        _fill(service, name, models, versions)

    def page(project: str) -> float:
        started = time.perf_counter()
        found = service.get(f"/projects/{project}/models", limit=100)
        assert found["models"]
        return time.perf_counter() - started

    left, right = in_turn(lambda: page("many-models"), lambda: page("few-models"), 11)
    rows = [
        ratio(
            "a page of 100 models, of 500 x 50 versions / of 10 x 5",
            "reported",
            left,
            right,
            "500 x 50",
            "10 x 5",
            1e3,
            "ms",
        )
    ]
    return [*rows, _fetching(service, url, token)]


def _fill(service: Service, project: str, models: int, versions: int) -> None:
    """Insert models as registering would leave them: each version reviewed, three on stages."""
    file = _kept(service, project, "nets", os.urandom(64))
    with connection():
        ((project_id,),) = query("SELECT project_id FROM project WHERE name = %s", project)
        ((version_id,),) = query(
            "SELECT v.version_id FROM artifact_version v JOIN artifact a USING (artifact_id)"
            " WHERE a.project_id = %s AND a.name = %s",
            project_id,
            file[0],
        )
        ((person_id,),) = query("SELECT MIN(person_id) FROM person")
        moment = now()
        insert_many(
            "INSERT INTO model (project_id, name, purpose, approvals_needed, second_pair, last_number, created_by, created_at)",
            [
                (project_id, f"model-{n}", "Will it freeze at dawn?", 1, False, versions, person_id, moment)
                for n in range(models)
            ],
        )
        ids = [row[0] for row in query("SELECT model_id FROM model WHERE project_id = %s", project_id)]
        insert_many(
            "INSERT INTO stage (model_id, position, name, asks_approved, least_role)",
            [(one, at, stage, at > 0, "contributor") for one in ids for at, stage in enumerate(STAGES)],
        )
        numbers = range(1, versions + 1)
        insert_many(
            "INSERT INTO model_version (model_id, number, uid, version_id, run_id, origin, comment, retired, created_by, created_at)",
            [
                (one, n, secrets.token_bytes(16), version_id, None, "made for this", "", False, person_id, moment)
                for one in ids
                for n in numbers
            ],
        )
        insert_many(
            "INSERT INTO verdict (model_id, number, person_id, approves, comment, given_at)",
            [(one, n, person_id, n % 5 != 0, "", moment) for one in ids for n in numbers if n % 3],
        )
        insert_many(
            "INSERT INTO stage_stay (model_id, stage, depth, number, placed_by, placed_at)",
            [
                (one, stage, depth, depth + 1, person_id, moment)
                for one in ids
                for stage in STAGES
                for depth in range(3)
            ],
        )


def _kept(service: Service, project: str, name: str, content: bytes) -> tuple[str, str]:
    import hashlib

    sha256 = hashlib.sha256(content).hexdigest()
    service.call("PUT", f"/projects/{project}/blobs/{sha256}", content=content)
    service.call(
        "POST",
        f"/projects/{project}/artifacts/{name}/versions",
        json={
            "id": _id(),
            "at": time.time_ns() // 1000,
            "kind": "model",
            "files": [{"path": "net.bin", "size": len(content), "sha256": sha256}],
        },
    )
    return name, sha256


def _fetching(service: Service, url: str, token: str) -> Ratio:
    """Let 50 clients fetch one file at once, by stage and as a plain file of the same version."""
    service.call("POST", "/projects", json={"name": "deploys"})
    _kept(service, "deploys", "net", os.urandom(SIZE))
    base = "/projects/deploys/models/bell"
    service.call("POST", f"{base}/versions", json={"id": _id(), "artifact": "net@1", "origin": "made for this"})
    service.call("PUT", f"{base}/versions/1/verdict", json={"verdict": "approve"})
    service.call("POST", f"{base}/stages/production/promotions", json={"id": _id(), "version": 1, "expect": None})
    headers = {"Authorization": f"Bearer {token}"}
    clients = [httpx.Client(base_url=f"{url}/api/v1", headers=headers, timeout=60) for _ in range(CLIENTS)]

    def all_fetch(path: str) -> float:
        def one(client: httpx.Client) -> list[float]:
            took = []
            for _ in range(EACH):
                started = time.perf_counter()
                assert len(client.get(path).content) == SIZE
                took.append(time.perf_counter() - started)
            return took

        started = time.perf_counter()
        with ThreadPoolExecutor(CLIENTS) as pool:
            took = [one_took for found in pool.map(one, clients) for one_took in found]
        slowest.setdefault(path, []).append(statistics.median(took))
        return (time.perf_counter() - started) / (CLIENTS * EACH)

    slowest: dict[str, list[float]] = {}
    stage, plain = (
        f"{base}/versions/production/files/net.bin",
        "/projects/deploys/artifacts/net/versions/1/files/net.bin",
    )
    left, right = in_turn(lambda: all_fetch(stage), lambda: all_fetch(plain), 7)
    for client in clients:
        client.close()
    for path, took in slowest.items():
        print(f"      median answer under {CLIENTS} clients, {path}: {statistics.median(took) * 1e3:.0f} ms")
    (fetched,) = service.get(f"{base}/fetches")
    print(f"      fetches counted: {fetched['fetches']:,} of {7 * CLIENTS * EACH:,}, and those that warmed up")
    return ratio(
        f"a file of {SIZE // 1024} KiB by stage under {CLIENTS} clients / the plain file",
        "reported",
        left,
        right,
        "by stage",
        "plain file",
        1e3,
        "ms a fetch",
    )
