"""`find`: anything by a reference or a part of its name."""

from __future__ import annotations

import argparse

from kinetrum.cli import output
from kinetrum.cli.arguments import add_common
from kinetrum.cli.parser import Commands


def add_commands(commands: Commands) -> None:
    """Add this command to the parser."""
    find = commands.add_parser(
        "find", help="find runs, experiments, artifacts, models and views by a part of their names"
    )
    find.add_argument("words", nargs="+", metavar="TEXT", help="a reference or a part of a name")
    add_common(find, _find)


def _find(arguments: argparse.Namespace) -> int:
    from kinetrum.client.transport.session import open_session

    session = open_session(arguments.project)
    answer = session.service.get("/find", text=" ".join(arguments.words), project=session.project)
    if arguments.json:
        output.print_json(answer)
    elif answer:
        rows = [
            [
                one["kind"],
                output.clean(one["reference"]),
                output.clean(one["title"] or ""),
                output.clean(one["about"] or ""),
                one["project"],
            ]
            for one in answer
        ]
        output.print_table(["what", "reference", "title", "about", "project"], rows, keep=2)
    else:
        print(f"Nothing is named like {' '.join(arguments.words)!r}.")
    return 0
