"""Where records go that were made before a service was known, what stands in their way, and who says so."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import time
from pathlib import Path
from urllib.parse import urlsplit

import pytest

import kinetrum
from kinetrum.client.sender.launch import start_sender
from kinetrum.client.spool import spool
from kinetrum.client.spool.destinations import Destination, keep_destination, read_destination, replace_destination
from kinetrum.client.spool.draining import drain, goes_to, marks_of, told_left
from kinetrum.client.spool.obstructions import ask_again, obstruction_of
from kinetrum.client.spool.status import undelivered
from kinetrum.client.transport.connection import find_connection, running_instance, save
from kinetrum.instance.settings import Home
from tests.client.recording.test_run import records
from tests.gateways import gateway, stranger
from tests.support.programs import run_script, stop_sender, wait_for
from tests.support.world import Project

SCRIPT = """
import kinetrum
with kinetrum.begin('early', params={'depth': 3}) as run:
    run.measure(loss=1)
    run.measure(loss=0.5)
print(run.id)
"""
CLOSED = "http://127.0.0.1:9"


@pytest.fixture
def nowhere(recording: Project, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Project:
    """A person of whom no service is known: no address, no connection, no instance."""
    for key in ("KINETRUM_URL", "KINETRUM_TOKEN"):
        monkeypatch.delenv(key)
    monkeypatch.setenv("KINETRUM_CONNECTIONS", str(tmp_path / "connections.json"))
    monkeypatch.setenv("KINETRUM_HOME", str(tmp_path / "home"))
    return recording


def arrived(project: Project, uid: str) -> bool:
    """Tell whether the run and its two points are in the project."""
    try:
        found = project.service("viewer").get(project.path("runs", uid))
    except kinetrum.NotFound:
        return False
    return bool(found["metrics"]["loss"]["count"] == 2 if "loss" in found["metrics"] else False)


def wait_until_noted(root: Path) -> None:
    """Wait until whoever delivers has met what stands in the way."""
    start_sender(root)
    wait_for(lambda: [item for item in undelivered(root) if item.obstruction is not None])


def test_the_script_says_once_that_no_service_is_known(nowhere: Project, tmp_path: Path) -> None:
    done = run_script(SCRIPT + "\nkinetrum.begin('another').end()")
    assert done.returncode == 0
    (line,) = done.stderr.splitlines()
    assert line.startswith("kinetrum: No service is known here. Start one with 'kinetrum up'")
    assert line.endswith(f"What is recorded waits in {tmp_path / 'spool'}.")
    found = undelivered(tmp_path / "spool")
    assert [item.addresses for item in found] == [["the service of this machine"]]


def test_it_goes_to_the_connection_that_is_saved(nowhere: Project, tmp_path: Path) -> None:
    uid = run_script(SCRIPT).stdout.strip()
    save(nowhere.instance.url, nowhere.tokens["contributor"], None)
    drain(tmp_path / "spool", 30)
    assert arrived(nowhere, uid)


def test_it_goes_to_the_instance_that_comes_up_on_whatever_port(
    nowhere: Project, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    uid = run_script(SCRIPT).stdout.strip()
    wait_until_noted(tmp_path / "spool")
    (tmp_path / "home").symlink_to(nowhere.instance.home.folder)
    drain(tmp_path / "spool", 30)
    # With the owner's token, which lies in the instance's folder.
    assert arrived(nowhere, uid)


def test_what_an_instance_was_meant_for_waits_for_it_alone(
    nowhere: Project, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Its port may be anybody's while it is down: a stranger there gets neither a record nor the token."""
    with stranger() as other:
        fake = make_home(tmp_path / "home", other.url)
        assert running_instance(fake.folder) is None
        done = run_script(SCRIPT)
        assert f"Your instance in {fake.folder} does not run" in done.stderr
        # A connection that is saved since is somebody else's service, too.
        save(other.url, "a-token", None)
        wait_until_noted(tmp_path / "spool")
        (item,) = undelivered(tmp_path / "spool")
        assert item.obstruction is not None
        assert "does not run" in item.obstruction.reason
        with pytest.raises(kinetrum.Unavailable, match="does not run"):
            read_destination(tmp_path / "spool", item.destinations[0]).targets(tmp_path / "spool")
        assert other.passed == []
        # What was saved for the instance is not sent to whoever has its port, either.
        save(other.url, "a-token", None, fake.folder)
        with pytest.raises(kinetrum.Unavailable, match="does not run"):
            find_connection()
        assert other.tokens == []


def make_home(folder: Path, url: str) -> Home:
    """The folder of an instance whose keeper was killed: what it wrote about itself stands there still."""
    folder.mkdir()
    (folder / "lock").write_text("1")
    (folder / "token").write_text("the-token-of-the-owner\n")
    (folder / "state.json").write_text(json.dumps({"url": url, "port": 7373}))
    return Home(folder)


