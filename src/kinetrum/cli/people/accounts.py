"""`connect`, `whoami`, `admin`: who one is, and people, roles and tokens."""

from __future__ import annotations

import argparse
import os
import sys
from typing import TYPE_CHECKING

from kinetrum.cli import output
from kinetrum.cli.parser import Commands
from kinetrum.core.base.errors import InvalidInput, NotSignedIn

if TYPE_CHECKING:
    from kinetrum.client.transport.session import Session


def add_commands(commands: Commands) -> None:
    """Add this group to the parser."""
    connect = commands.add_parser("connect", help="save a connection to a service, and a token for it")
    connect.add_argument("url", metavar="URL")
    connect.add_argument("--token", help="a client token; '-' reads it from standard input; without it you sign in")
    connect.add_argument("--project", help="the project that references without one mean")
    connect.add_argument("--ca", metavar="FILE", help="certificates (PEM) to trust there, besides the system's")
    connect.set_defaults(run=_connect)
    whoami = commands.add_parser("whoami", help="say who you are, and where")
    whoami.add_argument("--json", action="store_true")
    whoami.set_defaults(run=_whoami)
    admin = commands.add_parser("admin", help="people, roles, tokens, projects, the check of the store")
    _add_admin(admin.add_subparsers(title="commands", dest="admin_command", metavar="COMMAND", required=True))


def _add_admin(commands: Commands) -> None:
    from kinetrum.cli.data.disk_usage import add_check

    add_check(commands.add_parser("check", help="read every stored file; name and repair what is damaged or missing"))
    people = commands.add_parser("people", help="list everybody")
    people.add_argument("--json", action="store_true")
    people.set_defaults(run=_people)
    person = commands.add_parser("add-person", help="make an account; the password is read from standard input")
    person.add_argument("name", metavar="NAME")
    person.add_argument("--full-name", required=True)
    person.add_argument("--administrator", action="store_true")
    person.set_defaults(run=_add_person)
    password = commands.add_parser("set-password", help="set a password, read from standard input")
    password.add_argument("name", metavar="NAME")
    password.set_defaults(run=_set_password)
    role = commands.add_parser("role", help="give a person a role in a project, or 'none'")
    role.add_argument("person", metavar="PERSON")
    role.add_argument("role", choices=["viewer", "contributor", "approver", "maintainer", "none"])
    role.add_argument("--project")
    role.set_defaults(run=_role)
    project = commands.add_parser("add-project", help="make a project")
    project.add_argument("name", metavar="NAME")
    project.add_argument("--description", default="")
    project.set_defaults(run=_add_project)
    token = commands.add_parser("token", help="make a client token and print it, this once")
    token.add_argument("name", metavar="NAME", help="what it is for, such as 'laptop' or 'deploy'")
    token.add_argument("--person", help="for somebody else; takes an administrator")
    token.set_defaults(run=_token)
    revoke = commands.add_parser("revoke-token", help="revoke tokens by name")
    revoke.add_argument("name", metavar="NAME")
    revoke.add_argument("--person")
    revoke.set_defaults(run=_revoke)


def _secret_from_input(what: str) -> str:
    if sys.stdin.isatty():
        import getpass

        return getpass.getpass(f"{what}: ")
    text = sys.stdin.readline().rstrip("\n")
    if not text:
        raise InvalidInput(f"The {what.lower()} is read from standard input; nothing came.")
    return text


def _connect(arguments: argparse.Namespace) -> int:
    from kinetrum.client.transport import connection
    from kinetrum.client.transport.http import Service, path_of
    from kinetrum.client.transport.sign_in import token_by_sign_in
    from kinetrum.client.transport.trust import check_ca

    url = connection.check_url(arguments.url)
    entry = connection.saved()["connections"].get(url, {})
    known, ca = entry.get("token"), check_ca(arguments.ca) if arguments.ca else entry.get("ca")
    token = arguments.token or os.environ.get("KINETRUM_TOKEN") or known
    if token == "-":
        token = _secret_from_input("Token")
    if not token:
        name = input("Name: ") if sys.stdin.isatty() else sys.stdin.readline().strip()
        token = token_by_sign_in(url, name, _secret_from_input("Password"), ca)
    service = Service(url, token, ca=ca)
    try:
        me = service.get("/session")
        if arguments.project:
            service.get(path_of("projects", arguments.project))
    finally:
        service.close()
    before = connection.save(url, token, arguments.project, ca=ca)
    print(f"Connected to {url} as {me['full_name']}." + (f" Before: {before}" if before else ""))
    tell_waiting(url)
    return 0


