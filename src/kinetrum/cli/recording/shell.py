"""`begin`, `set`, `measure`, `result`, `used`, `generated`, `activity`, `end`: recording from shells."""

from __future__ import annotations

import argparse
import contextlib
from typing import TYPE_CHECKING

from kinetrum.cli.parser import Commands
from kinetrum.client.transport.shell_place import LEASE_S, NOT_OF_A_SHELL
from kinetrum.core.base.errors import InvalidInput
from kinetrum.core.base.values import JsonObject, Value

if TYPE_CHECKING:
    from kinetrum.client.recording.run import Run


def add_commands(commands: Commands) -> None:
    """Add this group to the parser."""
    begin = commands.add_parser("begin", help="begin a run from a shell: export KINETRUM_RUN=$(kinetrum begin E)")
    begin.add_argument("experiment", nargs="?", metavar="EXPERIMENT")
    add_beginning(begin)
    begin.add_argument("--parent", metavar="ID", help="id of the run that this one is under")
    begin.add_argument(
        "--lease",
        type=int,
        default=LEASE_S,
        metavar="SECONDS",
        help="silence that makes the run lost; a day by default, since no process lives as long as the run",
    )
    begin.set_defaults(run=_begin)
    for word, what in (("set", "set parameters of the run"), ("result", "record final values of the run")):
        parser = _command(commands, word, what)
        parser.add_argument("values", nargs="+", metavar="KEY=VALUE", help="JSON where it is JSON, else text")
        parser.set_defaults(run=_set if word == "set" else _result)
    measure = _command(commands, "measure", "record a point of metrics: kinetrum measure loss=0.3 --step 7")
    measure.add_argument("values", nargs="+", metavar="KEY=NUMBER")
    measure.add_argument("--step", type=int, required=True)
    measure.set_defaults(run=_measure)
    used = _command(commands, "used", "record an input of the run: a file, a folder, an address, or nights@3")
    used.add_argument("path", metavar="PATH")
    used.add_argument("--name")
    used.add_argument("--role")
    used.add_argument("--kind", default="data")
    used.add_argument("--upload", action="store_true", help="keep the bytes in the service too")
    used.add_argument("--about", action="append", default=[], metavar="KEY=VALUE", help="metadata of the version")
    used.set_defaults(run=_used)
    generated = _command(commands, "generated", "record an output of the run: a file or folder, uploaded")
    generated.add_argument("path", metavar="PATH")
    generated.add_argument("--name")
    generated.add_argument("--kind", default="file")
    generated.add_argument("--step", type=int)
    generated.add_argument("--keep", metavar="N|best|best:KEY", help="which checkpoints of this name stay")
    generated.add_argument("--about", action="append", default=[], metavar="KEY=VALUE", help="metadata of the version")
    generated.set_defaults(run=_generated)
    activity = _command(commands, "activity", "run a command as a named piece of the run's work")
    activity.add_argument("name", metavar="NAME")
    activity.add_argument("command_words", nargs=argparse.REMAINDER, metavar="-- COMMAND …")
    activity.set_defaults(run=_activity)
    end = _command(commands, "end", "end the run: finished, unless told otherwise")
    how = end.add_mutually_exclusive_group()
    how.add_argument("--failed", metavar="REASON")
    how.add_argument("--stopped", metavar="REASON")
    end.set_defaults(run=_end)


def add_beginning(parser: argparse.ArgumentParser) -> None:
    """Add what a run is begun with."""
    parser.add_argument("--project")
    parser.add_argument("--name", help="a name for the run")
    parser.add_argument("--params", metavar="FILE", help="parameters from a TOML, YAML or JSON file")
    parser.add_argument(
        "--set",
        dest="settings",
        action="append",
        default=[],
        metavar="KEY=VALUE",
        help="a parameter; may be repeated; none that the file says otherwise",
    )
    parser.add_argument("--seed", type=int)
    parser.add_argument("--label", dest="labels", action="append", default=[], metavar="KEY=TEXT")
    parser.add_argument(
        "--goal",
        dest="goals",
        action="append",
        default=[],
        metavar="KEY=GOAL",
        help="such as 'recall=higher >= 0.9' or 'fit_seconds=lower s'",
    )
    parser.add_argument("--leave-out", metavar="PARTS", help="what is not caught, such as output,code; or all")