def test_a_token_file_of_somebody_else_is_not_taken(nowhere: Project, tmp_path: Path) -> None:
    home = nowhere.instance.home.folder
    assert running_instance(home) is not None
    folder = make_home(tmp_path / "home", nowhere.instance.url).folder
    (folder / "lock").unlink()
    (folder / "lock").symlink_to(home / "lock")
    assert running_instance(folder) is not None
    if os.getuid() == 0:
        os.chown(folder / "token", 12_345, 12_345)
        assert running_instance(folder) is None


def test_records_of_an_earlier_version_without_an_address_are_this_machines(nowhere: Project, tmp_path: Path) -> None:
    folder = tmp_path / "spool" / "destinations"
    folder.mkdir(parents=True)
    (folder / "old.json").write_text(json.dumps({"url": "http://127.0.0.1:7373", "token": None}))
    (folder / "named.json").write_text(json.dumps({"url": "http://127.0.0.1:7373", "token": "t"}))
    save("http://team:1", "t", None)
    assert read_destination(tmp_path / "spool", "old").targets(tmp_path / "spool") == [("http://team:1", "t")]
    assert read_destination(tmp_path / "spool", "named").targets(tmp_path / "spool")[0] == (
        "http://127.0.0.1:7373",
        "t",
    )


def test_what_is_held_up_holds_up_no_read_of_something_else(
    recording: Project, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, recwarn: pytest.WarningsRecorder
) -> None:
    done = run_script(SCRIPT, KINETRUM_URL=CLOSED)
    assert done.stderr.count("\n") == 1
    assert "4 records of 1 run were not delivered yet: The service at http://127.0.0.1:9 was not reached" in done.stderr
    uid = run_script(SCRIPT).stdout.strip()
    started = time.monotonic()
    table = kinetrum.runs(experiment="early")
    assert time.monotonic() - started < 5
    assert [row.id for row in table] == [uid]
    assert table[0].values["loss"] == 0.5
    assert not [warning for warning in recwarn if "not delivered" in str(warning.message)]


