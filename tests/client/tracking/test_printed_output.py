"""What a process prints is shown as before, and kept with its run."""

from __future__ import annotations

import io
import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest

import kinetrum
from kinetrum.client.capture import standard_streams
from kinetrum.client.capture.standard_streams import BURST_BYTES, TAIL_BYTES, Outlet, _Copied
from kinetrum.client.spool.draining import drain
from kinetrum.client.tracking import tracker
from tests.support.programs import run_script
from tests.support.world import Project

pytestmark = pytest.mark.usefixtures("catching")


class Kept:
    """Stands for a run's recorder."""

    def __init__(self) -> None:
        self.pieces: list[tuple[int, bytes]] = []
        self.writer = self

    def now(self) -> int:
        return len(self.pieces)

    def output(self, stream: int, moment: int, text: bytes) -> None:
        self.pieces.append((stream, text))

    def text(self) -> bytes:
        return b"".join(text for _, text in self.pieces)


def printed(script: str, tmp_path: Path, **environment: str) -> tuple[subprocess.CompletedProcess[str], list[str]]:
    """Run a script that prints its run's id last; returns how it went, and the lines kept as 'stream text'."""
    done = run_script("import sys, os, logging, kinetrum\n" + script, **environment)
    assert done.returncode == 0, done.stderr
    drain(tmp_path / "spool", 30)
    found = kinetrum.open(done.stdout.strip().split("\n")[-1])
    assert isinstance(found, kinetrum.RecordedRun)
    return done, [f"{line.stream} {line.text}" for line in found.output()]


def test_both_streams_are_kept_and_shown(recording: Project, tmp_path: Path) -> None:
    script = """
log = logging.StreamHandler(); logging.getLogger().addHandler(log)
print("before")
with kinetrum.begin("e") as run:
    print("hello ✓")
    logging.getLogger().warning("a warning")
    sys.stdout.flush(); sys.stdout.buffer.write(b"bytes\\n"); sys.stdout.flush()
    print("no end", end="")
print(); print("after"); print(run.id)
"""
    done, lines = printed(script, tmp_path)
    assert done.stdout.splitlines()[:5] == ["before", "hello ✓", "bytes", "no end", "after"]
    assert done.stderr == "a warning\n"
    assert sorted(lines) == ["stderr a warning", "stdout bytes", "stdout hello ✓", "stdout no end"]


def test_a_progress_bar_is_one_line(recording: Project, tmp_path: Path) -> None:
    script = """
with kinetrum.begin("e") as run:
    for at in run.progress(range(300), disable=False, mininterval=0): pass
print(run.id)
"""
    _, lines = printed(script, tmp_path)
    assert len(lines) == 1
    assert "300/300" in lines[0]


@pytest.mark.parametrize(
    ("script", "expected"),
    [
        ("with kinetrum.begin('e', output=False) as run: print('x')", []),
        ("with kinetrum.begin('e', leave_out=['output']) as run: print('x')", []),
        ("os.environ['KINETRUM_LEAVE_OUT'] = 'all'\nwith kinetrum.begin('e') as run: print('x')", []),
        (
            "os.environ['KINETRUM_LEAVE_OUT'] = 'all'\nwith kinetrum.begin('e', leave_out=()) as run: print('x')",
            ["stdout x"],
        ),
        # Side by side none of two can be meant; the one that asks is.
        ("with kinetrum.begin('e') as run, kinetrum.begin('e') as b: print('x')", []),
        ("with kinetrum.begin('e', output=True) as run, kinetrum.begin('e') as b: print('x')", ["stdout x"]),
        # Of nested runs the outermost takes it, and alone again the one that stays.
        (
            "with kinetrum.begin('e') as run:\n  with run.child() as c: print('x')\n  print('y')",
            ["stdout x", "stdout y"],
        ),
        ("with kinetrum.begin('e') as run:\n  with kinetrum.begin('e') as b: print('x')\n  print('y')", ["stdout y"]),
    ],
)
def test_whose_output_it_is(recording: Project, tmp_path: Path, script: str, expected: list[str]) -> None:
    _, lines = printed(script + "\nprint(run.id)\n", tmp_path)
    assert lines == expected


