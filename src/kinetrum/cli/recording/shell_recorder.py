"""`shell-recorder`: a run that a shell writes to line by line, without a process for each."""

from __future__ import annotations

import argparse
import sys

from kinetrum.cli.parser import Commands
from kinetrum.cli.recording.shell import add_beginning, beginning_of

_ABOUT = """\
Begin a run and record what is written to standard input, a line each, until that ends: for loops in shells, where a
command for each measurement would cost a process each.

  exec 3> >(kinetrum shell-recorder -e frost-alarm --set depth=6)
  for step in 1 2 3; do
      echo "measure loss=0.$step step=$step" >&3
  done
  echo "result recall=0.913" >&3
  exec 3>&-

Lines are those that 'kinetrum track' reads: set, measure, result, progress, used, generated. A line 'failed REASON' or
'stopped REASON' ends the run so; the end of the input ends it as finished. A line that cannot be read is told, and the
exit status is 1 then.
"""


def add_commands(commands: Commands) -> None:
    """Add this command to the parser."""
    recorder = commands.add_parser(
        "shell-recorder",
        help="record what a shell writes line by line, quicker than a command for each",
        description=_ABOUT,
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    recorder.add_argument("-e", "--experiment", help="the experiment")
    add_beginning(recorder)
    recorder.set_defaults(run=_shell_recorder)


def _shell_recorder(arguments: argparse.Namespace) -> int:
    from kinetrum.cli.recording.track import say_where
    from kinetrum.client.capture.about import parts_left_out
    from kinetrum.client.capture.environment import look_for_a_shell
    from kinetrum.client.recording import exit_report
    from kinetrum.client.recording.begin import begin
    from kinetrum.client.tracking.tracker import Tracker
    from kinetrum.core.base.errors import KinetrumError

    exit_report.be_silent()
    look_for_a_shell()
    left_out = parts_left_out(arguments.leave_out) | {"command", "packages", "output"}
    run = begin(arguments.experiment, output=False, leave_out=left_out, **beginning_of(arguments))
    tracker = Tracker(run, [], False)
    status, reason, wrong = "finished", None, 0
    for number, line in enumerate(sys.stdin, 1):
        text = line.strip()
        word, _, rest = text.partition(" ")
        if word in {"failed", "stopped"}:
            status, reason = word, rest or None
            break
        if not text or text.startswith("#"):
            continue
        try:
            tracker.record_line(text)
        except KinetrumError as error:
            wrong += 1
            print(f"kinetrum shell-recorder: line {number}: {error}", file=sys.stderr)
    tracker.finish()
    run.end(status, reason)
    say_where(run, status, tracker.problems)
    return 1 if wrong else 0
