"""Where the spool has no room, is forbidden, belongs to another host, or comes from another version."""

from __future__ import annotations

import base64
import os
import resource
import shutil
import signal
import zlib
from collections.abc import Iterator
from pathlib import Path

import pytest

import kinetrum
from kinetrum.client.capture import host
from kinetrum.client.sender.delivery import Delivery
from kinetrum.client.spool import spool
from kinetrum.client.spool.destinations import Destination, keep_destination
from kinetrum.client.spool.draining import drain
from kinetrum.client.spool.rejected import send_again, set_aside
from kinetrum.client.spool.segments import read_header
from kinetrum.client.spool.status import undelivered
from tests.client.recording.test_run import alone, measured, records
from tests.support.programs import run_script, stop_sender, wait_for
from tests.support.world import Project

__all__ = ["alone"]


@pytest.fixture
def no_room(alone: Path) -> Iterator[Path]:
    """This process may write no more files of any size, as on a full disk; the soft limit is the room."""
    kept = signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
    before = resource.getrlimit(resource.RLIMIT_FSIZE)
    yield alone
    resource.setrlimit(resource.RLIMIT_FSIZE, before)
    signal.signal(signal.SIGXFSZ, kept)


def measure_many(run: kinetrum.Run, steps: range, **more: float) -> None:
    for step in steps:
        run.measure(loss=step, **more)


def fill(full: bool) -> None:
    _, hard = resource.getrlimit(resource.RLIMIT_FSIZE)
    resource.setrlimit(resource.RLIMIT_FSIZE, (4096 if full else hard, hard))