def test_forked_workers_print_into_the_run(recording: Project, tmp_path: Path) -> None:
    script = """
import multiprocessing
def work(number): print("worker", number)
with kinetrum.begin("e") as run:
    workers = [multiprocessing.get_context("fork").Process(target=work, args=(n,)) for n in range(3)]
    [worker.start() for worker in workers]; [worker.join() for worker in workers]
print(run.id)
"""
    _, lines = printed(script, tmp_path)
    assert sorted(lines) == ["stdout worker 0", "stdout worker 1", "stdout worker 2"]


def test_what_was_flushed_survives_the_kill_of_the_process(recording: Project, tmp_path: Path) -> None:
    script = """
import kinetrum, os, signal, sys
run = kinetrum.begin("e"); sys.stderr.write(run.id); sys.stderr.flush()
print("kept", flush=True)
os.kill(os.getpid(), signal.SIGKILL)
"""
    done = run_script(script)
    assert done.returncode == -9
    drain(tmp_path / "spool", 30)
    found = kinetrum.open(done.stderr.strip()[-36:])
    assert isinstance(found, kinetrum.RecordedRun)
    assert "kept" in [line.text for line in found.output("stdout")]


def test_streams_are_as_before_when_the_run_has_ended(recording: Project) -> None:
    script = """
import sys, kinetrum
out, beneath = sys.stdout, sys.stdout.buffer
with kinetrum.begin("e"):
    assert sys.stdout is out and sys.stdout.buffer is not beneath
    assert (out.encoding, out.fileno(), out.isatty(), out.name) == ("utf-8", 1, False, "<stdout>")
assert sys.stdout is out and sys.stdout.buffer is beneath
print("fine")
"""
    assert run_script(script).stdout == "fine\n"


def test_another_object_in_the_streams_place_is_caught_too(recording: Project, tmp_path: Path) -> None:
    script = """
import io
class Notebook(io.StringIO): pass
real, sys.stdout = sys.stdout, Notebook()
with kinetrum.begin("e") as run:
    print("in a cell"); sys.stdout.writelines(["a\\n", "b\\n"])
assert sys.stdout.getvalue() == "in a cell\\na\\nb\\n"
sys.stdout = real; print(run.id)
"""
    _, lines = printed(script, tmp_path)
    assert lines == ["stdout in a cell", "stdout a", "stdout b"]


def test_a_script_whose_reader_left_goes_on_recording(recording: Project, tmp_path: Path) -> None:
    script = tmp_path / "script.py"
    script.write_text("""
import kinetrum, sys
run = kinetrum.begin("e")
try:
    for at in range(20_000): print("line", at)
except BrokenPipeError:
    run.measure(late=1)
sys.stdout = None
run.end(); sys.stderr.write(run.id)
""")
    command = f"{sys.executable} {script} | head -n 1"
    done = subprocess.run(["bash", "-c", command], capture_output=True, text=True, timeout=50, check=False)
    drain(tmp_path / "spool", 30)
    found = kinetrum.open(done.stderr.strip()[-36:])
    assert isinstance(found, kinetrum.RecordedRun)
    assert found.metrics["late"].points().value.tolist() == [1.0]


