"""Recorded text of somebody hostile, in every view of the command line: nothing steers the terminal that shows it."""

from __future__ import annotations

import json
import sys
from pathlib import Path
from typing import Any

import pytest

import kinetrum
from tests.cli.test_commands import Out, run
from tests.support.world import Project, new_id

# A title, the clipboard, a cleared screen in both forms of the sequence, and writing turned round.
HOSTILE = "\x1b]0;owned\x07\x1b]52;c;aGk=\x07\x1b[2J\x9b2J\u202eevil"
STEERING = {*range(0x20), *range(0x7F, 0xA0), *range(0x202A, 0x202F)} - {ord("\n"), ord("\t")}


def steering(text: str) -> set[int]:
    return {ord(character) for character in text} & STEERING


@pytest.fixture
def hostile(recording: Project) -> Project:
    """A run with such a text wherever the service takes one."""
    service = recording.service("contributor")
    first = recording.begin("tries", params={"depth": 1})
    begun = recording.begin("tries", params={"depth": HOSTILE}, labels={"crew": HOSTILE}, name="x")
    path = recording.run_path
    made = recording.generate(begun, b"net", "net")
    for sent, relation, body in (
        (begun, "used", {"id": new_id(), "at": 1, "artifact": made["reference"], "role": HOSTILE, "activity": "a"}),
        (begun, "problems", {"id": new_id(), "text": HOSTILE, "at": 1}),
        (begun, "surroundings", {"about": {"command": HOSTILE}, "packages": {HOSTILE: "1", "b": HOSTILE}}),
        (first, "surroundings", {"packages": {"b": "2"}}),
        (
            begun,
            "output",
            {
                "writer": new_id(),
                "pieces": [
                    {"position": 10 + len(HOSTILE), "at": 1, "stream": "stdout", "text": f"{HOSTILE}\nplain line\n"}
                ],
            },
        ),
    ):
        service.call("PUT" if relation == "surroundings" else "POST", path(sent, relation), json=body)
    body = {"id": new_id(), "artifact": "net@1", "run": begun["reference"], "comment": HOSTILE}
    service.call("POST", recording.path("models", "night-net", "versions"), json=body)
    maintainer = recording.service("maintainer")
    maintainer.call("PUT", recording.path("models", "night-net", "card"), json={"card": f"# {HOSTILE}\n", "expect": 0})
    maintainer.call("PATCH", recording.path("models", "night-net"), json={"purpose": HOSTILE})
    service.call(
        "POST",
        recording.path("notes") + f"?of={begun['reference']}",
        json={"id": new_id(), "text": HOSTILE, "things": [begun["reference"]]},
    )
    return recording


VIEWS = [
    ("runs", "-e", "tries"),
    ("show", "tries/2"),
    ("show", "tries/2", "--output"),
    ("show", "tries/2", "--code"),
    ("show", "tries/2", "--code", "--against", "tries/1"),
    ("compare", "tries/1", "tries/2"),
    ("notes", "tries/2"),
    ("uses", "net@1"),
    ("lineage", "net@1"),
    ("lineage", "tries/2"),
    ("artifacts",),
    ("artifacts", "net"),
    ("models",),
    ("models", "night-net"),
    ("card", "night-net"),
    ("history", "night-net"),
    ("review", "night-net@1", "--for", "production"),
    ("groups", "-e", "tries", "--by", "depth"),
    ("find", "tries"),
]


@pytest.mark.parametrize("form", [(), ("--json",)])
def test_no_view_steers_the_terminal(
    hostile: Project, capsys: Out, monkeypatch: pytest.MonkeyPatch, form: tuple[str, ...]
) -> None:
    monkeypatch.setenv("KINETRUM_TOKEN", hostile.tokens["maintainer"])
    shown = ""
    for view in VIEWS:
        if form and view[0] in {"card", "find", "history"}:
            continue
        status, text, told = run(capsys, *view, *form)
        assert status in {0, 1, 2}, (view, told)
        assert not steering(text + told), (view, text)
        shown += text
    # It was shown, so that no view passes by showing nothing.
    assert shown.count("evil") > 10


def test_json_and_data_are_what_was_recorded(hostile: Project, capsys: Out) -> None:
    """JSON says the same in escapes; a pipe that takes data takes it whole."""
    text = run(capsys, "show", "tries/2", "--json")[1]
    assert json.loads(text)["params"]["depth"] == HOSTILE
    lines = [json.loads(line) for line in run(capsys, "runs", "-e", "tries", "--jsonl")[1].splitlines()]
    assert HOSTILE in [line.get("param:depth") for line in lines]


