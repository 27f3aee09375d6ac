"""Forks at every moment of recording: no child waits for what a thread of its parent held, and none ends its run."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
from pathlib import Path

import pytest

import kinetrum
from kinetrum.client.spool.draining import drain
from tests.support.programs import run_program, run_script
from tests.support.world import Project

# Each step of the client's own code, in whichever thread, lets another thread fork. The child has that thread alone: what
# all others held is held for ever. It then records, prints, and sometimes begins a run; an alarm ends it where it waits.
FORKS_EVERYWHERE = """
import os, random, signal, subprocess, sys, threading, time
from pathlib import Path
chance, most = random.Random(int(sys.argv[1])), int(sys.argv[2])
import kinetrum
from kinetrum.client.capture import fork_safety
from kinetrum.client.spool import spool
# Each child has a segment of its own.
spool.use_small_segments()
fork_safety.PATIENCE_S = 0.05
root = str(Path(kinetrum.__file__).parent)
asked, done = threading.Semaphore(0), threading.Semaphore(0)
turn, children, run, share = threading.Lock(), {}, None, 0.02
where = [None]

def work():
    signal.alarm(20)
    try:
        if run is not None:
            run.measure(child=1, step=len(children))
    except kinetrum.Conflict:
        pass  # The parent had just ended it.
    print("child", flush=True)
    if chance.random() < 0.05:
        kinetrum.begin("of-a-child").end()

def forker():
    while True:
        asked.acquire()
        chance.random()
        pid = os.fork()
        if pid == 0:
            status = 1
            try:
                sys.settrace(None); threading.settrace(None)
                work()
                status = 0
            finally:
                os._exit(status)
        if chance.random() < 0.1:
            os.kill(pid, signal.SIGTERM)
            children[pid] = (where[0], True)
        else:
            children[pid] = (where[0], False)
        done.release()

def trace(frame, event, argument):
    if not frame.f_code.co_filename.startswith(root) or frame.f_code.co_filename.endswith("fork_safety.py"):
        return None
    if fork_safety.still._is_owned():
        # A fork waits until this is over, which it never is while this waits for the fork.
        return trace
    if event == "line" and len(children) < most and chance.random() < share and turn.acquire(blocking=False):
        try:
            where[0] = f"{frame.f_code.co_filename[len(root):]}:{frame.f_lineno} in {threading.current_thread().name}"
            asked.release()
            done.acquire()
        finally:
            turn.release()
    return trace

threading.Thread(target=forker, daemon=True).start()
threading.settrace(trace); sys.settrace(trace)
until = time.monotonic() + float(sys.argv[3])
while len(children) < most and time.monotonic() < until:
    run = kinetrum.begin("forked", params={"a": 1})
    for step in range(5):
        run.measure(loss=step)
        print("parent", step)
    time.sleep(0.01)
    run.end()
    run = None
sys.settrace(None); threading.settrace(None)
hung = 0
for pid, (place, told) in children.items():
    _, status = os.waitpid(pid, 0)
    ends = {0} | ({-signal.SIGTERM} if told else set())
    if os.waitstatus_to_exitcode(status) not in ends:
        hung += 1
        print("HUNG", os.waitstatus_to_exitcode(status), place, file=sys.stderr)
print("FORKS", len(children), "HUNG", hung, file=sys.stderr)
"""


@pytest.mark.parametrize("leave_out", ["", "resources,packages"])
def test_forks_at_every_step(recording: Project, catching: None, tmp_path: Path, leave_out: str) -> None:
    environment = {"KINETRUM_LEAVE_OUT": leave_out} if leave_out else {}
    done = run_script(FORKS_EVERYWHERE, "5", "600", "25", **environment)
    told = done.stderr.splitlines()
    assert done.returncode == 0, done.stderr[-3_000:]
    assert told[-1].endswith("HUNG 0"), done.stderr[-3_000:]
    assert int(told[-1].split()[1]) > 100


SIGNALLED = """
import os, signal, sys, time
import kinetrum
run = kinetrum.begin("signalled")
lost = 0
for number in range(300):
    pid = os.fork()
    if pid == 0:
        time.sleep(2)
        os._exit(7)
    os.kill(pid, signal.SIGTERM)
    lost += os.waitstatus_to_exitcode(os.waitpid(pid, 0)[1]) != -signal.SIGTERM
