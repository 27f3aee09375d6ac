"""`bin`: putting runs and versions out of sight, seeing what is there, and taking it out again."""

from __future__ import annotations

import argparse
import sys
from typing import TYPE_CHECKING

from kinetrum.cli import output
from kinetrum.cli.arguments import add_common
from kinetrum.cli.output import moment
from kinetrum.cli.parser import Commands
from kinetrum.cli.runs.descriptions import done_with, things_by_project
from kinetrum.core.base.errors import InvalidInput

if TYPE_CHECKING:
    from kinetrum.client.transport.session import Session

_ABOUT = """\
Put runs and versions out of sight. Nothing is deleted: --restore takes them out again, and 'kinetrum purge' frees their
room for good. Without a reference the bin is listed.

  kinetrum bin frost-alarm/3 nights@2
  kinetrum bin frost-alarm/33 --children         with the runs below it
  kinetrum bin "auc < 0.99" -e frost-alarm       what a query finds
  kinetrum bin experiment:slow                   all runs of an experiment
  kinetrum bin --restore frost-alarm/3
"""


def add_commands(commands: Commands) -> None:
    """Add this command to the parser."""
    bin_ = commands.add_parser(
        "bin",
        help="put runs and versions out of sight, list what is there, take them out again",
        description=_ABOUT,
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    bin_.add_argument(
        "refs",
        nargs="*",
        metavar="REF",
        help="frost-alarm/3, nights@2, artifact:nights, experiment:slow; with -e a query",
    )
    bin_.add_argument(
        "-e", "--experiment", metavar="NAME", help="put runs of this experiment there, those a query finds"
    )
    bin_.add_argument("--children", action="store_true", help="the runs below those that are named as well")
    bin_.add_argument("--restore", action="store_true", help="take them out of the bin")
    bin_.add_argument("--yes", action="store_true", help="do not ask, where many runs are found or some are below")
    add_common(bin_, _bin)


def _bin(arguments: argparse.Namespace) -> int:
    from kinetrum.client.reading.descriptions import move_things

    if not arguments.refs and not arguments.experiment:
        return _list(arguments)
    meant = _meant(arguments)
    done: list[str] = []
    left_below = 0
    for session, plain in meant.values():
        moved = move_things(session, session.project, plain, not arguments.restore, arguments.children)
        asks = moved["left_below"] > 0 and not arguments.yes
        if asks and output.confirmed(_below(moved["left_below"])):
            moved = move_things(session, session.project, plain, not arguments.restore, True)
        done, left_below = done + moved["references"], left_below + moved["left_below"]
    if left_below and not arguments.json:
        word = "1 run below stays" if left_below == 1 else f"{left_below} runs below stay"
        output.note(f"{word} where {'it is' if left_below == 1 else 'they are'}; --children takes them along.")
    undo = f"; kinetrum bin --restore {' '.join(done)} takes back" if 0 < len(done) <= 6 else ""
    return done_with(arguments, done, "restored" if arguments.restore else f"in the bin{undo}")


def _list(arguments: argparse.Namespace) -> int:
    from kinetrum.client.reading.descriptions import binned

    things = binned(project=arguments.project)
    if arguments.json:
        output.print_json(things)
    elif things:
        rows = [
            [
                thing["reference"],
                output.clean(thing["name"] or ""),
                thing["status"],
                thing["author"],
                moment(thing["binned_at"]),
                output.clean(thing["reason"] or thing["binned_by"] or ""),
            ]
            for thing in things
        ]
        output.print_table(["what", "name", "", "made by", "binned", "by or because"], rows)
    else:
        print("The bin is empty.")
    return 0


def _below(count: int) -> str:
    return f"{count} {'run is' if count == 1 else 'runs are'} below. Take {'it' if count == 1 else 'them'} along?"


def _meant(arguments: argparse.Namespace) -> dict[str, tuple[Session, list[str]]]:
    """Return what is meant by project: references, the runs of `experiment:NAME`, or with -e those a query finds."""
    if arguments.experiment:
        if arguments.restore:
            raise InvalidInput(
                "A query finds nothing in the bin; name runs to restore them, 'kinetrum bin' lists them."
            )
        query = " ".join(arguments.refs)
        return _confirmed(arguments, arguments.experiment, query, arguments.project)
    whole = [ref for ref in arguments.refs if ref.rpartition("/")[2].startswith("experiment:")]
    things = things_by_project(arguments, [ref for ref in arguments.refs if ref not in whole])
    for ref in whole:
        project, _, name = ref.rpartition("/")
        name = name.removeprefix("experiment:")
        if arguments.restore:
            raise InvalidInput(f"Name the runs of {name} to restore them; 'kinetrum bin' lists them.", field="ref")
        for place, (session, plain) in _confirmed(arguments, name, "", project or arguments.project).items():
            things.setdefault(place, (session, []))[1].extend(plain)
    return things


def _confirmed(
    arguments: argparse.Namespace, experiment: str, query: str, project: str | None
) -> dict[str, tuple[Session, list[str]]]:
    """Return the runs that fit, by project, once a person has seen how many they are."""
    from kinetrum.client.reading.run_table import runs

    table = runs(query, experiment=experiment, project=project)
    refs = table.references
    what = f"{output.counted_things(refs)} of {experiment}{f' where {query}' if query else ''}"
    if refs and not arguments.yes and not output.confirmed(f"Put {what} into the bin?"):
        hint = "" if sys.stdin.isatty() else " Add --yes to put them into the bin."
        raise InvalidInput(f"Nothing was changed: {what}.{hint}")
    return {table.project: (table.session, refs)} if refs else {}