def test_an_error_that_says_recorded_text_back_is_clean(hostile: Project, capsys: Out) -> None:
    status, _, told = run(capsys, "show", f"tries/{HOSTILE}")
    assert status != 0
    assert not steering(told)


def test_formulas_are_texts_in_csv(recording: Project, capsys: Out, tmp_path: Path) -> None:
    """A spreadsheet shows them; numbers stay numbers, and who asks for exactly what was recorded gets it."""
    params: dict[str, Any] = {
        "a": '=HYPERLINK("http://evil.example")',
        "b": "@SUM(1)",
        "c": "+1+cmd|x",
        "d": "-1.5",
        "e": -2,
    }
    recording.begin("tries", params=params, labels={"note": "-1+2"})
    header, row = run(capsys, "runs", "-e", "tries", "--csv")[1].splitlines()
    import csv

    cells = dict(zip(*csv.reader([header, row]), strict=True))
    assert {key: cells[f"param:{key}"] for key in "abcde"} == {
        "a": '\'=HYPERLINK("http://evil.example")',
        "b": "'@SUM(1)",
        "c": "'+1+cmd|x",
        "d": "-1.5",
        "e": "-2",
    }
    assert cells["label:note"] == "'-1+2"
    exact = dict(zip(*csv.reader(run(capsys, "runs", "-e", "tries", "--csv", "--exact")[1].splitlines()), strict=True))
    assert {key: exact[f"param:{key}"] for key in "abc"} == {key: params[key] for key in "abc"}
    kinetrum.runs(experiment="tries").to_csv(tmp_path / "runs.csv")
    kinetrum.runs(experiment="tries").to_csv(tmp_path / "exact.csv", exact=True)
    assert "'@SUM(1)" in (tmp_path / "runs.csv").read_text()
    assert "'@SUM(1)" not in (tmp_path / "exact.csv").read_text()


def test_a_check_shows_where_it_reads_and_asks(
    recording: Project, capsys: Out, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    (tmp_path / "nights.csv").write_text("1,2\n")
    with kinetrum.begin("tries") as begun:
        begun.used(tmp_path / "nights.csv", name="lying-there")
    begun.flush()
    # Nobody there to be asked: nothing is read.
    status, text, told = run(capsys, "check", "lying-there@1")
    assert (status, text) == (2, "")
    assert f"{tmp_path}  1 file\n" in told and "say --yes to read them" in told
    monkeypatch.setattr(sys.stdin, "isatty", lambda: True, raising=False)
    for answer, expected in (("n", (1, "")), ("y", (0, "lying-there@1: 1 same (every byte compared).\n"))):
        monkeypatch.setattr("builtins.input", lambda _, answer=answer: answer)
        assert run(capsys, "check", "lying-there@1")[:2] == expected
    assert run(capsys, "check", "lying-there@1", "--yes")[0] == 0


def test_a_check_asks_no_server_that_was_not_shown(recording: Project) -> None:
    """Where the server at the address leads on to another, the other is not asked."""
    import http.server
    import threading

    asked: list[str] = []

    class Leading(http.server.BaseHTTPRequestHandler):
        to = ""

        def do_HEAD(self) -> None:
            asked.append(self.headers["Host"])
            self.send_response(302 if self.to else 200)
            if self.to:
                self.send_header("Location", self.to)
            self.send_header("Content-Length", "2")
            self.end_headers()

        def do_GET(self) -> None:
            self.do_HEAD()
            if not self.to:
                self.wfile.write(b"ok")

        def log_message(self, *_: object) -> None:
            pass

    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Leading)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    port = server.server_address[1]
    address = f"http://127.0.0.1:{port}/nights.csv"
    with kinetrum.begin("tries") as begun:
        begun.used(address)
    begun.flush()
    version: Any = kinetrum.open("nights@1")
    assert version.addresses == [address]
    assert [one.state for one in version.check()] == ["same"]
    Leading.to = f"http://localhost:{port}/elsewhere"
    asked.clear()
    (one,) = version.check()
    assert one.state == "not reached" and "leads to localhost, which was not asked for" in one.detail
    assert set(asked) == {f"127.0.0.1:{port}"}
    server.shutdown()
    server.server_close()
