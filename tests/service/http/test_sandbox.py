"""The processes that read files of strangers: one for each task, started ahead, replaced where they ended meanwhile."""

from __future__ import annotations

import json
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from kinetrum.actions.sandbox import runner
from kinetrum.core.base.errors import InvalidInput
from tests.support.programs import wait_for

ASKED: dict[str, Any] = {"paths": ["a.csv"], "asked": {}, "key": None, "outcomes": []}


@pytest.fixture(autouse=True)
def _none_left() -> Iterator[None]:
    yield
    wait_for(lambda: "rows" in runner._waiting or not runner._lock.locked())
    with runner._lock:
        left = list(runner._waiting.values())
        runner._waiting.clear()
    for process in left:
        process.kill()
        process.communicate()


@pytest.fixture
def table(tmp_path: Path) -> Path:
    (tmp_path / "a.csv").write_text("row,truth\na,1\nb,2\n")
    return tmp_path / "a.csv"


def rows_of(answer: bytes | None) -> Any:
    assert answer is not None
    return json.loads(answer)["rows"]


def test_the_next_process_waits_ahead_and_each_does_one_task(table: Path) -> None:
    assert rows_of(runner.run_limited("rows", [table], ASKED)) == [["a", 1], ["b", 2]]
    first = wait_for(lambda: runner._waiting.get("rows"))
    assert rows_of(runner.run_limited("rows", [table], ASKED)) == [["a", 1], ["b", 2]]
    assert first.returncode == 0
    assert wait_for(lambda: runner._waiting.get("rows")) is not first


def test_one_that_ended_while_it_waited_is_replaced(table: Path) -> None:
    gone = runner._start("rows")
    gone.kill()
    gone.wait()
    with runner._lock:
        runner._waiting["rows"] = gone
    assert rows_of(runner.run_limited("rows", [table], ASKED)) == [["a", 1], ["b", 2]]


def test_one_that_breaks_as_it_is_asked_is_asked_anew(table: Path) -> None:
    """It was alive when it was looked at, and ends without an answer."""
    breaking = subprocess.Popen(
        [sys.executable, "-c", "import sys; sys.stdin.read(); sys.exit(3)"],
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
    )
    with runner._lock:
        runner._waiting["rows"] = breaking
    assert rows_of(runner.run_limited("rows", [table], ASKED)) == [["a", 1], ["b", 2]]
    assert breaking.returncode == 3


def test_what_breaks_a_fresh_one_is_given_up(table: Path, caplog: pytest.LogCaptureFixture) -> None:
    broken = {**ASKED, "paths": ["a.csv"], "asked": {"nothing like it": 1}}
    assert runner.run_limited("rows", [table], broken) is None
    assert "reading files (rows) was given up or broke after" in caplog.text


def test_what_takes_too_long_is_given_up_once(
    table: Path, monkeypatch: pytest.MonkeyPatch, caplog: pytest.LogCaptureFixture
) -> None:
    monkeypatch.setattr(runner, "WALL_S", 1.2)
    slow = [sys.executable, "-c", "import time; time.sleep(60)"]
    started = []

    def start(task: str) -> subprocess.Popen[bytes]:
        started.append(task)
        return subprocess.Popen(slow, stdin=subprocess.PIPE, stdout=subprocess.PIPE)

    monkeypatch.setattr(runner, "_start", start)
    began = time.monotonic()
    assert runner.run_limited("preview", [table], {}) is None
    assert time.monotonic() - began < 10
    assert started == ["preview"]


def test_errors_come_through_as_what_they_are(tmp_path: Path) -> None:
    (tmp_path / "a.parquet").write_bytes(b"no parquet")
    with pytest.raises(InvalidInput, match=r"a\.parquet"):
        runner.run_limited("rows", [tmp_path / "a.parquet"], {**ASKED, "paths": ["a.parquet"]})
