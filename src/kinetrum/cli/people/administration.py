"""`admin`: people, tokens, projects, the journal, the check of what is stored."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

from kinetrum.cli import output
from kinetrum.cli.output import moment
from kinetrum.cli.parser import Commands
from kinetrum.cli.people.accounts import secret_from_input, words_of
from kinetrum.core.base.errors import InvalidInput

if TYPE_CHECKING:
    from kinetrum.client.transport.session import Session

_ROLES = ["viewer", "contributor", "approver", "maintainer", "none"]
_SCOPES = "read, record, register, review, place, report, administer"


def add_commands(commands: Commands) -> None:
    """Add this group to the parser."""
    admin = commands.add_parser("admin", help="people, tokens, projects, the journal, the check of what is stored")
    inner = admin.add_subparsers(title="commands", dest="admin_command", metavar="COMMAND", required=True)
    _add_people(inner)
    _add_tokens(inner)
    _add_projects(inner)
    _add_journal(inner)


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


def _add_tokens(commands: Commands) -> None:
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


def _add_projects(commands: Commands) -> None:
    project = commands.add_parser("add-project", help="make a project")
    project.add_argument("name", metavar="NAME")
    project.add_argument("--description", default="")
    project.add_argument("--open", dest="is_open", action="store_true", help="everybody with an account may read it")
    project.set_defaults(run=_add_project)
    change = commands.add_parser("project", help="show a project's settings, or change them")
    change.add_argument("name", metavar="NAME")
    change.add_argument("--json", action="store_true")
    sight = change.add_mutually_exclusive_group()
    sight.add_argument("--open", dest="is_open", action="store_const", const=True, help="everybody may read it")
    sight.add_argument("--closed", dest="is_open", action="store_const", const=False, help="members only")
    archive = change.add_mutually_exclusive_group()
    archive.add_argument(
        "--archive", dest="is_archived", action="store_const", const=True, help="read only from now on"
    )
    archive.add_argument(
        "--unarchive", dest="is_archived", action="store_const", const=False, help="out of the archive"
    )
    change.add_argument("--rename", metavar="NEW", help="the old name goes on leading to it")
    change.set_defaults(run=_project)
    quota = commands.add_parser("quota", help="bound how much a project may take; without an option, show it")
    quota.add_argument("name", metavar="PROJECT")
    quota.add_argument("--bytes", metavar="SIZE", help="stored in all: 500MB, 20GB, none")
    quota.add_argument("--runs-a-day", metavar="N", help="begun from midnight to midnight, UTC; or none")
    quota.add_argument("--points-a-day", metavar="N", help="of metrics, from midnight to midnight, UTC; or none")
    quota.set_defaults(run=_quota)
    delete = commands.add_parser("delete-project", help="delete a project: nobody sees it any more (first of two acts)")
    delete.add_argument("name", metavar="NAME")
    delete.add_argument("--confirm", metavar="NAME", required=True, help="the name once more")
    delete.set_defaults(run=_delete_project)
    deleted = commands.add_parser("deleted-projects", help="list deleted projects")
    deleted.add_argument("--json", action="store_true")
    deleted.set_defaults(run=_deleted_projects)
    restore = commands.add_parser("restore-project", help="bring a deleted project back")
    restore.add_argument("name", metavar="NAME")
    restore.set_defaults(run=_restore_project)
    remove = commands.add_parser("remove-project", help="remove a deleted project for good (second of two acts)")
    remove.add_argument("name", metavar="NAME")
    remove.add_argument("--confirm", metavar="NAME", required=True, help="the name once more")
    remove.set_defaults(run=_remove_project)


def _add_journal(commands: Commands) -> None:
    from kinetrum.cli.data.disk_usage import add_check

    journal = commands.add_parser("journal", help="who did what: of the instance, or of --project; latest first")
    journal.add_argument("words", nargs="*", metavar="WORD", help="only entries in which all of these stand")
    journal.add_argument("--project", help="of this project only")
    journal.add_argument("--person", help="only what this person did")
    journal.add_argument("--since", metavar="MOMENT", help="2026-11-02 or 2026-11-02T08:00:00Z")
    journal.add_argument("--until", metavar="MOMENT", help="before then")
    journal.add_argument("--limit", type=int, default=50, help="how many: 50 without it")
    journal.add_argument("--json", action="store_true")
    journal.add_argument("-o", "--output", metavar="FILE", help="write all that fit there, as JSON Lines; - for here")
    journal.set_defaults(run=_journal)
    add_check(commands.add_parser("check", help="read every stored file and the journal's chain; name what is wrong"))


def _session(project: str | None = None) -> Session:
    from kinetrum.client.transport.session import open_session

    return open_session(project, wait=False)


def _people(arguments: argparse.Namespace) -> int:
    people = _session().service.get("/people")
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
    return _session().service.call("POST", "/people", json=body)


def _invite(arguments: argparse.Namespace) -> int:
    from kinetrum.client.transport.http import path_of

    if bool(arguments.role) != bool(arguments.project):
        raise InvalidInput("A role is in a project: give both --role and --project, or neither.", field="role")
    made = _new_person(arguments, None)
    if arguments.role:
        path = path_of("projects", arguments.project, "members", arguments.name)
        _session().service.call("PUT", path, json={"role": arguments.role})
    output.note(f"{arguments.full_name} chooses a password here, once, until {moment(made['invited_until'])}:")
    print(made["link"])
    return 0


def _link(arguments: argparse.Namespace) -> int:
    from kinetrum.client.transport.http import path_of

    made = _session().service.call("POST", path_of("people", arguments.name, "links"))
    output.note(f"{arguments.name} chooses a password here, once, until {moment(made['expires_at'])}:")
    print(made["link"])
    return 0


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
    _session().service.call("PUT", path_of("people", arguments.name, "password"), json=body)
    print(f"The password of {arguments.name} is set; their sessions and tokens have ended.")
    return 0


def _change(name: str, **fields: object) -> Any:
    from kinetrum.client.transport.http import path_of

    return _session().service.call("PATCH", path_of("people", name), json=fields)


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


def _whose(arguments: argparse.Namespace, *more: str) -> tuple[str, dict[str, str]]:
    """Return where the tokens are that are meant, and the parameters that say whose."""
    from kinetrum.client.transport.http import path_of

    if arguments.machine_of:
        return path_of("projects", arguments.machine_of, "tokens", *more), {}
    return path_of("tokens", *more), {"person": arguments.person} if arguments.person else {}


def _tokens(arguments: argparse.Namespace) -> int:
    path, params = _whose(arguments)
    tokens = _session().service.get(path, **params)
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
    made = _session().service.call("POST", path, json=body)
    end = f"until {moment(made['expires_at'])}" if made["expires_at"] else "without an end"
    output.note(f"Token {made['name']} ({', '.join(made['scopes'])}; {end}), shown this once; keep it like a password:")
    print(made["secret"])
    return 0


def _revoke(arguments: argparse.Namespace) -> int:
    path, params = _whose(arguments, arguments.name)
    _session().service.remove(path, **params)
    print(f"Revoked {arguments.name}.")
    return 0


def _add_project(arguments: argparse.Namespace) -> int:
    body = {"name": arguments.name, "description": arguments.description, "is_open": arguments.is_open}
    _session().service.call("POST", "/projects", json=body)
    print(f"Made the project {arguments.name}.")
    return 0


def _project(arguments: argparse.Namespace) -> int:
    from kinetrum.client.transport.http import path_of

    service, path = _session().service, path_of("projects", arguments.name, "settings")
    changes = {"is_open": arguments.is_open, "is_archived": arguments.is_archived, "name": arguments.rename}
    changes = {key: value for key, value in changes.items() if value is not None}
    settings = service.call("PATCH", path, json=changes) if changes else service.get(path)
    if arguments.json:
        output.print_json(settings)
        return 0
    state = "open: everybody with an account may read it" if settings["is_open"] else "closed: members only"
    archived = f"; archived since {moment(settings['archived_at'])}" if settings["archived_at"] else ""
    print(f"{settings['name']} is {state}{archived}.")
    if settings["earlier_names"]:
        print(f"Earlier names, which lead to it: {', '.join(settings['earlier_names'])}")
    rows = [[one["name"], one["full_name"], one["role"]] for one in settings["members"]]
    rows += [[f"group:{one['name']}", "everybody of the group", one["role"]] for one in settings["groups"]]
    output.print_table(["member", "", "role"], rows)
    return 0


_UNITS = {"": 1, "B": 1, "kB": 10**3, "MB": 10**6, "GB": 10**9, "TB": 10**12}


def _number_of(text: str, field: str) -> int | None:
    """Return a number with or without a unit, None for `none`."""
    if text == "none":
        return None
    digits = text.rstrip("BGMTk")
    unit = text[len(digits) :]
    try:
        if unit in _UNITS and (unit == "" or field == "bytes"):
            return int(float(digits.replace(",", "")) * _UNITS[unit])
    except ValueError:
        pass
    example = "500MB, 20GB" if field == "bytes" else "1000"
    raise InvalidInput(f"{text!r} is not a quota; write a number such as {example}, or none.", field=field)


def _quota(arguments: argparse.Namespace) -> int:
    from kinetrum.client.transport.http import path_of

    service = _session().service
    usage = service.get(path_of("projects", arguments.name, "storage"))
    quota = dict(usage["quota"])
    wanted = (
        ("size_bytes", arguments.bytes),
        ("runs_a_day", arguments.runs_a_day),
        ("points_a_day", arguments.points_a_day),
    )
    if any(text is not None for _, text in wanted):
        for field, text in wanted:
            if text is not None:
                quota[field] = _number_of(text, "bytes" if field == "size_bytes" else field)
        quota = service.call("PUT", path_of("projects", arguments.name, "quota"), json=quota)
    print("\n".join(quota_lines(quota, usage)) or f"{arguments.name} may take what there is.")
    return 0


def quota_lines(quota: Mapping[str, Any], usage: Mapping[str, Any]) -> list[str]:
    """Say how much of its quota a project has taken, a line for each bound."""
    lines = []
    if quota["size_bytes"] is not None:
        taken = output.size_text(usage["size_bytes"])
        lines.append(f"Stored: {taken} of {output.size_text(quota['size_bytes'])}.")
    for what, bound in (("runs", quota["runs_a_day"]), ("points", quota["points_a_day"])):
        if bound is not None:
            lines.append(f"{what.capitalize()} today: {usage[f'{what}_today']:,} of {bound:,}.")
    return lines


def _delete_project(arguments: argparse.Namespace) -> int:
    from kinetrum.client.transport.http import path_of

    path = path_of("projects", arguments.name, "deletion")
    _session().service.call("POST", path, json={"confirmed": arguments.confirm})
    print(f"{arguments.name} is deleted: nobody sees it. An administrator can restore it, or remove it for good.")
    return 0


def _deleted_projects(arguments: argparse.Namespace) -> int:
    deleted = _session().service.get("/deleted-projects")
    if arguments.json:
        output.print_json(deleted)
    elif deleted:
        output.print_table(["project", "deleted"], [[one["name"], moment(one["deleted_at"])] for one in deleted])
    else:
        print("There are none.")
    return 0


def _restore_project(arguments: argparse.Namespace) -> int:
    from kinetrum.client.transport.http import path_of

    _session().service.call("POST", path_of("deleted-projects", arguments.name, "restoration"))
    print(f"{arguments.name} is back as it was.")
    return 0


def _remove_project(arguments: argparse.Namespace) -> int:
    from kinetrum.client.transport.http import path_of

    path = path_of("deleted-projects", arguments.name, "removal")
    done = _session().service.call("POST", path, json={"confirmed": arguments.confirm})
    print(
        f"{arguments.name} is gone: {done['runs']:,} runs and {done['versions']:,} versions, "
        f"{output.size_text(done['freed_bytes'])} freed."
    )
    return 0


def _journal(arguments: argparse.Namespace) -> int:
    from kinetrum.client.transport.http import path_of

    session = _session()
    path = path_of("projects", arguments.project, "journal") if arguments.project else "/journal"
    wanted = {
        "text": " ".join(arguments.words),
        "person": arguments.person,
        "since": _moment(arguments.since),
        "until": _moment(arguments.until),
    }
    wanted = {key: value for key, value in wanted.items() if value}
    if arguments.output:
        return _write_lines(session, f"{path}/lines", wanted, arguments.output)
    entries = session.service.get(path, limit=arguments.limit, **wanted)
    if arguments.json:
        output.print_json(entries)
        return 0
    if not entries:
        print("Nothing fits.")
        return 0
    rows = [
        [
            moment(one["at"]),
            one["person"] or "",
            one["act"],
            one["subject"],
            *([] if arguments.project else [one["project"] or ""]),
            one["token"],
            one["origin"],
        ]
        for one in entries
    ]
    heads = ["when", "who", "act", "what", *([] if arguments.project else ["project"]), "by token", "from"]
    output.print_table(heads, rows, keep=4)
    return 0


def _moment(text: str | None) -> str | None:
    """Return a moment as the interface takes it; a day begins at midnight, UTC."""
    if text is None:
        return None
    from datetime import UTC, datetime

    try:
        parsed = datetime.fromisoformat(text)
    except ValueError:
        raise InvalidInput(f"{text!r} is no moment; write 2026-11-02 or 2026-11-02T08:00:00Z.", field="since") from None
    return (parsed if parsed.tzinfo else parsed.replace(tzinfo=UTC)).isoformat()


def _write_lines(session: Session, path: str, wanted: dict[str, str | None], to: str) -> int:
    from kinetrum.cli.terminal import write_data
    from kinetrum.client.reading.table_export import save_stream

    with session.service.stream(path, wanted) as response:
        if to == "-":
            write_data(response.iter_bytes())
        else:
            size = save_stream(response.iter_bytes(), to)
            output.note(f"{to}: {size:,} bytes.")
    sys.stdout.flush()
    return 0
