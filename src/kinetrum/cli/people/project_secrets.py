"""`admin secrets`, `admin set-secret`, `admin remove-secret`, `admin new-key`: what is sealed, and with what."""

from __future__ import annotations

import argparse

from kinetrum.cli import output
from kinetrum.cli.output import moment
from kinetrum.cli.parser import Commands
from kinetrum.cli.people.accounts import open_service, secret_from_input


def add_secrets(commands: Commands) -> None:
    """Add these commands."""
    listed = commands.add_parser("secrets", help="list a project's secrets: names, when they were set and by whom")
    listed.add_argument("project", metavar="PROJECT")
    listed.add_argument("--json", action="store_true")
    listed.set_defaults(run=_list)
    setting = commands.add_parser("set-secret", help="set a secret of a project; it is read from standard input")
    _add_one(setting)
    setting.set_defaults(run=_set)
    removal = commands.add_parser("remove-secret", help="forget a secret of a project")
    _add_one(removal)
    removal.set_defaults(run=_remove)
    key = commands.add_parser(
        "new-key", help="print a fresh key for KINETRUM_SECRETS_KEY, with which secrets are sealed"
    )
    key.set_defaults(run=_new_key)


def _add_one(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("project", metavar="PROJECT")
    parser.add_argument("name", metavar="NAME", help="by which it is used, such as 'pipeline-signature'")


def _list(arguments: argparse.Namespace) -> int:
    from kinetrum.client.transport.http import path_of

    found = open_service().get(path_of("projects", arguments.project, "secrets"))
    if arguments.json:
        output.print_json(found)
    elif found:
        rows = [[one["name"], moment(one["set_at"]), one["set_by"]] for one in found]
        output.print_table(["name", "set", "by"], rows)
    else:
        print(f"{arguments.project} has no secrets.")
    return 0


def _set(arguments: argparse.Namespace) -> int:
    from kinetrum.client.transport.http import path_of

    value = secret_from_input(f"Secret {arguments.name}")
    path = path_of("projects", arguments.project, "secrets", arguments.name)
    open_service().call("PUT", path, json={"value": value})
    print(f"Set {arguments.name}; nobody is shown it again.")
    return 0


def _remove(arguments: argparse.Namespace) -> int:
    from kinetrum.client.transport.http import path_of

    open_service().remove(path_of("projects", arguments.project, "secrets", arguments.name))
    print(f"Removed {arguments.name}.")
    return 0


def _new_key(arguments: argparse.Namespace) -> int:
    from kinetrum.core.access.sealing_keys import new_key

    output.note("Keep it where only the service reads it; without it, what it sealed is lost.")
    print(new_key())
    return 0
