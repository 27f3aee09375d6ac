"""The command line: every command, and how it is read and run."""

from __future__ import annotations

import argparse
import contextlib
import importlib
import os
import sys
import warnings
from collections.abc import Callable
from typing import Any

from kinetrum.cli.parser import Commands, Parser
from kinetrum.cli.terminal import cleaned_output
from kinetrum.core.base.errors import (
    InvalidInput,
    KinetrumError,
    NotAllowed,
    NotFound,
    NotSignedIn,
    TooManyTries,
    Unavailable,
)

# The commands of each module, in the order in which help lists them: only the module of the command that is asked for
# is loaded, since loading all of them takes longer than most commands.
_MODULES: dict[str, tuple[str, ...]] = {
    "instance": ("up", "down", "status", "serve"),
    "people.accounts": ("connect", "whoami", "account"),
    "people.administration": ("admin",),
    "people.project_secrets": ("secret",),
    "recording.track": ("track",),
    "recording.shell": ("begin", "set", "result", "measure", "used", "generated", "activity", "end"),
    "recording.shell_recorder": ("shell-recorder",),
    "search.run_table": ("runs", "views"),
    "search.find": ("find",),
    "runs.show": ("show",),
    "compare.comparison": ("compare", "effects"),
    "archives.points": ("points",),
    "compare.plots": ("plot",),
    "data.results": ("media", "rows"),
    "runs.descriptions": ("label", "note", "rename", "goal", "seeds", "run-names", "correct"),
    "runs.bin": ("bin",),
    "data.artifacts": ("artifacts", "keep", "fetch", "diff", "uses", "check", "lineage"),
    "registry.models": ("models", "register", "review", "promote", "demote", "rollback", "retire", "lead"),
    "registry.gates": ("gates", "evidence", "card", "rules", "ladder", "lock", "fetches"),
    "people.journal": ("history",),
    "data.disk_usage": ("storage", "purge"),
    "archives.archives": ("export", "import"),
    "recording.spool": ("spool",),
    "completion": ("completion",),
}
_MODULE_OF = {command: module for module, commands in _MODULES.items() for command in commands}

_ABOUT = """\
Record training runs, compare them, version models and promote them.

  kinetrum up                                start a private instance on this machine
  kinetrum track -- python train.py          run any command as a recorded run
  kinetrum runs --experiment frost-alarm     see what was recorded
  kinetrum compare frost-alarm/12 frost-alarm/9
  kinetrum register frost-net --run frost-alarm/12 --as-model frost-alarm
  kinetrum review frost-alarm@2 --approve
  kinetrum promote frost-alarm@2 production
  kinetrum fetch frost-alarm@production -o deploy/
"""
_STATUSES: list[tuple[type[KinetrumError], int]] = [
    (NotFound, 3),
    (NotSignedIn, 4),
    (NotAllowed, 4),
    (TooManyTries, 5),
    (Unavailable, 5),
    (InvalidInput, 2),
    (KinetrumError, 1),
]


class _Listed:
    """Stands for a command's parser where only names and help are wanted: quicker than making forty of them."""

    def __init__(self, **_: object) -> None:
        return

    def __getattr__(self, _: str) -> Callable[..., _Listed]:
        return lambda *_, **__: self


def make_parser(listing: bool = False, only: str | None = None) -> argparse.ArgumentParser:
    """Build the parser of all commands; with `listing` one that can only list them, with `only` that of one module."""
    parser = Parser(
        prog="kinetrum",
        description=_ABOUT,
        formatter_class=lambda prog: argparse.RawDescriptionHelpFormatter(prog, max_help_position=18, width=100),
        epilog="Exit status: 0 done, 1 refused or failed, 2 wrong use, 3 not found, 4 not allowed, "
        "5 service not reached.",
    )
    parser.add_argument("--version", dest="show_version", action="store_true", help="print the version and leave")
    kind: Any = {"parser_class": _Listed} if listing else {}
    commands = parser.add_subparsers(title="commands", dest="command", metavar="COMMAND", **kind)
    for module in (only,) if only else _MODULES:
        importlib.import_module(f"kinetrum.cli.{module}").add_commands(commands)
    if listing:
        _group_commands(parser, commands)
    return parser


def _group_commands(parser: argparse.ArgumentParser, commands: Commands) -> None:
    """List the commands in groups, in the order of the job, where the parser would list them one after another."""
    from kinetrum.cli.help_texts import groups_text

    texts = {choice.dest: choice.help or "" for choice in commands._choices_actions}
    commands._choices_actions.clear()
    commands.help = "one of the commands below"
    parser.epilog = f"{groups_text(texts)}\n\n{parser.epilog}"


def _show_warning(message: Warning | str, category: type[Warning], *place: Any, **more: Any) -> None:
    """Say a warning in one line, as errors are said: where in the code it arose helps nobody at a command line."""
    if issubclass(category, UserWarning):
        print(f"kinetrum: {message}", file=sys.stderr)
    else:
        _show_with_place(message, category, *place, **more)


_show_with_place = warnings.showwarning


def _waiting(arguments: argparse.Namespace) -> contextlib.AbstractContextManager[None]:
    if not getattr(arguments, "waits_to_the_end", False):
        return contextlib.nullcontext()
    from kinetrum.client.transport.session import waiting_to_the_end

    return waiting_to_the_end()


def run_command(words: list[str]) -> int:
    """Run one command, given as words, and return its exit status."""
    with cleaned_output():
        return _run_command(words)


def _run_command(words: list[str]) -> int:
    listing = words in ([], ["-h"], ["--help"])
    parser = make_parser(listing, _MODULE_OF.get(words[0]) if words else None)
    if not listing and ("-h" in words or "--help" in words):
        from kinetrum.cli.help_texts import complete_help

        complete_help(parser)
    parsed = parser.parse_args(words)
    if parsed.show_version:
        from importlib.metadata import version

        print(version("kinetrum"))
        return 0
    if parsed.command is None:
        parser.print_help()
        return 2
    try:
        with warnings.catch_warnings():
            warnings.showwarning = _show_warning
            with _waiting(parsed):
                status = int(parsed.run(parsed) or 0)
        sys.stdout.flush()
    except KinetrumError as error:
        print(f"kinetrum {parsed.command}: {error}", file=sys.stderr)
        if error.column is not None and "\n" not in str(getattr(parsed, "query", "\n")):
            print(f"  {parsed.query}\n  {' ' * (error.column - 1)}^", file=sys.stderr)
        return next(status for kind, status in _STATUSES if isinstance(error, kind))
    except BrokenPipeError:
        # Whoever read the output has left; nothing more to say to them.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return 0
    except KeyboardInterrupt:
        return 130
    return status
