"""How commands end, and which files patterns mean."""

from __future__ import annotations

import os
import signal
from pathlib import Path
from typing import Any

import pytest

from kinetrum.client.tracking import file_patterns, program
from kinetrum.client.tracking.program import Command, NotStarted, Outcome
from kinetrum.core.base.errors import InvalidInput


@pytest.mark.parametrize(
    ("outcome", "exit_status", "status", "part"),
    [
        (Outcome(0), 0, "finished", None),
        (Outcome(2), 2, "failed", "exited with status 2"),
        (Outcome(-9), 137, "failed", "killed by SIGKILL, as the system does when memory runs out"),
        (Outcome(-11), 139, "failed", "killed by SIGSEGV"),
        (Outcome(-63), 191, "failed", "killed by signal 63"),
        (Outcome(143), 143, "failed", "a program it ran was killed by SIGTERM"),
        (Outcome(200), 200, "failed", "exited with status 200"),
        (Outcome(-2, signal.SIGINT), 130, "stopped", "signal SIGINT"),
        (Outcome(1, signal.SIGTERM), 1, "stopped", "signal SIGTERM"),
        (Outcome(0, signal.SIGTERM), 0, "finished", None),
        (Outcome(-9, signal.SIGTERM, True), 137, "stopped", "took no notice of SIGTERM and was killed"),
    ],
)
def test_the_end_in_words(outcome: Outcome, exit_status: int, status: str, part: str | None) -> None:
    assert outcome.exit_status == exit_status
    found, reason = outcome.status()
    assert found == status
    assert (reason is None) if part is None else (part in (reason or ""))


@pytest.fixture
def blocked() -> Any:
    """Signals as `track` has them, and as they were afterwards."""
    with program.blocked_signals():
        yield


def test_the_program_begins_with_no_signal_blocked_and_both_streams_are_handed_on(
    blocked: None, capfd: pytest.CaptureFixture[str]
) -> None:
    taken: dict[int, bytes] = {0: b"", 1: b""}

    def sink(stream: int, data: bytes) -> None:
        taken[stream] += data

    script = "grep SigBlk /proc/self/status; echo wrong >&2; echo $WORD"
    outcome = Command(["sh", "-c", script], os.environ | {"WORD": "told"}, sink, 1).run()
    assert outcome == Outcome(0)
    assert taken[0].split() == [b"SigBlk:", b"0000000000000000", b"told"]
    assert taken[1] == b"wrong\n"
    assert capfd.readouterr() == (taken[0].decode(), taken[1].decode())


@pytest.mark.parametrize(
    ("name", "content", "status"), [("none", None, 127), ("text", "x", 126), ("broken", "#!/no/such\n", 127)]
)
def test_what_cannot_be_started_says_what_a_shell_would(
    blocked: None, tmp_path: Path, name: str, content: str | None, status: int
) -> None:
    path = tmp_path / name
    if content is not None:
        path.write_text(content)
        path.chmod(0o755 if name == "broken" else 0o644)
    with pytest.raises(NotStarted) as caught:
        Command([str(path)], os.environ, lambda *_: None, 1).run()
    assert caught.value.status == status
    assert name in str(caught.value)


def test_inputs_are_found_before_anything_is_recorded(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(tmp_path)
    (tmp_path / "a.csv").write_text("1")
    (tmp_path / "we@3").write_text("a file of that name is a file")
    found = file_patterns.inputs_of(["nights=*.csv", "stations@2", "odd=we@3"])
    assert [(text, files and files.name, [file.path for file in paths]) for text, files, paths in found] == [
        ("nights=*.csv", "nights", ["a.csv"]),
        ("stations@2", None, []),
        ("odd=we@3", "odd", ["we@3"]),
    ]
    with pytest.raises(InvalidInput, match="no file fits"):
        file_patterns.inputs_of(["*.csv", "none/*"])


def test_outputs_that_cannot_be_taken_are_problems(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(tmp_path)
    (tmp_path / "old.bin").write_text("x")
    told: list[str] = []
    given = [file_patterns.files_of("old.bin"), file_patterns.files_of("none/*")]
    file_patterns.record_outputs(None, given, file_patterns.now_ns(tmp_path) + 10**9, told.append)  # type: ignore[arg-type]
    assert ["from before" in told[0], "no file fits" in told[1]] == [True, True]
    assert not list(tmp_path.glob(".now-*"))
