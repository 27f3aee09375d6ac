"""Files and data from Python: kept, used where they lie, checked later, checkpoints chosen, large ones not copied."""

from __future__ import annotations

import hashlib
import http.server
import json
import os
import threading
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

import kinetrum
from kinetrum.client.data import copies
from kinetrum.client.sender import uploads
from kinetrum.client.sender.fingerprints import Fingerprints, fingerprint
from kinetrum.client.transport.session import open_session
from kinetrum.core.base import errors
from kinetrum.demo.stand_ins import object_store
from tests.support.programs import wait_for
from tests.support.world import Project


@pytest.fixture(autouse=True)
def _own_memory(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("KINETRUM_FINGERPRINTS", str(tmp_path / "prints.sqlite"))


def write(folder: Path, files: dict[str, str]) -> Path:
    for path, text in files.items():
        target = folder / path
        target.parent.mkdir(parents=True, exist_ok=True)
        target.write_text(text)
    return folder


def opened(ref: str) -> kinetrum.StoredVersion:
    found = kinetrum.open(ref)
    assert isinstance(found, kinetrum.StoredVersion)
    return found


def test_a_folder_is_kept_and_comes_back(recording: Project, tmp_path: Path) -> None:
    files = {f"day-{at:03d}/station.csv": f"reading {at}\n" for at in range(60)} | {"readme.md": "# Nights\n"}
    source = write(tmp_path / "nights", files)
    assert kinetrum.keep(source, kind="data", about={"seasons": 5}, labels={"state": "raw"}) == "nights@1"
    assert kinetrum.keep(source, kind="data") == "nights@1"
    version = opened("nights@1")
    assert (version.about, version.labels, version.by_reference) == ({"seasons": 5}, {"state": "raw"}, False)
    told: list[int] = []
    version.download(tmp_path / "back", tick=told.append)
    assert sum(told) == sum(len(text) for text in files.values())
    for path, text in files.items():
        assert (tmp_path / "back" / path).read_text() == text
    # What is there already is left alone, what is there otherwise is not overwritten.
    version.download(tmp_path / "back")
    (tmp_path / "back" / "readme.md").write_text("mine")
    with pytest.raises(errors.Conflict, match="other content"):
        version.download(tmp_path / "back")
    (source / "readme.md").write_text("# More nights\n")
    assert kinetrum.keep(source) == "nights@2"
    found = kinetrum.difference("nights@1", "nights@2")
    assert [(pair["finding"], pair["right"]["path"]) for pair in found["pairs"]] == [("changed", "readme.md")]
    assert version.label(state=None, good="yes").labels == {"good": "yes"}


def test_only_what_is_missing_is_sent(recording: Project, tmp_path: Path) -> None:
    big = tmp_path / "big.bin"
    big.write_bytes(os.urandom(9_000_000))
    session = open_session()
    sha = fingerprint(big).sha256
    assert uploads.upload_missing(session.service, session.project, {sha: big}).size_bytes == 9_000_000
    assert uploads.upload_missing(session.service, session.project, {sha: big}).files == 0


def test_an_upload_is_taken_up_after_a_broken_connection(recording: Project, tmp_path: Path) -> None:
    body = os.urandom(9_500_000)
    big = tmp_path / "big.bin"
    big.write_bytes(body)
    sha = fingerprint(big).sha256
    session = open_session()
    path = f"/projects/{session.project}/blobs/{sha}"
    # Somebody sent a part before and went away.
    headers = {"Upload-Offset": "0", "Upload-Length": str(len(body))}
    session.service.call("PATCH", path, content=body[:4_000_000], headers=headers)
    told: list[int] = []
    uploads.upload_missing(session.service, session.project, {sha: big}, told.append)
    assert sum(told) == len(body)
    assert told[0] == 4_000_000
    big.write_bytes(b"other" * 2_000_000)
    with pytest.raises(errors.InvalidInput, match="changed while it was being sent"):
        uploads.upload_missing(session.service, session.project, {"0" * 64: big})


def test_inputs_are_fingerprinted_where_they_lie(recording: Project, tmp_path: Path) -> None:
    source = write(tmp_path / "nights", {"2024/a.csv": "1", "2025/b.csv": "2"})
    with kinetrum.begin("frost-alarm") as run:
        run.used(source, role="train", about={"seasons": 2})
    run.flush()
    version = opened("nights@1")
    assert version.by_reference
    assert version.data["files"][0]["modified"] == (source / "2024/a.csv").stat().st_mtime_ns // 1000
    assert [(file.path, file.state, file.read) for file in version.check()] == [
        ("2024/a.csv", "same", True),
        ("2025/b.csv", "same", True),
    ]
    (source / "2024/a.csv").write_text("x")
    os.utime(source / "2024/a.csv", ns=(0, version.data["files"][0]["modified"] * 1000))
    (source / "2025/b.csv").unlink()
    # Size and time are as they were: only reading tells.
    assert [file.state for file in version.check(quick=True)] == ["same", "gone"]
    assert [file.state for file in version.check()] == ["changed", "gone"]
    with pytest.raises(errors.Conflict, match="by reference"):
        version.download(tmp_path / "out")
    assert kinetrum.uses("nights@1")["uses"][0]["run"]["role"] == "train"
    assert kinetrum.uses(write(tmp_path / "same", {"2024/a.csv": "1", "2025/b.csv": "2"}))["exact"] is True
    with pytest.raises(errors.NotFound, match="has the content"):
        kinetrum.uses(write(tmp_path / "new", {"a": "never seen"}))


def test_an_input_can_be_uploaded(recording: Project, tmp_path: Path) -> None:
    source = write(tmp_path / "nights", {"a.csv": "1", "b.csv": "2"})
    with kinetrum.begin("frost-alarm") as run:
        run.used(source, upload=True)
    run.flush()
    version = opened("nights@1")
    assert not version.by_reference
    assert version.used_by == ["frost-alarm/1"]
    assert [path.read_text() for path in version.download(tmp_path / "back")] == ["1", "2"]


def test_checkpoints_are_chosen(recording: Project, tmp_path: Path) -> None:
    net = tmp_path / "net.onnx"
    recall = [0.2, 0.9, 0.4, 0.8, 0.5]
    with kinetrum.begin("frost-alarm", goals={"recall": "higher"}) as run:
        for step, value in zip(run.progress(range(5)), recall, strict=True):
            net.write_text(f"net of step {step}")
            # Kept before it is measured: which is best is known only afterwards.
            run.generated(net, name="best-net", kind="model", keep="best")
            run.generated(net, name="last-net", kind="model", keep=2)
            run.measure(recall=value)
        with pytest.raises(errors.InvalidInput, match="give the step"):
            run.generated(net, name="last-net", keep=2)
    run.flush()
    path = f"/projects/{recording.name}/artifacts"
    service = recording.service()
    kept = {
        name: [row["number"] for row in service.get(f"{path}/{name}/versions") if row["binned_at"] is None]
        for name in ("best-net", "last-net")
    }
    assert kept == {"best-net": [2], "last-net": [5, 4]}
    binned = [row for row in service.get(f"{path}/best-net/versions") if row["binned_at"]]
    assert {row["bin_reason"] for row in binned} == {"frost-alarm/1 keeps the best"}
    assert opened("best-net@latest").reference == "best-net@2"
    assert kinetrum.fetch("frost-alarm/1:best-net", tmp_path / "out")[0].read_text() == "net of step 1"


def test_a_registered_checkpoint_stays(recording: Project, tmp_path: Path) -> None:
    net = tmp_path / "net.onnx"
    with kinetrum.begin("frost-alarm") as run:
        net.write_text("one")
        run.generated(net, name="net", step=1, keep=1)
        run.flush()
        run.register("net", as_model="frost-alarm")
        net.write_text("two")
        run.generated(net, name="net", step=2, keep=1)
    run.flush()
    rows = recording.service().get(f"/projects/{recording.name}/artifacts/net/versions")
    assert [row["binned_at"] for row in rows] == [None, None]


def test_what_is_too_large_to_copy_is_sent_at_the_call(
    recording: Project, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(copies, "COPY_LIMIT", 1000)
    monkeypatch.setattr(copies, "_share_blocks", lambda *_: False)
    big = tmp_path / "big.bin"
    big.write_bytes(bytes(range(256)) * 10)
    with kinetrum.begin("frost-alarm") as run:
        run.generated(big, name="big")
        # It waited: what happens to the file now does no harm.
        assert list((tmp_path / "spool").glob("writers/*/files-*")) == []
        big.unlink()
    run.flush()
    assert opened("big@1").download(tmp_path / "back")[0].read_bytes() == bytes(range(256)) * 10


def test_a_folder_of_thousands_of_files(recording: Project, tmp_path: Path) -> None:
    """More than fits into one record of the spool, and sent together."""
    source = tmp_path / "many"
    for at in range(2_500):
        (source / f"{at // 100:02d}").mkdir(parents=True, exist_ok=True)
        (source / f"{at // 100:02d}" / f"{at}.txt").write_text(str(at % 2_000))
    with kinetrum.begin("frost-alarm") as run:
        run.used(source, name="many")
        run.generated(source, name="many-out")
    run.flush()
    assert opened("many@1").data["file_count"] == 2_500
    assert opened("many@1").digest == opened("many-out@1").digest
    assert list((tmp_path / "spool").glob("writers/*/list-*")) == []


def test_measuring_goes_on_while_files_are_read(recording: Project, tmp_path: Path) -> None:
    """An input that takes long holds up nobody: points of the same run arrive before it."""
    fifo_like = tmp_path / "slow.bin"
    with fifo_like.open("wb") as file:
        file.truncate(6 * 1024**3)
    with kinetrum.begin("frost-alarm") as run:
        run.used(fifo_like, name="slow")
        run.measure(loss=1.0)
        path = f"/projects/{recording.name}/experiments/frost-alarm/runs/1"
        service = recording.service()

        def measured() -> bool:
            try:
                return "loss" in service.get(path)["values"]
            except errors.NotFound:
                return False

        wait_for(measured, 10)
        assert service.get(path)["used"] == []
        fifo_like.unlink()


def test_many_files_and_large_ones_are_fingerprinted_in_their_order(tmp_path: Path) -> None:
    files = []
    for at in range(300):
        file = tmp_path / f"{at}.bin"
        file.write_bytes(f"{at}".encode() * (2_000_000 if at % 70 == 0 else 1))
        os.utime(file, (1_790_000_000, 1_790_000_000))
        files.append(file)
    time.sleep(2.1)
    memory = Fingerprints(tmp_path / "prints.sqlite")
    first = memory.all_of(files)
    assert [found.sha256 for found in first] == [hashlib.sha256(file.read_bytes()).hexdigest() for file in files]
    read: list[int] = []
    assert memory.all_of(list(reversed(files)), read.append) == list(reversed(first))
    files[7].write_text("changed")
    changed = memory.all_of(files)
    assert [at for at in range(300) if changed[at] != first[at]] == [7]
    files[9].unlink()
    with pytest.raises(FileNotFoundError):
        memory.all_of(files)
    memory.close()


def test_what_was_fingerprinted_is_not_read_again(tmp_path: Path) -> None:
    file = tmp_path / "a.bin"
    file.write_bytes(b"x" * 1_000)
    old = time.time_ns() - 10_000_000_000
    os.utime(file, ns=(old, old))
    memory = Fingerprints(tmp_path / "prints.sqlite")
    # Its inode changed a moment ago, which the memory does not trust either.
    assert memory.all_of([file])[0].size == 1_000
    found = os.stat(file)
    memory.remember([(str(file), (found.st_size, found.st_mtime_ns, found.st_ctime_ns, found.st_ino), "f" * 64)])
    assert memory.all_of([file])[0].sha256 != "f" * 64
    time.sleep(2.1)
    assert memory.all_of([file])[0].sha256 == "f" * 64
    file.write_bytes(b"y" * 1_000)
    assert memory.all_of([file])[0].sha256 == fingerprint(file).sha256
    memory.close()
    (tmp_path / "prints.sqlite").write_bytes(b"no database at all")
    broken = Fingerprints(tmp_path / "prints.sqlite")
    assert broken.all_of([file])[0].sha256 == fingerprint(file).sha256
    broken.close()


@pytest.fixture
def bucket(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Path]:
    """The stand-in for an object store, with readings in it."""
    root = tmp_path / "store"
    write(root / "readings", {"2024/a.csv": "1,2\n", "2025/b.csv": "3,4\n"})
    server = object_store.serve(root, 0)
    thread = threading.Thread(target=server.serve_forever, daemon=True)
    thread.start()
    for key, value in {
        "AWS_ENDPOINT_URL": f"http://127.0.0.1:{server.server_address[1]}",
        "AWS_ACCESS_KEY_ID": "k",
        "AWS_SECRET_ACCESS_KEY": "s",
        "AWS_REGION": "orchard",
    }.items():
        monkeypatch.setenv(key, value)
    yield root / "readings"
    server.shutdown()
    server.server_close()
    thread.join()


def test_objects_are_fingerprinted_where_they_are(recording: Project, bucket: Path) -> None:
    with kinetrum.begin("frost-alarm") as run:
        run.used("s3://readings", role="raw")
        run.used("s3://readings/2025/b.csv", name="one")
        run.used("s3://readings/nowhere", name="nothing")
    run.flush()
    version = opened("readings@1")
    assert version.by_reference
    assert [(entry["path"], entry["address"]) for entry in version.data["files"]] == [
        ("2024/a.csv", "s3://readings/2024/a.csv"),
        ("2025/b.csv", "s3://readings/2025/b.csv"),
    ]
    assert opened("one@1").files == ["b.csv"]
    problems = recording.service().get(f"/projects/{recording.name}/experiments/frost-alarm/runs/1")["problems"]
    assert "There is no object at or below s3://readings/nowhere" in problems[0]["text"]
    assert {file.state for file in version.check()} == {"same"}
    (bucket / "2024/a.csv").write_text("9,9\n")
    (bucket / "2025/b.csv").unlink()
    assert [file.state for file in version.check()] == ["changed", "gone"]


def test_a_file_at_an_address(recording: Project, tmp_path: Path) -> None:
    write(tmp_path / "web", {"nights.csv": "1,2\n"})

    class Quiet(http.server.SimpleHTTPRequestHandler):
        def log_message(self, *_: object) -> None:
            pass

        def __init__(self, *args: object, **rest: object) -> None:
            super().__init__(*args, directory=str(tmp_path / "web"), **rest)  # type: ignore[arg-type]

    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Quiet)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    base = f"http://127.0.0.1:{server.server_address[1]}"
    with kinetrum.begin("frost-alarm") as run:
        run.used(f"{base}/nights.csv?token=hidden-from-all")
        run.used(f"{base}/nothing.csv")
    run.flush()
    version = opened("nights@1")
    assert version.data["files"][0]["address"] == f"{base}/nights.csv"
    assert [file.state for file in version.check()] == ["same"]
    spooled = json.dumps(recording.service().get(f"/projects/{recording.name}/experiments/frost-alarm/runs/1"))
    assert "answered 404" in spooled
    assert "hidden-from-all" not in spooled
    (tmp_path / "web" / "nights.csv").write_text("1,3\n")
    assert [file.state for file in version.check()] == ["changed"]
    server.shutdown()
    server.server_close()
    assert [file.state for file in version.check()] == ["not reached"]


def test_special_files_and_odd_names(recording: Project, tmp_path: Path) -> None:
    source = write(tmp_path / "odd", {"a b/ü.csv": "1", "empty/none": ""})
    os.mkfifo(source / "pipe")
    (source / "elsewhere").symlink_to(tmp_path)
    with pytest.warns(UserWarning, match="2 entries were left out"):
        kinetrum.keep(source, name="odd")
    assert opened("odd@1").files == ["a b/ü.csv", "empty/none"]
    (source / "line\nbreak").write_text("x")
    with pytest.raises(errors.InvalidInput, match="control characters"):
        kinetrum.keep(source, name="odd")
    with pytest.raises(errors.InvalidInput, match="neither a file nor a folder"):
        kinetrum.keep(source / "pipe", name="odd")
    assert opened("odd@latest").reference == "odd@1"


def test_what_was_generated_under_a_name_is_used_as_that(recording: Project, tmp_path: Path) -> None:
    """A file that nobody names is known by its content; who names it means that name."""
    model = tmp_path / "m.pkl"
    model.write_text("weights")
    other = tmp_path / "raw.csv"
    other.write_text("1,2")
    with kinetrum.begin("chain") as run:
        run.generated(model, name="wine-clf", kind="model")
    run.flush()
    with kinetrum.begin("chain") as run:
        run.used(model)
        run.used(other)
    run.flush()
    assert sorted(kinetrum.open("chain/2").used) == ["raw@1", "wine-clf@1"]
    with kinetrum.begin("chain") as run:
        run.used(model, name="mine")
        run.used(model)
    run.flush()
    # Content that nobody generated is never taken for something else.
    assert sorted(kinetrum.open("chain/3").used) == ["mine@1", "wine-clf@1"]
    with kinetrum.begin("chain") as run:
        run.used(tmp_path / "raw.csv", name="table")
        run.used(tmp_path / "raw.csv")
    run.flush()
    assert sorted(kinetrum.open("chain/4").used) == ["raw@1", "table@1"]


def test_files_without_a_byte_are_taken_for_nothing_else(recording: Project, tmp_path: Path) -> None:
    empty = tmp_path / "log.txt"
    for name, content in (("logged", ""), ("said", "x")):
        empty.write_text(content)
        with kinetrum.begin("chain") as run:
            run.generated(empty, name=name)
        run.flush()
        with kinetrum.begin("chain") as run:
            run.used(empty)
        run.flush()
    assert [kinetrum.open(f"chain/{number}").used for number in (2, 4)] == [["log@1"], ["said@1"]]
