"""Files: large ones and many small ones up and down, the unchanged again, memory; differences and lineage of many."""

from __future__ import annotations

import os
import secrets
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

import psutil

from benchmarks.measuring import Ratio, in_turn, ratio
from kinetrum.client.transport.http import Service
from kinetrum.core.base.errors import Conflict
from kinetrum.core.base.manifests import FileEntry
from kinetrum.core.compare.manifests import compare_manifests
from kinetrum.storage.db.database import connection, execute, insert_many, query

LARGE_BYTES, SMALL_FILES = 2 * 1024**3, 10_000
_CLIENT = """
import sys, time, kinetrum
from kinetrum.client.transport.session import open_session
def most():
    return next(int(line.split()[1]) for line in open("/proc/self/status") if line.startswith("VmHWM"))
open_session("files")
before = most()
began = time.perf_counter()
{act}
print(time.perf_counter() - began, (most() - before) / 1024)
"""


def _client(act: str, *arguments: str) -> tuple[float, float]:
    """Run one act in a client of its own; returns its seconds and the MiB that it grew by."""
    environment = os.environ | {"KINETRUM_PROJECT": "files"}
    done = subprocess.run(
        [sys.executable, "-c", _CLIENT.format(act=act), *arguments],
        env=environment,
        check=True,
        capture_output=True,
        text=True,
    )
    seconds, grown = done.stdout.split()
    return float(seconds), float(grown)


def _timed(*words: str, cwd: Path | None = None) -> float:
    began = time.perf_counter()
    subprocess.run(words, check=True, stdout=subprocess.DEVNULL, cwd=cwd)
    return time.perf_counter() - began


class Watched:
    """How much a process grows while a block runs, in MiB."""

    def __init__(self) -> None:
        self.process = next(
            p
            for p in psutil.process_iter(["cmdline"])
            if "kinetrum.service.main" in " ".join(p.info["cmdline"] or [])
            and str(os.environ["KINETRUM_BENCH_HOME"]) in str(p.environ().get("KINETRUM_STORE", ""))
        )
        self.before, self.most = self.process.memory_info().rss, 0

    def look(self) -> None:
        self.most = max(self.most, self.process.memory_info().rss)

    @property
    def grown(self) -> float:
        return max(0, self.most - self.before) / 2**20


def _while_watched(watched: Watched, act: Callable[[], tuple[float, float]]) -> tuple[float, float]:
    import threading

    done = threading.Event()

    def look() -> None:
        while not done.wait(0.02):
            watched.look()

    thread = threading.Thread(target=look)
    thread.start()
    try:
        return act()
    finally:
        done.set()
        thread.join()


def files(url: str, token: str, part: Callable[[Service, Path], list[Ratio]]) -> list[Ratio]:
    """Measure one part in a folder and project of its own."""
    service = Service(url, token, 600)
    with suppress(Conflict):
        service.call("POST", "/projects", json={"name": "files"})
    with tempfile.TemporaryDirectory(prefix="kt-files-") as where:
        os.environ["KINETRUM_FINGERPRINTS"] = str(Path(where) / "prints")
        rows = part(service, Path(where))
    service.close()
    return rows


def _forget(service: Service, name: str) -> None:
    """Purge what was kept, so that the next time everything has to be sent."""
    service.call("POST", "/projects/files/bin", json={"things": [f"artifact:{name}"]})
    service.call("POST", "/projects/files/purges", json={"things": None})