def test_a_read_of_what_is_held_up_answers_and_warns(
    recording: Project, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A proxy before the service takes no large bodies: one run waits, the others are there."""
    with gateway(recording.instance.url, limit=20_000) as way:
        monkeypatch.setenv("KINETRUM_URL", way.url)
        run_script(SCRIPT)
        large = "import kinetrum\nkinetrum.begin('early', params={str(n).zfill(4): 'x' * 60 for n in range(900)}).end()"
        done = run_script(large)
        assert "refused a body of" in done.stderr
        assert "client_max_body_size" in done.stderr
        started = time.monotonic()
        with pytest.warns(UserWarning, match=r"2 records of 1 run were not delivered yet: A proxy before 127.0.0.1"):
            table = kinetrum.runs(experiment="early")
        assert time.monotonic() - started < 10
        assert len(table) == 1
        stop_sender(tmp_path / "spool")


@pytest.mark.parametrize("limit", [100_000, 20_000_000])
def test_bodies_adapt_to_what_a_proxy_takes(
    recording: Project, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, limit: int
) -> None:
    (tmp_path / "net.bin").write_bytes(os.urandom(3_000_000))
    (tmp_path / "small").mkdir()
    for number in range(20):
        (tmp_path / "small" / f"part-{number}").write_bytes(os.urandom(8_000))
    with gateway(recording.instance.url, limit=limit) as way:
        monkeypatch.setenv("KINETRUM_URL", way.url)
        with kinetrum.begin("parts", output=True) as run:
            for step in range(30_000):
                run.measure(loss=step % 997 + 0.123, recall=step % 13, other=step % 7 * 1.1)
            print("x" * 60_000)
            run.generated(tmp_path / "net.bin", name="net")
            run.generated(tmp_path / "small", name="small")
        run.flush(60)
        assert all(size <= limit for size in way.passed)
        assert bool(way.refused) == (limit < 1_000_000)
        assert len(way.refused) < 60
    monkeypatch.setenv("KINETRUM_URL", recording.instance.url)
    found = kinetrum.open(run.id)
    assert isinstance(found, kinetrum.RecordedRun)
    points = found.metrics["loss"].points()
    assert len(points.value) == 30_000
    assert points.value.tolist() == [step % 997 + 0.123 for step in range(30_000)]
    paths = {path.name: path for path in found.download(tmp_path / "back")}
    assert paths["net.bin"].read_bytes() == (tmp_path / "net.bin").read_bytes()
    assert sum(path.name.startswith("part-") for path in paths.values()) == 20
    assert not undelivered(tmp_path / "spool")
    stop_sender(tmp_path / "spool")


def test_a_valid_token_in_the_environment_takes_effect(
    recording: Project, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    done = run_script(SCRIPT, KINETRUM_TOKEN="not-a-token")
    uid = done.stdout.strip()
    (line,) = done.stderr.splitlines()
    assert "4 records of 1 run were not delivered yet: This is no whole token" in line
    assert f"Give one with 'kinetrum connect {recording.instance.url}', or as KINETRUM_TOKEN." in line
    root = tmp_path / "spool"
    (item,) = undelivered(root)
    assert item.obstruction is not None
    assert item.obstruction.kind == "not-signed-in"
    assert not arrived(recording, uid)
    assert [row.id for row in kinetrum.runs(experiment="early")] == [uid]
    assert undelivered(root) == []
    assert obstruction_of(root, item.destinations[0]) is None


def test_another_token_for_another_address_changes_nothing(recording: Project, tmp_path: Path) -> None:
    with gateway(recording.instance.url) as way:
        run_script(SCRIPT, KINETRUM_TOKEN="not-a-token", KINETRUM_URL=way.url)
        sent = [token for token in way.tokens if token]
        kinetrum.runs()
        ask_again(tmp_path / "spool")
        wait_for(lambda: len(way.tokens) > len(sent))
        assert set(way.tokens) == {"Bearer not-a-token"}
        stop_sender(tmp_path / "spool")


def test_a_service_that_comes_back_gets_everything_at_the_next_read(
    recording: Project, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    with gateway(recording.instance.url) as way:
        address = way.url
    uid = run_script(SCRIPT, KINETRUM_URL=address).stdout.strip()
    wait_until_noted(tmp_path / "spool")
    with gateway(recording.instance.url, port=urlsplit(address).port or 0):
        monkeypatch.setenv("KINETRUM_URL", address)
        # However long the sender would have paused.
        assert [row.id for row in kinetrum.runs(experiment="early")] == [uid]
        stop_sender(tmp_path / "spool")


def test_a_fast_writer_leaves_the_others_their_turn(recording: Project, tmp_path: Path) -> None:
    endless = """
import kinetrum, time
run = kinetrum.begin('endless')
end = time.monotonic() + 12
step = 0
while time.monotonic() < end:
    run.measure(loss=step)
    step += 1
    if step % 50 == 0:
        time.sleep(0.0005)
"""
    process = subprocess.Popen([sys.executable, "-c", endless])
    try:
        wait_for(lambda: undelivered(tmp_path / "spool"))
        with kinetrum.begin("early") as run:
            run.measure(loss=1)
        run.flush(20)
        assert process.poll() is None
        # A read beside a training that goes on waits for what was recorded until now, and no longer.
        assert len(kinetrum.runs(experiment="early")) == 1
        assert process.poll() is None
    finally:
        process.kill()
        process.wait(20)


def test_records_keep_their_destination(recording: Project, tmp_path: Path) -> None:
    with kinetrum.begin("early"):
        pass
    (name,) = {record["to"] for record in records(tmp_path / "spool") if record["op"] == "begin"}
    kept = read_destination(tmp_path / "spool", name)
    assert (kept.url, kept.token) == (recording.instance.url, recording.tokens["contributor"])
    path = tmp_path / "spool" / "destinations" / f"{name}.json"
    assert path.stat().st_mode & 0o777 == 0o600


def test_a_destination_that_is_gone_is_told(recording: Project, tmp_path: Path) -> None:
    done = run_script(SCRIPT, KINETRUM_SENDER="off")
    assert done.stderr == ""
    for path in (tmp_path / "spool" / "destinations").glob("*.json"):
        path.unlink()
    with pytest.raises(kinetrum.Unavailable, match=r"cannot be read any more .* 'kinetrum spool redirect'"):
        drain(tmp_path / "spool", 20, until_obstructed=True)


def test_a_name_that_was_redirected_means_the_address_again(recording: Project, tmp_path: Path) -> None:
    """What is recorded to an address after a redirection goes there, and not where the earlier records went."""
    root = tmp_path / "spool"
    meant, elsewhere = Destination(CLOSED, "t"), Destination("http://127.0.0.1:19", "t")
    first = keep_destination(root, meant)
    assert keep_destination(root, meant) == first
    replace_destination(root, first, elsewhere)
    second = keep_destination(root, meant)
    assert second != first
    assert read_destination(root, second) == meant
    assert read_destination(root, first) == elsewhere
    assert keep_destination(root, meant) == second
    replace_destination(root, second, elsewhere)
    assert read_destination(root, keep_destination(root, meant)) == meant


def test_a_long_backlog_is_not_read_whole(recording: Project, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(spool, "_segment_size", 65_536)
    monkeypatch.setenv("KINETRUM_SENDER", "off")
    run = kinetrum.begin("early")
    for step in range(60_000):
        run.measure(loss=step)
    run.end()
    (folder,) = (tmp_path / "spool" / "writers").glob("*")
    assert len(list(folder.glob("*.seg"))) > 20
    (mark,) = marks_of(tmp_path / "spool", goes_to(tmp_path / "spool", recording.instance.url))
    assert not mark.is_whole
    assert mark.runs == {run.id}
    assert mark.records < 60_000
    assert "Over " in told_left(tmp_path / "spool", [mark])
    assert marks_of(tmp_path / "spool", goes_to(tmp_path / "spool", CLOSED)) == []
    # Its end is the end of all: whoever waits for it has everything.
    monkeypatch.delenv("KINETRUM_SENDER")
    run.flush(60)
    found = kinetrum.open(run.id)
    assert isinstance(found, kinetrum.RecordedRun)
    assert len(found.metrics["loss"].points().value) == 60_000
    assert found.status == "finished"
