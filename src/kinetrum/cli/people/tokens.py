"""`admin tokens`, `admin token`, `admin revoke-token`: of people, and of projects' machines."""

from __future__ import annotations

import argparse

from kinetrum.cli import output
from kinetrum.cli.output import moment
from kinetrum.cli.parser import Commands
from kinetrum.cli.people.accounts import open_service, words_of
from kinetrum.core.base.errors import InvalidInput

_SCOPES = "read, record, register, review, place, report, administer"


def add_tokens(commands: Commands) -> None:
    """Add these commands."""
    tokens = commands.add_parser("tokens", help="list your tokens, another's, or those of a project's machines")
    _add_whose(tokens)
    tokens.add_argument("--json", action="store_true")
    tokens.set_defaults(run=_tokens)
    token = commands.add_parser("token", help="make a token and print it, this once")
    token.add_argument("name", metavar="NAME", help="what it is for, such as 'laptop' or 'nightly'")
    _add_whose(token)
    token.add_argument("--scopes", help=f"what it may be used for, between commas: {_SCOPES}")
    token.add_argument("--projects", help="only in these projects, between commas")
    ends = token.add_mutually_exclusive_group()
    ends.add_argument("--days", type=int, default=90, help="how long it lasts: 90 without it")
    ends.add_argument("--no-end", dest="days", action="store_const", const=None, help="it does not end")
    token.set_defaults(run=_token)
    revoke = commands.add_parser("revoke-token", help="revoke tokens by name")
    revoke.add_argument("name", metavar="NAME")
    _add_whose(revoke)
    revoke.set_defaults(run=_revoke)


def _add_whose(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--person", help="somebody else's; takes an administrator")
    parser.add_argument("--machine-of", metavar="PROJECT", help="a machine's of this project; takes a maintainer")


def _whose(arguments: argparse.Namespace, *more: str) -> tuple[str, dict[str, str]]:
    """Return where the tokens are that are meant, and the parameters that say whose."""
    from kinetrum.client.transport.http import path_of

    if arguments.machine_of:
        return path_of("projects", arguments.machine_of, "tokens", *more), {}
    return path_of("tokens", *more), {"person": arguments.person} if arguments.person else {}


def _tokens(arguments: argparse.Namespace) -> int:
    path, params = _whose(arguments)
    tokens = open_service().get(path, **params)
    if arguments.json:
        output.print_json(tokens)
        return 0
    if not tokens:
        print("There are none.")
        return 0
    rows = [
        [
            one["name"],
            ", ".join(one["scopes"]),
            "all" if one["projects"] is None else ", ".join(one["projects"]),
            moment(one["expires_at"]) if one["expires_at"] else "never",
            moment(one["last_used_at"]) if one["last_used_at"] else "never",
            one["last_used_from"],
        ]
        for one in tokens
    ]
    output.print_table(["name", "scopes", "projects", "ends", "last used", "from"], rows)
    return 0


def _token(arguments: argparse.Namespace) -> int:
    path, params = _whose(arguments)
    body: dict[str, object] = {"name": arguments.name, "scopes": words_of(arguments.scopes), "days": arguments.days}
    if arguments.machine_of:
        if not arguments.scopes:
            raise InvalidInput(f"Say what the machine's token is for, with --scopes: {_SCOPES}.", field="scopes")
    else:
        body |= {"projects": words_of(arguments.projects), **params}
    made = open_service().call("POST", path, json=body)
    end = f"until {moment(made['expires_at'])}" if made["expires_at"] else "without an end"
    output.note(f"Token {made['name']} ({', '.join(made['scopes'])}; {end}), shown this once; keep it like a password:")
    print(made["secret"])
    return 0


def _revoke(arguments: argparse.Namespace) -> int:
    path, params = _whose(arguments, arguments.name)
    open_service().remove(path, **params)
    print(f"Revoked {arguments.name}.")
    return 0
