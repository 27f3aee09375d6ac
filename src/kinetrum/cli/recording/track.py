"""`track`: any command as a recorded run."""

from __future__ import annotations

import argparse
import os
import sys
from typing import TYPE_CHECKING

from kinetrum.cli.parser import Commands
from kinetrum.cli.recording.shell import add_beginning, beginning_of
from kinetrum.core.base.errors import InvalidInput

if TYPE_CHECKING:
    from kinetrum.client.recording.run import Run

_ABOUT = """\
Run a command as a recorded run, without a changed line in it. Its output is shown and kept, its exit status is
returned, and the run's reference is printed last, to stderr.

  kinetrum track -e frost-alarm --set depth=6 --metrics out/scores.json -- python train.py --depth 6

--plot out/roc.json:fpr,tpr keeps a curve that the command writes as a plot: columns of CSV, lists in JSON.

--metrics reads what the command writes, while it runs and at the end: a table (CSV, JSON Lines, a JSON list of
objects) gives points, a JSON object gives results. The command may as well print lines such as

  kinetrum: measure step=3 loss=0.31
  kinetrum: result recall=0.913
"""
_WAIT_S = 10.0


def add_commands(commands: Commands) -> None:
    """Add this command to the parser."""
    track = commands.add_parser(
        "track",
        help="run any command as a recorded run: kinetrum track -- python train.py",
        description=_ABOUT,
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    track.add_argument("-e", "--experiment")
    add_beginning(track)
    track.add_argument(
        "--args", action="store_true", help="record the command's options as parameters: --max-iter 500 as arg.max-iter"
    )
    track.add_argument(
        "--metrics",
        action="append",
        default=[],
        metavar="FILE",
        help="a file the command writes: CSV, JSON or JSON Lines; may be repeated",
    )
    track.add_argument(
        "--step", metavar="COLUMN", help="column of --metrics that is the step; else step, epoch, iteration or round"
    )
    track.add_argument(
        "--plot",
        action="append",
        default=[],
        metavar="[NAME=]FILE[:X,Y]",
        help="CSV or JSON of curve points that becomes a plot at the end; may be repeated",
    )
    track.add_argument("--used", action="append", default=[], metavar="[NAME=]GLOB", help="inputs; or nights@3")
    track.add_argument(
        "--generated", action="append", default=[], metavar="[NAME=]GLOB", help="outputs, uploaded at the end"
    )
    track.add_argument(
        "--grace",
        type=float,
        default=10.0,
        metavar="SECONDS",
        help="time to end after a signal, before the command is killed",
    )
    track.add_argument("command_words", nargs=argparse.REMAINDER, metavar="-- COMMAND …")
    track.set_defaults(run=_track)


def _track(arguments: argparse.Namespace) -> int:
    import shutil
    from pathlib import Path

    from kinetrum.client.tracking.program import blocked_signals

    words = arguments.command_words[1:] if arguments.command_words[:1] == ["--"] else arguments.command_words
    if not words:
        raise InvalidInput("Write the command after --: kinetrum track -- python train.py")
    if shutil.which(words[0]) is None:
        # Nothing is recorded of a command that was mistyped.
        there = Path(words[0]).exists()
        print(
            f"kinetrum track: {words[0]!r} {'cannot be run; is it executable?' if there else 'is not a command here.'}",
            file=sys.stderr,
        )
        return 126 if there else 127
    with blocked_signals():
        return _run(arguments, words)


def _run(arguments: argparse.Namespace, words: list[str]) -> int:
    from pathlib import Path

    from kinetrum.client.capture.figures.collecting import FigureFolder
    from kinetrum.client.tracking import file_patterns
    from kinetrum.client.tracking.metric_files import MeasuredFile
    from kinetrum.client.tracking.plot_files import PlottedFile
    from kinetrum.client.tracking.program import Command, NotStarted
    from kinetrum.client.tracking.tracker import Tracker, describe_command

    # What is mistyped is said before anything is recorded.
    files = [MeasuredFile(Path(path), arguments.step) for path in arguments.metrics]
    outputs = [file_patterns.files_of(text) for text in arguments.generated]
    inputs = file_patterns.inputs_of(arguments.used)
    plots = [PlottedFile.named(text) for text in arguments.plot]
    run, left_out = _begin(arguments, words)
    recorder = run._recorder
    figures = None if "figures" in left_out else FigureFolder()
    began = file_patterns.now_ns(recorder.writer.folder)
    tracker = Tracker(run, files, "output" not in left_out, figures)
    file_patterns.record_inputs(recorder, inputs)
    description = describe_command(run, words, left_out)
    environment = _environment(run, arguments) | (figures.environment() if figures is not None else {})
    command = Command(words, environment, tracker.sink, arguments.grace)
    try:
        outcome = command.run()
    except NotStarted as error:
        run.fail(str(error))
        print(f"kinetrum track: {error}", file=sys.stderr)
        return error.status
    last_lines = tracker.finish()
    tracker.keep_plots(plots)
    file_patterns.record_outputs(recorder, outputs, began, tracker.problem)
    description.join(15)
    status, reason = outcome.status()
    if status == "failed" and last_lines:
        reason = f"{last_lines[-3_300:]}\n{reason}; it printed last: {last_lines.splitlines()[-1][:300]}"
    run.end(status, reason)
    if not tracker.ended_line:
        print(file=sys.stderr)
    say_where(run, status, tracker.problems)
    return outcome.exit_status


def _begin(arguments: argparse.Namespace, words: list[str]) -> tuple[Run, frozenset[str]]:
    from kinetrum.client.capture.about import parts_left_out
    from kinetrum.client.recording import exit_hooks, exit_report
    from kinetrum.client.recording.begin import begin
    from kinetrum.client.spool.run_addresses import keep_address
    from kinetrum.client.spool.spool import current_writer
    from kinetrum.core.text.command_options import options_of

    options = options_of(words) if arguments.args else {}
    left_out = parts_left_out(arguments.leave_out)
    exit_report.be_silent()
    # What surrounds this process is not what surrounds the command; that is looked at apart.
    apart = {"command", "packages", "code", "job", "output", "figures"}
    run = begin(arguments.experiment, output=False, leave_out=left_out | apart, **beginning_of(arguments, options))
    exit_hooks.forget(run)
    keep_address(current_writer().root, run._address)
    return run, left_out


def _environment(run: Run, arguments: argparse.Namespace) -> dict[str, str]:
    """Let what the command records belong to this run, at the same service."""
    from kinetrum.client.transport.connection import find_connection

    connection = find_connection(None, arguments.project, arguments.experiment, needs_service=False)
    variables = {"KINETRUM_RUN": run.id, "KINETRUM_PROJECT": run.project, "KINETRUM_EXPERIMENT": run.experiment}
    if connection.url is not None and connection.instance is None:
        variables["KINETRUM_URL"] = connection.url
    return os.environ | variables


def say_where(run: Run, status: str, problems: list[str]) -> None:
    """Say on standard error what went wrong in a run that has ended, and its reference, or why it has none yet."""
    from kinetrum.cli.output import clean
    from kinetrum.client.spool.draining import drain
    from kinetrum.client.spool.run_addresses import forget_address
    from kinetrum.client.spool.spool import current_writer
    from kinetrum.client.transport.session import open_session
    from kinetrum.core.base.errors import KinetrumError

    forget_address(current_writer().root, run.id)
    for text in problems:
        print(f"kinetrum: problem: {clean(text)}", file=sys.stderr)
    try:
        drain(current_writer().root, _WAIT_S, run.id, until_obstructed=True)
        session = open_session(run.project, wait=False)
        reference = session.service.get(f"/projects/{run.project}/runs/{run.id}")["reference"]
    except KinetrumError as error:
        print(f"kinetrum: {run.id} {status}, not delivered yet: {error}", file=sys.stderr)
        return
    print(f"kinetrum: {reference} {status}", file=sys.stderr)