def tell_waiting(url: str) -> None:
    """Say what was recorded before this service was known and goes there now."""
    from kinetrum.client.transport.session import told_waiting

    waiting = told_waiting(url)
    if waiting:
        output.note(f"{waiting} that waited here go there now; see 'kinetrum spool'.")


def _session(project: str | None = None) -> Session:
    from kinetrum.client.transport.session import open_session

    return open_session(project, wait=False)


def _whoami(arguments: argparse.Namespace) -> int:
    session = _session()
    me = session.service.get("/session") or {}
    if not me:
        raise NotSignedIn(f"No token is known for {session.connection.url}; 'kinetrum connect' gets one.")
    projects = session.service.get("/projects")
    data = {
        "name": me["name"],
        "full_name": me["full_name"],
        "administrator": me["is_admin"],
        "url": session.connection.url,
        "project": session.project,
        "roles": {project["name"]: project["role"] for project in projects},
    }
    if arguments.json:
        output.print_json(data)
        return 0
    print(f"{data['full_name']} ({data['name']}{', administrator' if data['administrator'] else ''}) at {data['url']}")
    print(f"Project: {data['project']}")
    output.print_table(["project", "your role"], [[name, role] for name, role in data["roles"].items()])
    return 0


def _people(arguments: argparse.Namespace) -> int:
    people = _session().service.get("/people")
    if arguments.json:
        output.print_json(people)
    else:
        rows = [[p["name"], p["full_name"], "administrator" if p["is_admin"] else ""] for p in people]
        output.print_table(["name", "full name", ""], rows)
    return 0


def _add_person(arguments: argparse.Namespace) -> int:
    body = {
        "name": arguments.name,
        "full_name": arguments.full_name,
        "password": _secret_from_input("Password"),
        "is_admin": arguments.administrator,
    }
    _session().service.call("POST", "/people", json=body)
    print(
        f"{arguments.full_name} can sign in as {arguments.name}; give a role with "
        f"'kinetrum admin role {arguments.name} ROLE'."
    )
    return 0


def _set_password(arguments: argparse.Namespace) -> int:
    from kinetrum.client.transport.http import path_of

    body = {"password": _secret_from_input("Password")}
    _session().service.call("PUT", path_of("people", arguments.name, "password"), json=body)
    print(f"The password of {arguments.name} is set; open sessions have ended.")
    return 0


def _role(arguments: argparse.Namespace) -> int:
    from kinetrum.client.transport.http import path_of

    session = _session(arguments.project)
    path = path_of("projects", session.project, "members", arguments.person)
    if arguments.role == "none":
        session.service.remove(path)
        print(f"{arguments.person} has no role in {session.project} now.")
    else:
        session.service.call("PUT", path, json={"role": arguments.role})
        print(f"{arguments.person} is {arguments.role} in {session.project}.")
    return 0


def _add_project(arguments: argparse.Namespace) -> int:
    _session().service.call("POST", "/projects", json={"name": arguments.name, "description": arguments.description})
    print(f"Made the project {arguments.name}.")
    return 0


def _token(arguments: argparse.Namespace) -> int:
    made = _session().service.call("POST", "/tokens", json={"name": arguments.name, "person": arguments.person})
    output.note(f"Token {arguments.name}, shown this once; keep it like a password:")
    print(made["secret"])
    return 0


def _revoke(arguments: argparse.Namespace) -> int:
    from kinetrum.client.transport.http import path_of

    _session().service.remove(path_of("tokens", arguments.name), person=arguments.person or None)
    print(f"Revoked {arguments.name}.")
    return 0