def test_an_outlet_keeps_a_burst_whole_and_bounds_a_flood() -> None:
    kept = Kept()
    outlet = Outlet(kept)  # type: ignore[arg-type]
    line = b"x" * 99 + b"\n"
    for _ in range(BURST_BYTES // 100 + 60_000):
        outlet.write(0, line)
    assert BURST_BYTES <= len(kept.text()) < BURST_BYTES + 2_000_000
    before = len(kept.text())
    outlet.write(0, b"the very last\n")
    outlet.release(everything=True)
    rest = kept.text()[before:]
    assert rest.endswith(b"the very last\n")
    assert TAIL_BYTES - 200 < len(rest) < TAIL_BYTES + 400
    assert b"bytes were printed faster" in rest
    assert (2, True) in [(stream, b"left out" in text) for stream, text in kept.pieces]


def test_one_write_of_a_hundred_megabytes_keeps_its_head_and_tail() -> None:
    kept = Kept()
    outlet = Outlet(kept)  # type: ignore[arg-type]
    outlet.write(0, b"head" + b"x" * 100_000_000 + b"tail")
    outlet.release(everything=True)
    assert kept.text().startswith(b"head")
    assert kept.text().endswith(b"tail")
    assert len(kept.text()) < BURST_BYTES + TAIL_BYTES + 1_000


def test_garbage_and_long_texts_in_one_write(recording: Project, tmp_path: Path) -> None:
    script = """
with kinetrum.begin("e") as run:
    sys.stdout.flush(); sys.stdout.buffer.write(b"\\x80" * 600_000 + b"\\n"); sys.stdout.buffer.flush()
    print("é" * 300_001)
    print("end")
sys.stderr.write(run.id)
"""
    done = subprocess.run(
        [sys.executable, "-c", "import sys, kinetrum\n" + script], capture_output=True, timeout=50, check=True
    )
    assert len(done.stdout) == 600_001 + 600_003 + 4
    drain(tmp_path / "spool", 30)
    found = kinetrum.open(done.stderr.decode()[-36:])
    assert isinstance(found, kinetrum.RecordedRun)
    garbage, text, end = [line.text for line in found.output()]
    assert set(garbage[:8_000]) == {"�"}
    assert set(text[:8_000]) == {"é"}
    assert end == "end"


class Narrow(io.RawIOBase):
    """A stream that takes a part of what is written, as a pipe does when a stop or a signal comes in between."""

    def __init__(self, takes: list[int | None]) -> None:
        self.takes, self.taken = takes, b""

    def writable(self) -> bool:
        return True

    def write(self, data: Any, /) -> int | None:
        width = self.takes.pop(0) if self.takes else 5
        if width is not None:
            self.taken += bytes(data[:width])
            width = min(width, len(data))
        return width


def test_a_stream_without_a_buffer_gets_everything() -> None:
    narrow = Narrow([3, 0, 7])
    assert _Copied(narrow, 0, "utf-8").write(b"0123456789" * 3) == 30
    assert narrow.taken == b"0123456789" * 3
    full = Narrow([4, None])
    with pytest.raises(BlockingIOError) as refused:
        _Copied(full, 0, "utf-8").write(b"0123456789")
    assert refused.value.characters_written == 4


def test_times_of_lines_never_go_back_whatever_the_clock_does(recording: Project, tmp_path: Path) -> None:
    script = """
import time
real, jump = time.time_ns, [0]
time.time_ns = lambda: real() + jump[0]
with kinetrum.begin("e") as run:
    for at in range(20):
        jump[0] = (-1) ** at * 3_600_000_000_000
        print("line", at, flush=True)
print(run.id)
"""
    run_of = printed(script, tmp_path)
    assert run_of[1] == [f"stdout line {at}" for at in range(20)]
    found = kinetrum.open(run_of[0].stdout.strip().split("\n")[-1])
    assert isinstance(found, kinetrum.RecordedRun)
    times = [line.at for line in found.output()]
    assert times == sorted(times)


def test_nothing_is_caught_while_no_run_is_open(recording: Project) -> None:
    before = sys.stdout
    with kinetrum.begin("e"):
        assert len(standard_streams._catches) == 2
    assert standard_streams._catches == []
    assert sys.stdout is before


def test_lines_cut_anywhere_are_found() -> None:
    text = "one\nkinetrum: set a=1\nmiddle kinetrum: no\n\x1b[32mkinetrum: set b=2\x1b[0m\r\nü"
    raw = text.encode()
    for size in (1, 2, 7, 100):
        lines = tracker.Lines()
        found = [line for at in range(0, len(raw), size) for line in lines.marked(raw[at : at + size])]
        assert found == ["kinetrum: set a=1", "middle kinetrum: no", "kinetrum: set b=2"]
        again = tracker.Lines()
        assert b"".join(again.text(raw[at : at + size]) for at in range(0, len(raw), size)) == raw