def test_a_full_disk_is_held_in_memory_until_there_is_room(no_room: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(spool, "_segment_size", 65_536)
    monkeypatch.setattr(spool, "_TRY_AGAIN_S", 0.0)
    run = kinetrum.begin("full")
    run.measure(loss=0)
    fill(True)
    with pytest.warns(UserWarning, match="takes no more records"):
        measure_many(run, range(1, 5_000))
    fill(False)
    for step in range(5_000, 6_000):
        run.measure(loss=step)
    run.end()
    spool.current_writer().settle()
    assert [step for step, _ in measured(no_room)] == list(range(6_000))
    assert [record["op"] for record in records(no_room) if record["op"] != "point"] == ["begin", "end"]


def test_beyond_the_memory_points_are_dropped_counted_and_told(no_room: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(spool, "_segment_size", 65_536)
    monkeypatch.setattr(spool, "MEMORY_LIMIT", 4 * 65_536)
    monkeypatch.setattr(spool, "_TRY_AGAIN_S", 0.0)
    run = kinetrum.begin("full")
    fill(True)
    with pytest.warns(UserWarning, match="dropped and counted"):
        measure_many(run, range(20_000), recall=1)
    run.result(recall=1.0)
    fill(False)
    run.measure(loss=1, recall=1)
    run.end()
    spool.current_writer().settle()
    kept = len(measured(no_room))
    found = [record for record in records(no_room) if record["op"] != "point"]
    (problem,) = [record["text"] for record in found if record["op"] == "problem"]
    assert problem.startswith(f"{2 * (20_001 - kept)} points and 0 other records were dropped")
    assert [record["op"] for record in found if record["op"] not in {"problem"}] == ["begin", "results", "end"]
    assert kept > 1_000
    assert measured(no_room)[-1][0] == 20_000


def test_a_limit_of_ones_own(alone: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("KINETRUM_SPOOL_LIMIT", "1")
    monkeypatch.setattr(spool, "_segment_size", 400_000)
    run = kinetrum.begin("bounded")
    with pytest.warns(UserWarning, match="limit of 1 MiB"):
        measure_many(run, range(60_000))
    assert sum(path.stat().st_size for path in alone.glob("writers/*/*.seg")) <= 2**20
    run.end()


def test_a_forbidden_folder_gives_way_to_a_spare_one(
    recording: Project, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("TMPDIR", str(tmp_path))
    monkeypatch.setattr("tempfile.tempdir", None)
    monkeypatch.setenv("KINETRUM_SPOOL", "/proc/no/such/place")
    with pytest.warns(UserWarning, match=r"/proc/no/such/place cannot be written .* is used instead"):
        run = kinetrum.begin("forbidden")
    run.measure(loss=1)
    run.end()
    run.flush()
    found = kinetrum.open(run.id)
    assert isinstance(found, kinetrum.RecordedRun)
    assert found.status == "finished"
    stop_sender(tmp_path / f"kinetrum-spool-{os.getuid()}")


def test_with_no_folder_at_all_training_goes_on(recording: Project) -> None:
    script = """
import kinetrum, tempfile
tempfile.tempdir = "/proc"
run = kinetrum.begin("nowhere")
for step in range(1000):
    run.measure(loss=step)
run.result(recall=1)
print("trained")
"""
    done = run_script(script, KINETRUM_SPOOL="/proc/no", KINETRUM_SENDER="off")
    assert done.returncode == 0, done.stderr
    assert done.stdout == "trained\n"
    assert "Kinetrum lost" in done.stderr


def test_a_worker_that_is_quicker_than_the_beginning_waits_for_it(
    recording: Project, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Two machines: the one that joined delivers while what the other began still lies there."""
    monkeypatch.setenv("KINETRUM_SENDER", "off")
    run = kinetrum.begin("two-machines")
    script = f"""
import kinetrum
run = kinetrum.attach({run.id!r}, experiment="two-machines")
run.measure(loss=1, step=0)
"""
    root = tmp_path / "other"
    assert run_script(script, KINETRUM_SPOOL=str(root), KINETRUM_SENDER="on").returncode == 0
    wait_for(lambda: list(root.glob("writers/*/unknown-since")))
    assert set_aside(root) == []
    monkeypatch.setenv("KINETRUM_SENDER", "on")
    run.end()
    drain(tmp_path / "spool", 30)
    drain(root, 30)
    found = kinetrum.open(run.id)
    assert isinstance(found, kinetrum.RecordedRun)
    assert found.metrics["loss"].points().value.tolist() == [1.0]
    stop_sender(root)


def test_what_another_host_recorded_is_left_alone(
    recording: Project, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    root = tmp_path / "spool"
    script = "import kinetrum\nwith kinetrum.begin('elsewhere') as run: run.measure(loss=1)\nprint(run.id)"
    done = run_script(script, KINETRUM_MACHINE="other-machine", KINETRUM_SENDER="off")
    uid = done.stdout.strip()
    (left,) = undelivered(root)
    assert left.obstacle is not None
    assert "recorded on other-machine" in left.obstacle
    with kinetrum.begin("here") as run:
        run.measure(loss=2)
    run.flush()
    drain(root, 10)
    (folder,) = [path for path in (root / "writers").glob("*") if path.name == left.writer]
    assert not Delivery(folder).adopt("a-third-one")
    assert Delivery(folder).adopt("other-machine")
    drain(root, 30)
    found = kinetrum.open(uid)
    assert isinstance(found, kinetrum.RecordedRun)
    assert found.status == "finished"


def test_the_header_names_the_host(alone: Path) -> None:
    run = kinetrum.begin("e")
    (path,) = alone.glob("writers/*/*.seg")
    header = read_header(path)
    assert header is not None
    assert header.host == host.host_identity()
    run.end()


# A spool that version 1 of the format wrote: one run with a parameter, three points, a result, its end.
FIRST_VERSION = Path(__file__).with_name("spool-of-version-1.txt")


def test_a_spool_of_the_first_version_is_delivered(recording: Project, tmp_path: Path) -> None:
    root = tmp_path / "spool"
    folder = root / "writers" / "019ab000-0000-7000-8000-000000000001"
    folder.mkdir(parents=True)
    content = zlib.decompress(base64.b64decode(FIRST_VERSION.read_text()))
    name = keep_destination(root, Destination(recording.instance.url, recording.tokens["contributor"]))
    # The fixture names a destination and a project that every test run has anew.
    (folder / "000001.seg").write_bytes(content)
    shutil.copy(root / "destinations" / f"{name}.json", root / "destinations" / "0123456789abcdef.json")
    recording.instance.service().call("POST", "/projects", json={"name": "first-version"}) if "first-version" not in [
        row["name"] for row in recording.instance.service().get("/projects")
    ] else None
    recording.instance.service().call(
        "PUT", "/projects/first-version/members/a-contributor", json={"role": "contributor"}
    )
    drain(root, 30)
    found = kinetrum.open("e/last", project="first-version")
    assert isinstance(found, kinetrum.RecordedRun)
    assert found.params == {"depth": 6}
    assert found.metrics["loss"].points().value.tolist() == [0.5, 0.25, 0.125]
    assert found.results == {"recall": 0.9}
    assert found.status == "finished"


def test_a_later_version_is_left_alone(recording: Project, tmp_path: Path) -> None:
    root = tmp_path / "spool"
    folder = root / "writers" / "019ab000-0000-7000-8000-000000000002"
    folder.mkdir(parents=True)
    content = bytearray(zlib.decompress(base64.b64decode(FIRST_VERSION.read_text())))
    content[8:10] = (99).to_bytes(2, "little")
    (folder / "000001.seg").write_bytes(content)
    (left,) = undelivered(root)
    assert "later version" in (left.obstacle or "")
    with kinetrum.begin("beside") as run:
        run.measure(loss=1)
    run.flush()
    drain(root, 10)
    assert (folder / "000001.seg").exists()


def test_refused_records_are_sent_again_when_told(recording: Project, tmp_path: Path) -> None:
    from kinetrum.client.sender.operations import RunCalls

    root = tmp_path / "spool"
    admin = recording.instance.service()
    with kinetrum.begin("refused") as run:
        run.flush()
        admin.call("PUT", recording.path("members", "a-contributor"), json={"role": "viewer"})
        run.measure(loss=1)
        run.measure(loss=2)
        run.flush()
        with pytest.warns(UserWarning, match="refused and set aside"):
            run.end()
    run.flush()
    assert len(set_aside(root, run.id)) >= 1
    calls = RunCalls(root)
    assert send_again(root, calls) == (0, len(set_aside(root)))
    admin.call("PUT", recording.path("members", "a-contributor"), json={"role": "contributor"})
    taken, refused = send_again(root, calls)
    calls.close()
    assert refused == 0
    assert taken >= 2
    assert set_aside(root) == []
    found = kinetrum.open(run.id)
    assert isinstance(found, kinetrum.RecordedRun)
    assert found.metrics["loss"].points().value.tolist() == [1.0, 2.0]
    assert found.status == "finished"


def test_a_new_connection_delivers_what_an_expired_token_could_not(
    recording: Project, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    from kinetrum.client.transport.connection import save

    monkeypatch.setenv("KINETRUM_CONNECTIONS", str(tmp_path / "connections.json"))
    admin = recording.instance.service()
    name = f"short-{recording.name}"
    secret = admin.call("POST", "/tokens", json={"name": name, "person": "a-contributor"})["secret"]
    monkeypatch.setenv("KINETRUM_TOKEN", secret)
    run = kinetrum.begin("expired")
    run.measure(loss=1)
    run.flush()
    recording.service("contributor").call("DELETE", f"/tokens/{name}")
    run.measure(loss=2)
    run.end()
    with pytest.raises(kinetrum.NotSignedIn, match=r"not acknowledged: This token .* safe in"):
        run.flush(1.5)
    save(recording.instance.url, recording.tokens["contributor"], recording.name)
    monkeypatch.setenv("KINETRUM_TOKEN", recording.tokens["contributor"])
    run.flush(40)
    found = kinetrum.open(run.id)
    assert isinstance(found, kinetrum.RecordedRun)
    assert found.metrics["loss"].points().value.tolist() == [1.0, 2.0]


def test_behind_what_a_killed_thread_left_open(recording: Project, tmp_path: Path) -> None:
    script = """
import kinetrum, os
run = kinetrum.begin("gap")
run.measure(loss=0)
run._recorder.writer.segment.reserve(48)
run.measure(loss=1)
run.measure(recall=0.5)
print(run.id, flush=True)
os.kill(os.getpid(), 9)
"""
    done = run_script(script)
    drain(tmp_path / "spool", 30)
    found = kinetrum.open(done.stdout.strip())
    assert isinstance(found, kinetrum.RecordedRun)
    assert found.metrics["loss"].points().value.tolist() == [0.0, 1.0]
    assert found.metrics["recall"].points().value.tolist() == [0.5]


def test_a_segment_that_was_never_begun_holds_nothing_up(recording: Project, tmp_path: Path) -> None:
    """A process killed between taking the file's room and writing its header leaves zeros behind."""
    script = """
import kinetrum, os
run = kinetrum.begin("unborn")
run.measure(loss=1)
folder = run._recorder.writer.folder
(folder / "000002.seg").write_bytes(bytes(65536))
run._recorder.writer.segment.end()
print(run.id, flush=True)
os.kill(os.getpid(), 9)
"""
    done = run_script(script)
    root = tmp_path / "spool"
    assert all(item.obstacle is None for item in undelivered(root))
    drain(root, 30)
    found = kinetrum.open(done.stdout.strip())
    assert isinstance(found, kinetrum.RecordedRun)
    assert found.metrics["loss"].points().value.tolist() == [1.0]
    wait_for(lambda: list((root / "writers").glob("*")) == [])


def test_what_is_no_segment_is_left_alone_and_told(recording: Project, tmp_path: Path) -> None:
    folder = tmp_path / "spool" / "writers" / "019ab000-0000-7000-8000-000000000003"
    folder.mkdir(parents=True)
    (folder / "000001.seg").write_bytes(b"somebody else's file" * 10)
    (left,) = undelivered(tmp_path / "spool")
    assert left.obstacle == "000001.seg is not a segment of a spool"
    drain(tmp_path / "spool", 5)


def test_a_refused_output_keeps_its_bytes_until_it_is_taken(recording: Project, tmp_path: Path) -> None:
    from kinetrum.client.sender.operations import RunCalls

    root = tmp_path / "spool"
    admin = recording.instance.service()
    (tmp_path / "net.bin").write_bytes(b"a net")
    run = kinetrum.begin("refused-output")
    run.flush()
    admin.call("PUT", recording.path("members", "a-contributor"), json={"role": "viewer"})
    run.generated(tmp_path / "net.bin", name="net")
    run.flush()
    with pytest.warns(UserWarning, match="refused"):
        run.end()
    run.flush()
    (tmp_path / "net.bin").write_bytes(b"another one by now")
    # The writer's own folder may go; what was set aside has its copies with it.
    assert [path.read_bytes() for path in (root / "set-aside").glob("files-*/*")] == [b"a net"]
    calls = RunCalls(root)
    assert send_again(root, calls)[0] == 0
    assert len(list((root / "set-aside").glob("files-*/*"))) == 1
    admin.call("PUT", recording.path("members", "a-contributor"), json={"role": "contributor"})
    assert send_again(root, calls)[1] == 0
    calls.close()
    found = kinetrum.open(run.id)
    assert isinstance(found, kinetrum.RecordedRun)
    (path,) = found.download(tmp_path / "back")
    assert path.read_bytes() == b"a net"
    assert list((root / "set-aside").glob("files-*")) == []
