"""Programs as people run them, the senders that they leave, and waiting for what must become true."""

from __future__ import annotations

import asyncio
import contextlib
import json
import os
import signal
import subprocess
import sys
import time
from collections.abc import Coroutine, Mapping
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any, TypeVar

import psutil

from kinetrum.client.sender import launch

Answer = TypeVar("Answer")


def stop_sender(root: Path) -> None:
    """End the sender of a spool and wait until it has left."""
    while found := senders_of(root):
        for number in found:
            with contextlib.suppress(ProcessLookupError):
                os.kill(number, signal.SIGTERM)
        time.sleep(0.02)
    launch._started.pop(root, None)


def senders_of(root: Path) -> list[int]:
    """Return the processes that deliver a spool, also one that is only about to."""
    found = []
    for folder in Path("/proc").glob("[0-9]*"):
        try:
            command = (folder / "cmdline").read_bytes().split(b"\0")
        except OSError:
            continue
        if b"kinetrum.client.sender.main" in command and str(root).encode() in command:
            found.append(int(folder.name))
    return found


def run_script(text: str, *arguments: str, **environment: str) -> subprocess.CompletedProcess[str]:
    """Run a Python script as a process of its own, as a person would."""
    return run_program([sys.executable, "-c", text, *arguments], os.environ | environment)


def run_program(
    words: list[str], environment: Mapping[str, str], folder: Path | None = None, timeout: float = 50
) -> subprocess.CompletedProcess[str]:
    """Run a program; where it does not end in time, fail with the stacks of all that it started."""
    process = subprocess.Popen(
        words,
        env={**environment, "PYTHONFAULTHANDLER": "1"},
        cwd=folder,
        text=True,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
    )
    shown, told = ended(process, timeout)
    return subprocess.CompletedProcess(words, process.returncode, shown, told)


def ended(process: subprocess.Popen[str], timeout: float) -> tuple[str, str]:
    """Wait for a program's end and return what it wrote; where it does not come, fail with the stacks of its tree.

    Programs that run with PYTHONFAULTHANDLER=1 tell their stacks.
    """
    try:
        return process.communicate(timeout=timeout)
    except subprocess.TimeoutExpired:
        tree = [*psutil.Process(process.pid).children(recursive=True), psutil.Process(process.pid)]
        for one in tree:
            with contextlib.suppress(psutil.NoSuchProcess):
                one.send_signal(signal.SIGABRT)
        shown, told = process.communicate(timeout=20)
        raise AssertionError(f"It did not end within {timeout} s.\n{told[-20_000:]}\n{shown[-2_000:]}") from None


def wait_for(found: Any, seconds: float = 20.0) -> Any:
    """Ask again and again until the answer is true; returns it."""
    give_up = time.monotonic() + seconds
    while time.monotonic() < give_up:
        answer = found()
        if answer:
            return answer
        time.sleep(0.05)
    raise AssertionError("It did not become true in time.")


def as_json(text: str) -> Any:
    return json.loads(text)


def run_whole_command(words: list[str]) -> str:
    """Run a command line in the form that takes everything, in a process of its own; returns what it printed."""
    code = f"import sys, kinetrum.cli.commands as at; sys.exit(at.run_command({words!r}))"
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, timeout=60, check=False)
    assert (done.returncode, done.stderr) == (0, "")
    return done.stdout.strip()


def run_apart(story: Coroutine[Any, Any, Answer]) -> Answer:
    """Run a coroutine in a thread of its own: a browser that other tests drive from this one leaves its loop here."""
    with ThreadPoolExecutor(1) as thread:
        return thread.submit(lambda: asyncio.run(story)).result()
