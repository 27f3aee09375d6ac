"""`connect`, `whoami`, `account`: who one is, and one's own account."""

from __future__ import annotations

import argparse
import contextlib
import os
import sys
from typing import TYPE_CHECKING

from kinetrum.cli import output
from kinetrum.cli.output import moment
from kinetrum.cli.parser import Commands
from kinetrum.core.base.errors import InvalidInput, NotAllowed, NotSignedIn

if TYPE_CHECKING:
    from kinetrum.client.transport.http import Service
    from kinetrum.client.transport.session import Session


def add_commands(commands: Commands) -> None:
    """Add this group to the parser."""
    connect = commands.add_parser("connect", help="save a connection to a service, and a token for it")
    connect.add_argument("url", metavar="URL")
    connect.add_argument("--token", help="a client token; '-' reads it from standard input; without it you sign in")
    connect.add_argument("--project", help="the project that references without one mean")
    connect.add_argument(
        "--scopes",
        help="what the token is for, between commas: read, record, register, review, place, report, administer",
    )
    connect.add_argument("--days", type=int, default=90, help="how long the token lasts: 90 without it")
    connect.add_argument("--ca", metavar="FILE", help="certificates (PEM) to trust there, besides the system's")
    connect.set_defaults(run=_connect)
    whoami = commands.add_parser("whoami", help="say who you are, and where")
    whoami.add_argument("--json", action="store_true")
    whoami.set_defaults(run=_whoami)
    account = commands.add_parser("account", help="your own account: name, password, sessions")
    account.add_argument("--json", action="store_true")
    account.add_argument("--full-name", help="call yourself so from now on")
    account.add_argument("--time-zone", metavar="ZONE", help="of the IANA database, such as Europe/Vienna; '' for none")
    account.add_argument("--theme", choices=["light", "dark", "system"], help="how the console looks")
    account.add_argument("--password", action="store_true", help="choose a new password; the lines are old, new")
    account.add_argument("--revoke-tokens", action="store_true", help="with --password: and revoke all your tokens")
    account.add_argument("--end-sessions", action="store_true", help="end all your sessions in consoles")
    account.set_defaults(run=_account)


def secret_from_input(what: str) -> str:
    """Return a secret that is typed unseen on a terminal, or is the next line of the input."""
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
        token = secret_from_input("Token")
    if not token:
        name = input("Name: ") if sys.stdin.isatty() else sys.stdin.readline().strip()
        token = token_by_sign_in(url, name, secret_from_input("Password"), _wanted_token(arguments), ca)
    service = Service(url, token, ca=ca)
    try:
        me = service.get("/session")
        if arguments.project:
            # A token that only records cannot look.
            with contextlib.suppress(NotAllowed):
                service.get(path_of("projects", arguments.project))
    finally:
        service.close()
    before = connection.save(url, token, arguments.project, ca=ca)
    print(f"Connected to {url} as {me['full_name']}." + (f" Before: {before}" if before else ""))
    tell_waiting(url)
    return 0


def _wanted_token(arguments: argparse.Namespace) -> dict[str, object]:
    """Return what the token of a connection is to be for: everything but administering, where nothing is said."""
    return {"scopes": words_of(arguments.scopes), "days": arguments.days}


def words_of(text: str | None) -> list[str] | None:
    """Return the words between commas; None for nothing."""
    return None if text is None else [word.strip() for word in text.split(",") if word.strip()]


def tell_waiting(url: str) -> None:
    """Say what was recorded before this service was known and goes there now."""
    from kinetrum.client.transport.session import told_waiting

    waiting = told_waiting(url)
    if waiting:
        output.note(f"{waiting} that waited here go there now; see 'kinetrum spool'.")


def _session(project: str | None = None) -> Session:
    from kinetrum.client.transport.session import open_session

    return open_session(project, wait=False)


def open_service() -> Service:
    """Return the service, for what needs no project and waits for nothing."""
    return _session().service


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


def _account(arguments: argparse.Namespace) -> int:
    session = _session()
    changes = {
        "full_name": arguments.full_name,
        "time_zone": arguments.time_zone,
        "theme": "" if arguments.theme == "system" else arguments.theme,
    }
    changes = {key: value for key, value in changes.items() if value is not None}
    own = session.service.get("/account")
    if changes or arguments.password or arguments.end_sessions:
        return _change_account(session, own["name"], arguments, changes)
    sessions = session.service.get("/account/sessions")
    if arguments.json:
        output.print_json({**own, "open_sessions": sessions})
        return 0
    print(f"{own['full_name']} ({own['name']}{', administrator' if own['is_admin'] else ''})")
    facts = [
        ("time zone", own["time_zone"]),
        ("theme", own["theme"]),
        ("mail", own["mail"]),
        ("groups", ", ".join(own["groups"])),
    ]
    for name, value in facts:
        if value:
            print(f"{name}: {value}")
    if sessions:
        output.print_section("Sessions")
        rows = [
            [
                moment(one["seen_at"]) or "unknown",
                moment(one["opened_at"]) or "unknown",
                output.short(one["origin"], 60),
            ]
            for one in sessions
        ]
        output.print_table(["last seen", "opened", "from"], rows)
    return 0


def _change_account(session: Session, name: str, arguments: argparse.Namespace, changes: dict[str, str]) -> int:
    """Change one's own account, which takes the password: a token, which may have been found, is not enough."""
    from kinetrum.client.transport.sign_in import open_own_session

    password = secret_from_input("Password")
    with open_own_session(str(session.connection.url), name, password) as call:
        if changes:
            call("PATCH", "/account", changes)
            print("Changed.")
        if arguments.password:
            body = {
                "current": password,
                "password": secret_from_input("New password"),
                "revoke_tokens": arguments.revoke_tokens,
            }
            call("PUT", "/account/password", body)
            left = "and all tokens are revoked" if arguments.revoke_tokens else "tokens go on"
            print(f"The password is changed; other sessions have ended, {left}.")
        if arguments.end_sessions:
            call("DELETE", "/account/sessions", None)
            print("All other sessions have ended.")
    return 0
