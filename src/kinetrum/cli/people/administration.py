"""`admin`: people; with tokens, projects and the journal beside."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING, Any

from kinetrum.cli import output
from kinetrum.cli.output import moment
from kinetrum.cli.parser import Commands
from kinetrum.cli.people.accounts import open_service, secret_from_input, words_of
from kinetrum.cli.people.projects import add_projects
from kinetrum.cli.people.searched_journal import add_journal
from kinetrum.cli.people.tokens import add_tokens
from kinetrum.core.base.errors import InvalidInput

if TYPE_CHECKING:
    from kinetrum.client.transport.session import Session

_ROLES = ["viewer", "contributor", "approver", "maintainer", "none"]


def add_commands(commands: Commands) -> None:
    """Add this group to the parser."""
    admin = commands.add_parser("admin", help="people, tokens, projects, the journal, the check of what is stored")
    inner = admin.add_subparsers(title="commands", dest="admin_command", metavar="COMMAND", required=True)
    _add_people(inner)
    add_tokens(inner)
    add_projects(inner)
    _add_new_key(inner)
    add_journal(inner)


def _add_new_key(commands: Commands) -> None:
    key = commands.add_parser(
        "new-key", help="print a fresh key for KINETRUM_SECRETS_KEY, with which secrets are sealed"
    )
    key.set_defaults(run=_new_key)


def _new_key(arguments: argparse.Namespace) -> int:
    from kinetrum.core.access.sealing_keys import new_key

    output.note("Keep it where only the service reads it; without it, what it sealed is lost.")
    print(new_key())
    return 0


def _add_people(commands: Commands) -> None:
    people = commands.add_parser("people", help="list everybody")
    people.add_argument("--json", action="store_true")
    people.set_defaults(run=_people)
    invite = commands.add_parser("invite", help="make an account and print the link by which its password is chosen")
    _add_new_person(invite)
    invite.add_argument("--role", choices=_ROLES[:-1], help="give this role in --project as well")
    invite.add_argument("--project", help="where --role is given")
    invite.set_defaults(run=_invite)
    link = commands.add_parser("link", help="print a link for a new password, or the invitation anew")
    link.add_argument("name", metavar="NAME")
    link.set_defaults(run=_link)
    person = commands.add_parser("add-person", help="make an account; the password is read from standard input")
    _add_new_person(person)
    person.set_defaults(run=_add_person)
    password = commands.add_parser("set-password", help="set another's password; their sessions and tokens end")
    password.add_argument("name", metavar="NAME")
    password.set_defaults(run=_set_password)
    change = commands.add_parser("person", help="change an account: name, mail, groups, administrator")
    change.add_argument("name", metavar="NAME")
    change.add_argument("--full-name", help="as others see it")
    change.add_argument("--mail", help="their mail address")
    change.add_argument("--groups", help="of which groups the person is, between commas, and of no other")
    administrator = change.add_mutually_exclusive_group()
    administrator.add_argument(
        "--administrator", dest="is_admin", action="store_const", const=True, help="make them one of the instance"
    )
    administrator.add_argument(
        "--no-administrator", dest="is_admin", action="store_const", const=False, help="make them none any more"
    )
    change.set_defaults(run=_change_person)
    for word, is_active, what in (
        ("deactivate", False, "let somebody in no more: sessions, tokens, links and streams end at once"),
        ("reactivate", True, "let somebody in again; tokens are made anew"),
    ):
        state = commands.add_parser(word, help=what)
        state.add_argument("name", metavar="NAME")
        state.set_defaults(run=_set_active, is_active=is_active)
    role = commands.add_parser("role", help="give a person, or group:NAME, a role in a project, or 'none'")
    role.add_argument("person", metavar="PERSON")
    role.add_argument("role", choices=_ROLES)
    role.add_argument("--project")
    role.set_defaults(run=_role)


def _add_new_person(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("name", metavar="NAME")
    parser.add_argument("--full-name", required=True, help="as others see it")
    parser.add_argument("--mail", default="", help="their mail address")
    parser.add_argument("--administrator", action="store_true", help="of the whole instance")


def _session(project: str | None = None) -> Session:
    from kinetrum.client.transport.session import open_session

    return open_session(project, wait=False)


def _people(arguments: argparse.Namespace) -> int:
    people = open_service().get("/people")
    if arguments.json:
        output.print_json(people)
        return 0
    rows = [
        [
            one["name"],
            one["full_name"],
            _state_of(one),
            ", ".join(f"{project} {role}" for project, role in one["roles"].items()),
            ", ".join(one["groups"]),
            moment(one["seen_at"]) if one["seen_at"] else "",
        ]
        for one in people
    ]
    output.print_table(["name", "full name", "", "roles", "groups", "last seen"], rows)
    return 0


def _state_of(person: dict[str, Any]) -> str:
    if person["deactivated_at"]:
        return "deactivated"
    if person["invited_until"]:
        return f"invited until {moment(person['invited_until'])}"
    return "administrator" if person["is_admin"] else ""


def _new_person(arguments: argparse.Namespace, password: str | None) -> Any:
    body = {
        "name": arguments.name,
        "full_name": arguments.full_name,
        "mail": arguments.mail,
        "is_admin": arguments.administrator,
        "password": password,
    }
    return open_service().call("POST", "/people", json=body)


def _invite(arguments: argparse.Namespace) -> int:
    from kinetrum.client.transport.http import path_of

    if bool(arguments.role) != bool(arguments.project):
        raise InvalidInput("A role is in a project: give both --role and --project, or neither.", field="role")
    made = _new_person(arguments, None)
    if arguments.role:
        path = path_of("projects", arguments.project, "members", arguments.name)
        open_service().call("PUT", path, json={"role": arguments.role})
    _tell_link(arguments.full_name, made["invited_until"], made)
    return 0


def _link(arguments: argparse.Namespace) -> int:
    from kinetrum.client.transport.http import path_of

    made = open_service().call("POST", path_of("people", arguments.name, "links"))
    _tell_link(arguments.name, made["expires_at"], made)
    return 0


def _tell_link(whose: str, until: str, made: dict[str, Any]) -> None:
    if made["not_sent"]:
        output.note(f"{made['not_sent']} Hand the link over yourself.")
    if made["sent_to"]:
        output.note(f"Sent to {made['sent_to']}.")
    output.note(f"{whose} chooses a password here, once, until {moment(until)}:")
    print(made["link"])


def _add_person(arguments: argparse.Namespace) -> int:
    _new_person(arguments, secret_from_input("Password"))
    print(
        f"{arguments.full_name} can sign in as {arguments.name}; give a role with "
        f"'kinetrum admin role {arguments.name} ROLE'."
    )
    return 0


def _set_password(arguments: argparse.Namespace) -> int:
    from kinetrum.client.transport.http import path_of

    body = {"password": secret_from_input("Password")}
    open_service().call("PUT", path_of("people", arguments.name, "password"), json=body)
    print(f"The password of {arguments.name} is set; their sessions and tokens have ended.")
    return 0


def _change(name: str, **fields: object) -> Any:
    from kinetrum.client.transport.http import path_of

    return open_service().call("PATCH", path_of("people", name), json=fields)


def _change_person(arguments: argparse.Namespace) -> int:
    fields = {
        "full_name": arguments.full_name,
        "mail": arguments.mail,
        "groups": words_of(arguments.groups),
        "is_admin": arguments.is_admin,
    }
    fields = {key: value for key, value in fields.items() if value is not None}
    if not fields:
        raise InvalidInput("Say what is to change: --full-name, --mail, --groups, --administrator.", field="person")
    changed = _change(arguments.name, **fields)
    groups = f", of {', '.join(changed['groups'])}" if changed["groups"] else ""
    print(f"{changed['full_name']} ({changed['name']}{', administrator' if changed['is_admin'] else ''}){groups}")
    return 0


def _set_active(arguments: argparse.Namespace) -> int:
    changed = _change(arguments.name, is_active=arguments.is_active)
    if arguments.is_active:
        print(f"{changed['full_name']} can sign in again; tokens are made anew.")
    else:
        print(f"{changed['full_name']} is out: sessions, tokens, links and streams have ended. What they did stays.")
    return 0


def _role(arguments: argparse.Namespace) -> int:
    from kinetrum.client.transport.http import path_of

    session = _session(arguments.project)
    group = arguments.person.removeprefix("group:") if arguments.person.startswith("group:") else None
    kind, name = ("groups", group) if group is not None else ("members", arguments.person)
    path = path_of("projects", session.project, kind, name)
    if arguments.role == "none":
        session.service.remove(path)
        print(f"{arguments.person} has no role in {session.project} now.")
    else:
        session.service.call("PUT", path, json={"role": arguments.role})
        print(f"{arguments.person} is {arguments.role} in {session.project}.")
    return 0