def large(service: Service, folder: Path) -> list[Ratio]:
    source = folder / "large.bin"
    with source.open("wb") as file:
        for _ in range(LARGE_BYTES // 2**24):
            file.write(secrets.token_bytes(2**24))
    watched = Watched()
    grown: list[float] = []

    def up() -> float:
        (folder / "prints").unlink(missing_ok=True)
        seconds, mine = _while_watched(
            watched, lambda: _client("kinetrum.keep(sys.argv[1], name='large')", str(source))
        )
        grown.append(mine)
        if len(grown) < 4:
            _forget(service, "large")
        return seconds

    def plain() -> float:
        return _timed("cp", str(source), str(folder / "copy")) + _timed("sha256sum", str(folder / "copy"))

    left, right = in_turn(up, plain, 3)
    rows = [ratio("2 GiB up / cp plus sha256sum", "≤ 2x", left, right, "kept", "copied and hashed", 1, "s")]
    told = f"client {max(grown):.0f} MiB, service {watched.grown:.0f} MiB above idle while it goes up"
    down_watched, down_grown = Watched(), list[float]()

    def down() -> float:
        shutil.rmtree(folder / "down", ignore_errors=True)
        act = "kinetrum.fetch('large@latest', sys.argv[1])"
        seconds, mine = _while_watched(down_watched, lambda: _client(act, str(folder / "down")))
        down_grown.append(mine)
        return seconds

    left, right = in_turn(down, plain, 3)
    rows.append(ratio("2 GiB down / cp plus sha256sum", "≤ 2x", left, right, "fetched", "copied and hashed", 1, "s"))
    print(
        f"      memory: {told}; client {max(down_grown):.0f} MiB, service {down_watched.grown:.0f} MiB while it comes down",
        flush=True,
    )

    def again() -> float:
        (folder / "prints").unlink(missing_ok=True)
        return _client("kinetrum.keep(sys.argv[1], name='large')", str(source))[0]

    left, right = in_turn(again, lambda: _timed("sha256sum", str(source)), 3)
    rows.append(
        ratio(
            "unchanged 2 GiB again, nothing remembered / sha256sum",
            "≤ 1.2x",
            left,
            right,
            "kept again",
            "hashed",
            1,
            "s",
        )
    )
    time.sleep(2.5)
    remembered = lambda: _client("kinetrum.keep(sys.argv[1], name='large')", str(source))[0]  # noqa: E731
    left, right = in_turn(remembered, lambda: _timed("sha256sum", str(source)), 3)
    rows.append(
        ratio("unchanged 2 GiB again, remembered / sha256sum", "-", left, right, "kept again", "hashed", 1, "s")
    )
    shutil.rmtree(folder / "down", ignore_errors=True)
    (folder / "copy").unlink()
    source.unlink()
    return rows


def small(service: Service, folder: Path) -> list[Ratio]:
    source = folder / "small"
    for at in range(SMALL_FILES):
        place = source / f"{at // 100:03d}"
        place.mkdir(parents=True, exist_ok=True)
        (place / f"{at}.csv").write_bytes(secrets.token_bytes(2_000))
    turns: list[int] = []

    def up() -> float:
        (folder / "prints").unlink(missing_ok=True)
        seconds = _client("kinetrum.keep(sys.argv[1], name='small')", str(source))[0]
        turns.append(1)
        if len(turns) < 4:
            _forget(service, "small")
        return seconds

    def plain() -> float:
        shutil.rmtree(folder / "copy", ignore_errors=True)
        seconds = _timed("cp", "-r", str(source), str(folder / "copy"))
        return seconds + _timed("sh", "-c", "find . -type f -print0 | xargs -0 sha256sum", cwd=folder / "copy")

    left, right = in_turn(up, plain, 3)
    rows = [
        ratio(
            "10,000 files of 2 kB up / cp -r plus hashing",
            "-",
            left,
            right,
            "kept, each flushed",
            "copied and hashed",
            1,
            "s",
        )
    ]

    def down() -> float:
        shutil.rmtree(folder / "down", ignore_errors=True)
        return _client("kinetrum.fetch('small@latest', sys.argv[1])", str(folder / "down"))[0]

    left, right = in_turn(down, plain, 3)
    rows.append(
        ratio(
            "10,000 files of 2 kB down / cp -r plus hashing", "-", left, right, "fetched", "copied and hashed", 1, "s"
        )
    )
    return rows


def difference() -> list[Ratio]:
    """100,000 files, a tenth changed and a tenth moved, against joining the same lists by path alone."""

    def entry(path: str, content: int) -> FileEntry:
        return FileEntry(path, 1, f"{content:064x}")

    left = [entry(f"{at // 1000}/{at}.csv", at) for at in range(100_000)]
    right = [
        entry(f"{'moved' if at % 10 == 0 else at // 1000}/{at}.csv", at + (10**6 if at % 10 == 1 else 0))
        for at in range(100_000)
    ]

    def compared() -> float:
        began = time.perf_counter()
        compare_manifests(left, right)
        return time.perf_counter() - began

    def joined() -> float:
        began = time.perf_counter()
        ours, theirs = {e.path: e for e in left}, {e.path: e for e in right}
        sorted(
            (path, ours.get(path), theirs.get(path))
            for path in ours.keys() | theirs.keys()
            if ours.get(path) != theirs.get(path)
        )
        return time.perf_counter() - began

    return [
        ratio(
            "difference of 100,000 files / joining by path",
            "-",
            *in_turn(compared, joined, 9),
            "compared",
            "joined",
            1e3,
            "ms",
        )
    ]


def lineage(url: str, token: str) -> list[Ratio]:
    """Ten thousand things: 5,000 runs that used one version, each of which generated one of its own."""
    service = Service(url, token, 600)
    service.call("POST", "/projects", json={"name": "lineage"})
    body = {
        "id": "01a20000-0000-7000-8000-000000000001",
        "at": 1,
        "by_reference": True,
        "files": [{"path": "a", "size": 1, "sha256": "a" * 64}],
    }
    service.call("POST", "/projects/lineage/artifacts/nights/versions", json=body)
    service.call(
        "PUT", "/projects/lineage/experiments/e/runs/01a20000-0000-7000-8000-000000000002", json={"started_at": 1}
    )
    _fill(5_000)

    def traced() -> float:
        began = time.perf_counter()
        found = service.get("/projects/lineage/lineage", of="nights@1", limit=20_000, fold_to=60)
        assert found["count"] == 10_001, found["count"]
        return time.perf_counter() - began

    def raw() -> float:
        began = time.perf_counter()
        with connection():
            query(
                "SELECT x.*, r.*, v.* FROM run_artifact x JOIN run r USING (run_id) JOIN artifact_version v USING (version_id)"
                " JOIN experiment e USING (experiment_id) JOIN project p ON p.project_id = e.project_id WHERE p.name = 'lineage'"
            )
        return time.perf_counter() - began

    left, right = in_turn(traced, raw, 5)
    service.close()
    return [
        ratio(
            "lineage of 10,000 things, folded / reading its rows", "-", left, right, "over HTTP", "one query", 1e3, "ms"
        )
    ]


def _fill(count: int) -> None:
    with connection():
        ((experiment, person),) = query(
            "SELECT e.experiment_id, e.created_by FROM experiment e JOIN project p USING (project_id) WHERE p.name = 'lineage'"
        )
        ((nights, digest, project),) = query(
            "SELECT v.version_id, v.digest, a.project_id FROM artifact_version v JOIN artifact a USING (artifact_id) JOIN project p USING (project_id) WHERE p.name = 'lineage'"
        )
        execute(
            "INSERT INTO artifact (project_id, name, kind, created_by, created_at) VALUES (%s, 'net', 'model', %s, NOW(6))",
            project,
            person,
        )
        ((net,),) = query("SELECT artifact_id FROM artifact WHERE project_id = %s AND name = 'net'", project)
        insert_many(
            "INSERT INTO run (uid, experiment_id, number, status, author_id, host, started_at, last_sign_at, lease_s, changed_at)",
            [
                (
                    at.to_bytes(16, "big"),
                    experiment,
                    at,
                    "finished",
                    person,
                    "h",
                    "2026-01-01",
                    "2026-01-01",
                    60,
                    "2026-01-01",
                )
                for at in range(2, count + 2)
            ],
        )
        insert_many(
            "INSERT INTO artifact_version (artifact_id, number, digest, by_reference, created_by, created_at)",
            [(net, at, digest, True, person, "2026-01-01") for at in range(1, count + 1)],
        )
        runs = [
            row[0]
            for row in query(
                "SELECT run_id FROM run WHERE experiment_id = %s AND number > 1 ORDER BY number", experiment
            )
        ]
        versions = [
            row[0]
            for row in query("SELECT version_id FROM artifact_version WHERE artifact_id = %s ORDER BY number", net)
        ]
        links = [(run, secrets.token_bytes(16), nights, "used", "2026-01-01") for run in runs]
        links += [
            (run, secrets.token_bytes(16), version, "generated", "2026-01-01")
            for run, version in zip(runs, versions, strict=True)
        ]
        insert_many("INSERT INTO run_artifact (run_id, uid, version_id, relation, recorded_at)", links)
