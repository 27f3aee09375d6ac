"""Files that wait in the spool: seen, delivered later in order, set aside when refused, and sent again when told."""

from __future__ import annotations

import json
import os
from pathlib import Path
from typing import Any

import pytest

import kinetrum
from kinetrum.client.recording.inputs_outputs import LISTED_FROM
from kinetrum.client.sender.file_queue import FILE_RECORDS, put_later, read_later, waiting_files
from kinetrum.client.spool.draining import drain
from kinetrum.client.spool.rejected import send_again, set_aside
from kinetrum.client.spool.status import undelivered
from kinetrum.client.transport.http import Service
from tests.cli.test_commands import Out, run
from tests.support.programs import run_script, stop_sender
from tests.support.world import Project

TRAIN = """
import kinetrum, pathlib, sys
folder = pathlib.Path(sys.argv[1])
with kinetrum.begin("frost-alarm") as run:
    run.used(folder / "nights", role="train")
    for step in range(3):
        (folder / "net.onnx").write_text(f"net of step {step}")
        run.generated(folder / "net.onnx", name="net", kind="model", step=step)
        run.measure(recall=0.5 + step / 10)
print(run.id)
"""


@pytest.fixture
def folder(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    monkeypatch.setenv("KINETRUM_FINGERPRINTS", str(tmp_path / "prints"))
    (tmp_path / "nights").mkdir()
    (tmp_path / "nights" / "a.csv").write_text("day,low\n1,-2\n")
    return tmp_path


def detail(project: Project, uid: str) -> dict[str, Any]:
    found: dict[str, Any] = project.service().get(project.path("experiments", "frost-alarm", "runs", uid))
    return found


def test_what_was_overwritten_and_removed_meanwhile_is_delivered_as_it_was(
    recording: Project, folder: Path, capsys: Out
) -> None:
    uid = run_script(TRAIN, str(folder), KINETRUM_SENDER="off").stdout.strip()
    (folder / "net.onnx").unlink()
    (waiting,) = json.loads(run(capsys, "spool", "--json")[1])["waiting"]
    assert waiting["runs"] == [uid]
    # Begun, an input, three outputs, the end; and the points beside them.
    assert waiting["records"] >= 6
    drain(folder / "spool", 30)
    found = detail(recording, uid)
    assert [link["step"] for link in found["generated"]] == [0, 1, 2]
    texts = [kinetrum.fetch(f"net@{number}", folder / f"out-{number}")[0].read_text() for number in (1, 2, 3)]
    assert texts == [f"net of step {step}" for step in range(3)]
    assert found["used"][0]["role"] == "train"
    # Copies are not left behind once they were delivered.
    stop_sender(folder / "spool")
    assert [
        path for path in (folder / "spool").rglob("*") if path.is_file() and b"net of step" in path.read_bytes()
    ] == []


def test_an_input_is_read_when_it_is_delivered_and_says_so_where_it_is_gone(recording: Project, folder: Path) -> None:
    uid = run_script(TRAIN, str(folder), KINETRUM_SENDER="off").stdout.strip()
    (folder / "nights" / "a.csv").unlink()
    (folder / "nights").rmdir()
    drain(folder / "spool", 30)
    found = detail(recording, uid)
    assert found["used"] == []
    assert any("nights" in problem["text"] for problem in found["problems"])
    assert len(found["generated"]) == 3


def test_refused_files_wait_with_their_lists_until_they_are_sent_again(
    recording: Project, folder: Path, capsys: Out
) -> None:
    admin = recording.instance.service()
    member = recording.path("members", "a-contributor")
    begun = kinetrum.begin("frost-alarm")
    begun.flush()
    admin.call("PUT", member, json={"role": "viewer"})
    begun.used(folder / "nights", role="train")
    (folder / "net.onnx").write_text("the net")
    begun.generated(folder / "net.onnx", name="net", kind="model")
    (folder / "many").mkdir()
    for at in range(LISTED_FROM + 1):
        (folder / "many" / f"{at}.txt").write_text(f"{recording.name} {at}")
    begun.generated(folder / "many", name="many")
    begun.flush()
    with pytest.warns(UserWarning, match="set aside"):
        begun.end()
    begun.flush()
    root = folder / "spool"
    assert len(set_aside(root, begun.id)) == len(set_aside(root)) == 4
    assert "takes a contributor" in run(capsys, "spool", "list")[1]
    (folder / "net.onnx").unlink()
    admin.call("PUT", member, json={"role": "contributor"})
    assert "4 of what was set aside were taken now, 0 were refused" in run(capsys, "spool", "send", "--refused")[1]
    found = detail(recording, begun.id)
    assert ([link["name"] for link in found["used"]], sorted(link["name"] for link in found["generated"])) == (
        ["nights"],
        ["many", "net"],
    )
    assert kinetrum.fetch("net@1", folder / "out")[0].read_text() == "the net"
    assert kinetrum.fetch("many@1:7.txt", folder / "out")[0].read_text() == f"{recording.name} 7"
    assert list((root / "set-aside").iterdir()) == []


def test_records_for_later_keep_their_order_and_their_name(tmp_path: Path) -> None:
    for at in (2, 0, 1):
        put_later(tmp_path, f"{at:04d}", {"op": "generated", "run": f"run-{at}", "to": {}})
    put_later(tmp_path, "0001", {"op": "generated", "run": "run-1", "to": {}})
    found = waiting_files(tmp_path)
    assert [(read_later(path) or {})["run"] for path in found] == ["run-0", "run-1", "run-2"]
    # A part that was cut off in the writing is not taken for a record.
    (tmp_path / "later" / "0003.part").write_text('{"op": ')
    assert waiting_files(tmp_path) == found
    found[0].unlink()
    assert read_later(found[0]) is None
    assert {"used", "generated"} <= FILE_RECORDS


def test_sending_again_stops_where_the_service_does_not_answer(tmp_path: Path) -> None:
    class Away:
        def deliver(self, record: dict[str, Any], folder: Path) -> None:
            raise kinetrum.Unavailable("away")

    (tmp_path / "set-aside").mkdir()
    for name in ("a-1", "b-1"):
        text = json.dumps({"reason": "no", "record": {"run": name[0], "op": "used", "to": {}}})
        (tmp_path / "set-aside" / f"{name}.json").write_text(text)
    (tmp_path / "set-aside" / "c-1.json").write_text(json.dumps({"reason": "no", "record": {"run": "c", "op": "used"}}))
    with pytest.raises(kinetrum.Unavailable):
        send_again(tmp_path, Away())  # type: ignore[arg-type]
    assert len(set_aside(tmp_path)) == 3


def test_another_process_continues_what_a_killed_one_left(recording: Project, folder: Path) -> None:
    """The trainer dies without an end; what it had handed over is delivered by whoever comes next."""
    text = TRAIN.replace("print(run.id)", "").replace(
        "        run.measure(recall=0.5 + step / 10)\n",
        "    print(run.id, flush=True)\n    import os, signal\n    os.kill(os.getpid(), signal.SIGKILL)\n",
    )
    done = run_script(text, str(folder), KINETRUM_SENDER="off")
    uid = done.stdout.strip()
    assert done.returncode == -9
    assert undelivered(folder / "spool")
    drain(folder / "spool", 30)
    found = detail(recording, uid)
    assert len(found["generated"]) == 3
    assert os.path.exists(folder / "net.onnx")
    service = Service(recording.instance.url, recording.tokens["contributor"])
    assert service.get(recording.path("artifacts", "net"))["versions"][0]["number"] == 3
    service.close()
