"""`secret set`, `secret list`, `secret remove`: what the service uses in a project's name, and shows to nobody."""

from __future__ import annotations

import argparse
from collections.abc import Callable

from kinetrum.cli import output
from kinetrum.cli.arguments import add_common
from kinetrum.cli.output import moment
from kinetrum.cli.parser import Commands
from kinetrum.cli.people.accounts import secret_from_input


def add_commands(commands: Commands) -> None:
    """Add this group to the parser."""
    secret = commands.add_parser("secret", help="set, list and remove a project's secrets; nobody is shown one again")
    inner = secret.add_subparsers(title="commands", dest="secret_command", metavar="COMMAND", required=True)
    setting = inner.add_parser("set", help="set a secret, or another value for it; it is read from standard input")
    _add_name(setting, _set)
    add_common(inner.add_parser("list", help="list names, when they were set and by whom"), _list)
    removal = inner.add_parser("remove", help="forget a secret")
    _add_name(removal, _remove)


def _add_name(parser: argparse.ArgumentParser, run: Callable[[argparse.Namespace], int]) -> None:
    parser.add_argument("name", metavar="NAME", help="by which it is used, such as 'pipeline-signature'")
    parser.add_argument("--project")
    parser.set_defaults(run=run)


def _list(arguments: argparse.Namespace) -> int:
    from kinetrum.client.transport.http import path_of
    from kinetrum.client.transport.session import open_session

    session = open_session(arguments.project, wait=False)
    found = session.service.get(path_of("projects", session.project, "secrets"))
    if arguments.json:
        output.print_json(found)
    elif found:
        rows = [[one["name"], moment(one["set_at"]), one["set_by"]] for one in found]
        output.print_table(["name", "set", "by"], rows)
    else:
        print(f"{session.project} has no secrets.")
    return 0


def _set(arguments: argparse.Namespace) -> int:
    from kinetrum.client.transport.http import path_of
    from kinetrum.client.transport.session import open_session

    session = open_session(arguments.project, wait=False)
    value = secret_from_input(f"Secret {arguments.name}")
    path = path_of("projects", session.project, "secrets", arguments.name)
    session.service.call("PUT", path, json={"value": value})
    print(f"Set {arguments.name} of {session.project}; nobody is shown it again.")
    return 0


def _remove(arguments: argparse.Namespace) -> int:
    from kinetrum.client.transport.http import path_of
    from kinetrum.client.transport.session import open_session

    session = open_session(arguments.project, wait=False)
    session.service.remove(path_of("projects", session.project, "secrets", arguments.name))
    print(f"Removed {arguments.name} of {session.project}.")
    return 0