def _command(commands: Commands, word: str, what: str) -> argparse.ArgumentParser:
    parser: argparse.ArgumentParser = commands.add_parser(word, help=what)
    parser.add_argument("--run", dest="of_run", metavar="REF", help="the run; without it KINETRUM_RUN")
    return parser


def beginning_of(arguments: argparse.Namespace, options: JsonObject | None = None) -> JsonObject:
    """Return the arguments of `begin` that a command line gave; `options` are parameters read from a tracked command.

    Raises InvalidInput where `--set` contradicts the file of `--params` or those options.
    """
    from kinetrum.client.recording.parameters import as_settings
    from kinetrum.core.text.directives import read_pairs

    pairs = read_pairs(arguments.settings)
    params = _together(arguments.params, as_settings(arguments.params), pairs) | (options or {})
    for key in pairs.keys() & (options or {}).keys():
        _check_option(key, pairs[key], params[key])
    goals = dict(_text_pair(text) for text in arguments.goals)
    return {
        "project": arguments.project,
        "name": arguments.name,
        "params": params,
        "seed": arguments.seed,
        "labels": dict(_text_pair(text) for text in arguments.labels),
        "goals": goals,
    }


def _together(file: str | None, read: JsonObject, pairs: JsonObject) -> JsonObject:
    """Return the settings of a file and of `--set`; raises InvalidInput where they contradict each other.

    The command reads the file: a value recorded in the place of the file's would be one that it never saw.
    """
    from kinetrum.core.base.values import same, show

    for key, value in pairs.items():
        if key in read and not same(read[key], value):
            raise InvalidInput(
                f"--set {key}={show(value)} contradicts {file}, which says {show(read[key])}, and that is what a "
                "command that reads it sees. Write the value into the file, or give a changed copy to both --params "
                "and the command.",
                field=key,
            )
    return {**read, **pairs}


def _check_option(key: str, set_value: Value, seen: Value) -> None:
    from kinetrum.core.base.values import same, show

    if not same(set_value, seen):
        raise InvalidInput(
            f"--set {key}={show(set_value)} contradicts the command, which says {show(seen)}.", field=key
        )


def _text_pair(text: str) -> tuple[str, str]:
    key, sign, value = text.partition("=")
    if not sign or not key or not value:
        raise InvalidInput(f"{text!r} is not of the form KEY=VALUE.")
    return key, value


def _begin(arguments: argparse.Namespace) -> int:
    from kinetrum.client.capture.about import parts_left_out
    from kinetrum.client.capture.shell_surroundings import start_looking
    from kinetrum.client.recording import exit_hooks, exit_report
    from kinetrum.client.recording.begin import begin
    from kinetrum.client.spool import spool
    from kinetrum.client.spool.run_addresses import keep_address, keep_params

    spool.use_small_segments()
    exit_report.be_silent()
    left_out = parts_left_out(arguments.leave_out)
    run = begin(
        arguments.experiment,
        parent=arguments.parent,
        lease_s=arguments.lease,
        output=False,
        leave_out=left_out | NOT_OF_A_SHELL,
        **beginning_of(arguments),
    )
    keep_address(spool.current_writer().root, run._address)
    keep_params(spool.current_writer().root, run.id, run.params)
    # The run goes on when this process has ended.
    exit_hooks.forget(run)
    run.owner_pid = -1
    start_looking(run.id, left_out)
    _keep_place(left_out if arguments.leave_out is None else None)
    print(run.id)
    return 0


