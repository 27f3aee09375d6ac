"""Files under way while wires break, senders are killed and services go: what is kept is whole, what is not is not."""

from __future__ import annotations

import contextlib
import hashlib
import os
import signal
import threading
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from kinetrum.client.data import downloads
from kinetrum.client.sender import uploads
from kinetrum.client.sender.uploads import upload_missing
from kinetrum.client.spool.draining import drain
from kinetrum.client.transport.http import Service
from kinetrum.core.base.errors import Damaged, Unavailable
from tests.faults.wire import Wire, wire_to
from tests.service.data.test_files_api import bundle, keep, sha
from tests.support.programs import run_script, senders_of, stop_sender, wait_for
from tests.support.world import Project, another_service

MB = 1_000_000


@pytest.fixture
def wire(project: Project) -> Iterator[Wire]:
    with wire_to(project.instance.url) as found:
        yield found


@pytest.fixture(autouse=True)
def _little_patience(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Waiting between tries is for real outages; here it would only be waited for."""
    monkeypatch.setenv("KINETRUM_FINGERPRINTS", str(tmp_path / "prints.sqlite"))
    real = time.sleep
    for module in (uploads, downloads):
        monkeypatch.setattr(module, "time", type("Clock", (), {"sleep": staticmethod(lambda s: real(min(s, 0.05)))}))


@contextlib.contextmanager
def through(wire: Wire, project: Project) -> Iterator[Service]:
    service = Service(wire.url, project.tokens["contributor"])
    try:
        yield service
    finally:
        service.close()


def stored(project: Project, sha256: str) -> Path:
    return project.instance.home.store / sha256[:2] / sha256


def lacks(project: Project, sha256: str) -> bool:
    answer = project.service().call("POST", project.path("blobs", "missing"), json={"sha256": [sha256]})
    return bool(answer["missing"])


def left_over(folder: Path) -> list[str]:
    return [path.name for path in folder.rglob("*") if path.is_file() and path.name.endswith(".part")]


def test_an_upload_that_breaks_is_taken_up_again(project: Project, wire: Wire, tmp_path: Path) -> None:
    body = os.urandom(20 * MB)
    source = tmp_path / "weights.bin"
    source.write_bytes(body)
    wire.cut_up, wire.breaks = 7 * MB, 2
    told: list[int] = []
    with through(wire, project) as service:
        sent = upload_missing(service, project.name, {sha(body): source}, told.append)
    assert (wire.broken, sent.files, sent.size_bytes) == (2, 1, len(body))
    # What the service had when the wire broke was not sent twice.
    assert wire.passed_up < 1.6 * len(body)
    assert stored(project, sha(body)).read_bytes() == body


def test_an_upload_over_a_wire_that_always_breaks_gives_up(project: Project, wire: Wire, tmp_path: Path) -> None:
    body = os.urandom(9 * MB)
    source = tmp_path / "weights.bin"
    source.write_bytes(body)
    # Breaks before anything of the body comes through.
    wire.cut_up, wire.breaks = 1, 10_000
    with through(wire, project) as service, pytest.raises(Unavailable, match="was not reached"):
        upload_missing(service, project.name, {sha(body): source})
    assert lacks(project, sha(body))
    assert not stored(project, sha(body)).exists()
    wire.breaks = 0
    with through(wire, project) as service:
        assert upload_missing(service, project.name, {sha(body): source}).files == 1
        assert upload_missing(service, project.name, {sha(body): source}).files == 0
    assert not lacks(project, sha(body))


def test_a_bundle_of_small_files_that_breaks_is_kept_whole_or_not_at_all(
    project: Project, wire: Wire, tmp_path: Path
) -> None:
    sources = {}
    for at in range(400):
        content = f"{at}:".encode() + os.urandom(4_000)
        path = tmp_path / f"{at}.bin"
        path.write_bytes(content)
        sources[sha(content)] = path
    wire.cut_up, wire.breaks = 700_000, 1
    with through(wire, project) as service:
        with pytest.raises(Unavailable):
            upload_missing(service, project.name, sources)
        for sha256, path in sources.items():
            if stored(project, sha256).exists():
                assert stored(project, sha256).read_bytes() == path.read_bytes()
        upload_missing(service, project.name, sources)
    answer = project.service().call("POST", project.path("blobs", "missing"), json={"sha256": list(sources)})
    assert answer["missing"] == []


def test_a_download_that_breaks_is_taken_up_again(project: Project, wire: Wire, tmp_path: Path) -> None:
    body = os.urandom(20 * MB)
    keep(project, "net", {"weights.bin": body})
    # More often than it is tried without getting on.
    wire.cut_down, wire.breaks = 3 * MB, 6
    told: list[int] = []
    with through(wire, project) as service:
        files = [{"path": "weights.bin", "size": len(body), "sha256": sha(body)}]
        paths = downloads.download_files(
            service, project.path("artifacts", "net", "versions", "1"), files, tmp_path / "to", told.append
        )
    assert wire.broken == 6
    assert sum(told) == len(body)
    assert wire.passed_down < 1.3 * len(body)
    assert paths[0].read_bytes() == body
    assert left_over(tmp_path) == []


def test_a_download_that_never_gets_on_leaves_nothing(project: Project, wire: Wire, tmp_path: Path) -> None:
    body = os.urandom(4 * MB)
    keep(project, "net", {"weights.bin": body})
    files = [{"path": "weights.bin", "size": len(body), "sha256": sha(body)}]
    wire.cut_down, wire.breaks = 1, 10_000
    with through(wire, project) as service, pytest.raises((Unavailable, Damaged)):
        downloads.download_files(service, project.path("artifacts", "net", "versions", "1"), files, tmp_path / "to")
    assert [path for path in (tmp_path / "to").rglob("*") if path.is_file()] == []


def test_small_files_that_break_off_are_asked_for_again(project: Project, wire: Wire, tmp_path: Path) -> None:
    contents = {f"{at:03d}.bin": os.urandom(6_000) for at in range(200)}
    raw = bundle([(sha(content), content) for content in contents.values()])
    headers = {"Content-Type": "application/x-tar"}
    project.service("contributor").call("POST", project.path("blobs"), content=raw, headers=headers)
    keep(project, "nights", contents, sent=True)
    files = [{"path": path, "size": len(content), "sha256": sha(content)} for path, content in contents.items()]
    wire.cut_down, wire.breaks = 500_000, 1
    told: list[int] = []
    with through(wire, project) as service:
        downloads.download_files(
            service, project.path("artifacts", "nights", "versions", "1"), files, tmp_path / "to", told.append
        )
    assert (wire.broken, sum(told)) == (1, 200 * 6_000)
    assert {path.name: path.read_bytes() for path in (tmp_path / "to").iterdir()} == contents


def test_long_names_that_begin_alike_do_not_meet(project: Project, tmp_path: Path) -> None:
    contents = {f"{'é' * 120}-{at}.bin": os.urandom(2_000_000 + at) for at in range(4)}
    keep(project, "nights", contents)
    files = [{"path": path, "size": len(content), "sha256": sha(content)} for path, content in contents.items()]
    downloads.download_files(project.service(), project.path("artifacts", "nights", "versions", "1"), files, tmp_path)
    assert {path.name: path.read_bytes() for path in tmp_path.glob("é*")} == contents


_TRAIN = """
import kinetrum, sys
with kinetrum.begin("frost-alarm") as run:
    run.generated(sys.argv[1], name="net", kind="model")
"""


def test_a_sender_killed_amid_an_upload_delivers_one_version(project: Project, wire: Wire, tmp_path: Path) -> None:
    body = os.urandom(24 * MB)
    (tmp_path / "weights.bin").write_bytes(body)
    spool = tmp_path / "spool"
    # Slow enough that the kill meets the upload: the wire breaks again and again while bytes get through.
    wire.cut_up, wire.breaks = 9 * MB, 10_000
    environment = {
        "KINETRUM_URL": wire.url,
        "KINETRUM_TOKEN": project.tokens["contributor"],
        "KINETRUM_PROJECT": project.name,
        "KINETRUM_SPOOL": str(spool),
    }
    killed = threading.Event()

    def kill() -> None:
        wait_for(lambda: wire.passed_up > 4 * MB)
        for number in senders_of(spool):
            with contextlib.suppress(ProcessLookupError):
                os.kill(number, signal.SIGKILL)
                killed.set()

    killer = threading.Thread(target=kill)
    killer.start()
    done = run_script(_TRAIN, str(tmp_path / "weights.bin"), **environment)
    killer.join()
    assert killed.is_set(), done.stderr
    wire.breaks = 0
    drain(spool, 40.0)
    stop_sender(spool)
    versions = project.service().get(project.path("artifacts", "net"))["versions"]
    assert [found["number"] for found in versions] == [1]
    assert stored(project, sha(body)).read_bytes() == body


def test_a_service_that_goes_amid_an_upload_is_followed_by_another(
    project: Project, wire: Wire, tmp_path: Path
) -> None:
    body = os.urandom(30 * MB)
    source = tmp_path / "weights.bin"
    source.write_bytes(body)
    going = another_service(project.instance)
    wire.lead_to(next(going))
    gone = threading.Event()

    def end() -> None:
        wait_for(lambda: wire.passed_up > 5 * MB)
        wire.lead_to(project.instance.url)
        # Broken for all that is under way; whoever comes again meets the other service.
        wire.cut_up, wire.breaks = 1, wire.broken + 1
        with contextlib.suppress(StopIteration):
            next(going)
        gone.set()

    ender = threading.Thread(target=end)
    ender.start()
    with through(wire, project) as service:
        upload_missing(service, project.name, {sha(body): source})
    ender.join()
    assert gone.is_set()
    assert hashlib.sha256(stored(project, sha(body)).read_bytes()).hexdigest() == sha(body)
    assert list((project.instance.home.store / "incoming").glob(f"*{sha(body)}*")) == []


def test_the_project_holds_what_a_broken_upload_left_until_it_is_swept(project: Project, wire: Wire) -> None:
    body = os.urandom(12 * MB)
    raw = Service(wire.url, project.tokens["contributor"])
    wire.cut_up, wire.breaks = 5 * MB, 1
    headers = {"Upload-Offset": "0", "Upload-Length": str(len(body))}
    with pytest.raises(Unavailable):
        raw.call("PATCH", project.path("blobs", sha(body)), content=body, headers=headers)
    arrived = wait_for(lambda: raw.get(project.path("blobs", sha(body), "upload"))["offset"])
    assert 0 < arrived < len(body)
    assert lacks(project, sha(body))
    headers["Upload-Offset"] = str(arrived)
    told = raw.call("PATCH", project.path("blobs", sha(body)), content=body[arrived:], headers=headers)
    raw.close()
    assert told == {"offset": len(body), "complete": True}
    assert not lacks(project, sha(body))