print(lost, signal.SIGTERM in signal.pthread_sigmask(signal.SIG_BLOCK, []), flush=True)
os.kill(os.getpid(), signal.SIGTERM)
"""


def test_a_child_hears_what_it_was_told_in_its_first_moment(recording: Project) -> None:
    """What a pool's worker is told as soon as it is there: a handler of the parent's would forget it."""
    done = run_script(SIGNALLED)
    assert done.stdout == "0 False\n"
    # The parent hears it as before.
    assert done.returncode == -signal.SIGTERM


POOLS = """
import multiprocessing
def same(number):
    return number
if __name__ == "__main__":
    import kinetrum
    run = kinetrum.begin("pools")
    for _ in range(60):
        with multiprocessing.get_context("fork").Pool(8) as pool:
            assert pool.map(same, range(2)) == [0, 1]
    run.end()
"""


def test_pools_that_need_few_of_their_workers_end(recording: Project, tmp_path: Path) -> None:
    (tmp_path / "pools.py").write_text(POOLS)
    done = run_program([sys.executable, str(tmp_path / "pools.py")], os.environ, timeout=100)
    assert (done.returncode, done.stderr) == (0, "")


BLOCKED = """
import os, signal, sys, time
import kinetrum
run = kinetrum.begin("blocked", output=True)
sys.stdout.write("x" * 4_000)
# Nobody reads: the thread that flushes waits in the middle of a write, with the stream's lock.
os.set_blocking(1, True)
for _ in range(40):
    sys.stdout.write("x" * 4_000)
    sys.stdout.flush() if _ == 0 else None
    if _ == 14:
        break
time.sleep(2.5)
pid = os.fork()
if pid == 0:
    signal.alarm(20)
    sys.stdout.buffer.raw
    os.dup2(os.open(os.devnull, os.O_WRONLY), 1)
    print("from the child", flush=True)
    os._exit(0)
print(os.waitstatus_to_exitcode(os.waitpid(pid, 0)[1]), file=sys.stderr, flush=True)
os.kill(os.getpid(), signal.SIGKILL)
"""


def test_a_child_of_a_program_whose_output_nobody_reads_can_print(recording: Project) -> None:
    process = subprocess.Popen(
        [sys.executable, "-c", BLOCKED], stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True
    )
    assert process.stderr is not None
    assert process.stderr.readline() == "0\n"
    process.communicate(timeout=20)


FALLS_OUT = """
import os, sys, time
import kinetrum
with kinetrum.begin("falls-out") as run:
    run.measure(loss=1)
    pid = os.fork()
    if pid:
        os.waitpid(pid, 0)
        run.measure(loss=2)
        print(run.id, flush=True)
        {parent}
    else:
        {child}
{after}
"""


@pytest.mark.parametrize(
    "child",
    [
        "pass",
        "run.end()",
        "run.fail('by the child')",
        "sys.exit(3)",
        "raise ValueError",
        "os._exit(1)",
        "os.abort()",
        "os.kill(os.getpid(), 15)",
    ],
)
def test_a_child_never_ends_its_parents_run(recording: Project, tmp_path: Path, child: str) -> None:
    done = run_script(FALLS_OUT.format(child=child, parent="os.kill(os.getpid(), 9)", after=""))
    drain(tmp_path / "spool", 30)
    found = kinetrum.open(done.stdout.split()[0])
    assert isinstance(found, kinetrum.RecordedRun)
    assert found.status == "running"
    assert found.metrics["loss"].points().value.tolist() == [1.0, 2.0]
    done = run_script(FALLS_OUT.format(child=child, parent="pass", after=""))
    drain(tmp_path / "spool", 30)
    found = kinetrum.open(done.stdout.split()[0])
    assert isinstance(found, kinetrum.RecordedRun)
    assert found.status == "finished"