def _keep_place(left_out: frozenset[str] | None) -> None:
    """Let the next run of this shell begin more quickly, where this one was begun with nothing out of the ordinary."""
    from kinetrum.client.spool.destinations import destination_of, keep_destination
    from kinetrum.client.spool.spool import current_writer
    from kinetrum.client.transport.connection import find_connection
    from kinetrum.client.transport.shell_place import ShellPlace, keep_place
    from kinetrum.places import connections_file, has_home, instance_folder, spool_folder

    connection, root = find_connection(needs_service=False), current_writer().root
    if left_out is None or connection.url is None or not has_home() or root != spool_folder():
        return
    name = keep_destination(root, destination_of(connection))
    folders = {str(folder) for folder in (instance_folder(), connection.instance) if folder is not None}
    place = ShellPlace(connection.project, connection.experiment, name, left_out)
    with contextlib.suppress(OSError):
        keep_place(str(root), place, str(connections_file()), folders)


def _run_of(arguments: argparse.Namespace) -> Run:
    """Return the run that is meant, joined; of one begun on this machine nothing waits for the service."""
    from kinetrum.client.recording import exit_report
    from kinetrum.client.recording.run import Run
    from kinetrum.client.sender.launch import start_sender
    from kinetrum.client.spool import spool
    from kinetrum.client.spool.run_addresses import known_address, known_params, named_run
    from kinetrum.core.base.ids import is_id

    spool.use_small_segments()
    # One of many short commands: the last one of the run tells.
    exit_report.be_silent()
    ref = named_run(arguments.of_run)
    address = known_address(spool.current_writer().root, ref) if is_id(ref) else None
    if address is None:
        from kinetrum.client.recording.begin import attach

        return attach(ref)
    root = spool.current_writer().root
    start_sender(root)
    return Run(address, known_params(root, ref), attached=True)


def _set(arguments: argparse.Namespace) -> int:
    from kinetrum.client.spool.run_addresses import keep_params
    from kinetrum.client.spool.spool import current_writer
    from kinetrum.core.text.directives import read_pairs

    run = _run_of(arguments)
    run.set_params(read_pairs(arguments.values))
    keep_params(current_writer().root, run.id, run.params)
    return 0


def _result(arguments: argparse.Namespace) -> int:
    from kinetrum.core.text.directives import read_pairs

    _run_of(arguments).result(read_pairs(arguments.values))
    return 0


def _measure(arguments: argparse.Namespace) -> int:
    from kinetrum.core.text.directives import read_pairs

    values = read_pairs(arguments.values)
    _run_of(arguments).measure(values, step=arguments.step)
    return 0


def _used(arguments: argparse.Namespace) -> int:
    from kinetrum.cli.data.artifacts import about_of

    _run_of(arguments).used(
        arguments.path,
        name=arguments.name,
        role=arguments.role,
        kind=arguments.kind,
        upload=arguments.upload,
        about=about_of(arguments.about),
    )
    return 0


def _generated(arguments: argparse.Namespace) -> int:
    from kinetrum.cli.data.artifacts import about_of

    _run_of(arguments).generated(
        arguments.path,
        name=arguments.name,
        kind=arguments.kind,
        step=arguments.step,
        keep=arguments.keep,
        about=about_of(arguments.about),
    )
    return 0


def _activity(arguments: argparse.Namespace) -> int:
    import subprocess

    words = arguments.command_words[1:] if arguments.command_words[:1] == ["--"] else arguments.command_words
    if not words:
        raise InvalidInput("Write the command after --: kinetrum activity preparing -- ./prepare.sh")
    activity = _run_of(arguments).activity(arguments.name)
    try:
        status = subprocess.run(words, check=False).returncode
    except OSError as error:
        activity.end(failed=True)
        raise InvalidInput(f"{words[0]!r} cannot be run ({error.strerror}).") from None
    activity.end(failed=status != 0)
    return 128 - status if status < 0 else status


def _end(arguments: argparse.Namespace) -> int:
    from kinetrum.client.recording import exit_report
    from kinetrum.client.spool import spool
    from kinetrum.client.spool.run_addresses import keep_end
    from kinetrum.core.base.ids import is_id

    run = _run_of(arguments)
    exit_report.be_quick()
    if arguments.failed is not None:
        run.end("failed", arguments.failed)
    elif arguments.stopped is not None:
        run.end("stopped", arguments.stopped)
    else:
        run.end()
    if is_id(run.id):
        keep_end(spool.current_writer().root, run.id, run.status)
    return 0
