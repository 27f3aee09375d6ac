"""What a program prints loses secrets before it leaves the machine, however it is printed."""

from __future__ import annotations

from tests.support.programs import run_script, wait_for
from tests.support.world import Project

SECRET = "ktm_" + "aB3" * 16 + "x"
SCRIPT = f"""
import sys, time
import kinetrum
with kinetrum.begin("tries", output=True) as run:
    print("the token is {SECRET} indeed")
    sys.stdout.write("in two pieces: {SECRET[:20]}")
    sys.stdout.flush()
    sys.stdout.write("{SECRET[20:]} end\\n")
    print("password=hunter22", file=sys.stderr)
    print("a line that ends in k, with no end: disk", end="")
run.flush()
"""


def printed(project: Project) -> str:
    lines = project.service("viewer").get(project.path("experiments", "tries", "runs", "1", "output"))["lines"]
    return "\n".join(line["text"] for line in lines)


def test_secrets_that_are_printed_stay_on_the_machine(recording: Project) -> None:
    shown = run_script(SCRIPT)
    # Whoever sits before it sees everything.
    assert SECRET in shown.stdout and "hunter22" in shown.stderr
    text = wait_for(lambda: "no end: disk" in printed(recording) and printed(recording))
    assert "the token is [hidden] indeed" in text
    assert "in two pieces: [hidden] end" in text
    assert "password=[hidden]" in text
    assert "ktm_" not in text and "hunter22" not in text


def test_it_can_be_left_off(recording: Project) -> None:
    run_script(SCRIPT, KINETRUM_HIDE_IN_OUTPUT="off")
    text = wait_for(lambda: "no end: disk" in printed(recording) and printed(recording))
    assert text.count(SECRET) == 2 and "hunter22" in text
