"""`admin add-project`, `admin project`, `admin quota`, and deleting projects in two acts."""

from __future__ import annotations

import argparse

from kinetrum.cli import output
from kinetrum.cli.data.quotas import quota_lines
from kinetrum.cli.output import moment
from kinetrum.cli.parser import Commands
from kinetrum.cli.people.accounts import open_service
from kinetrum.core.base.errors import InvalidInput

_UNITS = {"": 1, "B": 1, "kB": 10**3, "MB": 10**6, "GB": 10**9, "TB": 10**12}


def add_projects(commands: Commands) -> None:
    """Add these commands."""
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


def _add_project(arguments: argparse.Namespace) -> int:
    body = {"name": arguments.name, "description": arguments.description, "is_open": arguments.is_open}
    open_service().call("POST", "/projects", json=body)
    print(f"Made the project {arguments.name}.")
    return 0


def _project(arguments: argparse.Namespace) -> int:
    from kinetrum.client.transport.http import path_of

    service, path = open_service(), path_of("projects", arguments.name, "settings")
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

    service = open_service()
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


def _delete_project(arguments: argparse.Namespace) -> int:
    from kinetrum.client.transport.http import path_of

    path = path_of("projects", arguments.name, "deletion")
    open_service().call("POST", path, json={"confirmed": arguments.confirm})
    print(f"{arguments.name} is deleted: nobody sees it. An administrator can restore it, or remove it for good.")
    return 0


def _deleted_projects(arguments: argparse.Namespace) -> int:
    deleted = open_service().get("/deleted-projects")
    if arguments.json:
        output.print_json(deleted)
    elif deleted:
        output.print_table(["project", "deleted"], [[one["name"], moment(one["deleted_at"])] for one in deleted])
    else:
        print("There are none.")
    return 0


def _restore_project(arguments: argparse.Namespace) -> int:
    from kinetrum.client.transport.http import path_of

    open_service().call("POST", path_of("deleted-projects", arguments.name, "restoration"))
    print(f"{arguments.name} is back as it was.")
    return 0


def _remove_project(arguments: argparse.Namespace) -> int:
    from kinetrum.client.transport.http import path_of

    path = path_of("deleted-projects", arguments.name, "removal")
    done = open_service().call("POST", path, json={"confirmed": arguments.confirm})
    print(
        f"{arguments.name} is gone: {done['runs']:,} runs and {done['versions']:,} versions, "
        f"{output.size_text(done['freed_bytes'])} freed."
    )
    return 0
