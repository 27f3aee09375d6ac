"""Projects as such: made, opened, renamed, archived, deleted; who has which role in them."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass

from kinetrum.actions.context import Actor, Place, enter
from kinetrum.actions.people.accounts import person_of, require_administrator
from kinetrum.core.base.errors import Conflict, InvalidInput, NotFound
from kinetrum.core.base.names import RESERVED_FOR_PAGES
from kinetrum.core.base.permissions import Act, Role
from kinetrum.core.base.values import check_name
from kinetrum.storage.db.clock import now
from kinetrum.storage.db.database import transaction
from kinetrum.storage.people import journal, people, projects
from kinetrum.storage.people.people import PersonRow
from kinetrum.storage.people.projects import ProjectRow


def _check_free(name: str) -> None:
    if check_name(name, "project") in RESERVED_FOR_PAGES:
        raise InvalidInput(f"{name!r} is an address of the console and cannot name a project.", field="name")
    if not projects.is_name_free(name):
        raise Conflict(f"There is, or was, a project {name!r} already.", field="name")


@transaction
def make_project(actor: Actor, name: str, description: str = "", is_open: bool = False) -> None:
    """Make a project and become its maintainer; for administrators."""
    require_administrator(actor)
    _check_free(name)
    project_id = projects.add_project(name, description, actor.person_id, is_open)
    people.set_role(project_id, actor.person_id, Role.MAINTAINER)
    journal.append(project_id, actor.person_id, "made the project", name, source=actor.source)


def make_project_on_first_use(actor: Actor, project: str) -> None:
    """Make the project that an administrator names first where something is recorded; others have to have one."""
    if actor.is_admin and not _project_exists(check_name(project, "project")):
        try:
            make_project(actor, project)
        except Conflict:
            return


@transaction
def _project_exists(project: str) -> bool:
    return projects.project_named(project) is not None


def _role(role: str | None) -> Role | None:
    try:
        return None if role is None else Role(role)
    except ValueError:
        raise InvalidInput(f"Unknown role {role!r}. Choose one of: {', '.join(Role)}.", field="role") from None


@transaction
def set_role(actor: Actor, project: str, person: str, role: str | None) -> None:
    """Give, change or take away (None) a person's role in a project; for its maintainers."""
    place = enter(actor, project, Act.ADMINISTER)
    row = person_of(actor, person)
    wanted = _role(role)
    # Of the last two maintainers who take each other's role away at once, one stays.
    projects.lock_project(place.project_id)
    before = people.own_role_in(place.project_id, row.person_id)
    if before is None and wanted is None:
        _refuse_role_by_group(place, row)
    if before == wanted:
        return
    with _maintainer_stays(place):
        people.set_role(place.project_id, row.person_id, wanted)
    change = journal.Change(before, wanted)
    journal.append(place.project_id, actor.person_id, "changed a role", person, change, source=actor.source)


def _refuse_role_by_group(place: Place, person: PersonRow) -> None:
    groups = {group for group, _ in people.group_roles(place.project_id)} & set(people.groups_of(person.person_id))
    if groups:
        raise Conflict(
            f"{person.full_name} has a role in {place.project.name} as one of the group {min(groups)}; change the role "
            f"of group:{min(groups)}, or take {person.full_name} out of it.",
            field="role",
        )


@contextmanager
def _maintainer_stays(place: Place) -> Iterator[None]:
    """Refuse what is done within where a project with maintainers, by themselves or by a group, has none after it."""
    before = _maintainers(place)
    yield
    if before and not _maintainers(place):
        who = f"{before[0]} is" if len(before) == 1 else f"{', '.join(before)} are"
        raise Conflict(
            f"{who} the last maintainer{'s' if len(before) > 1 else ''} of {place.project.name}; make somebody else a "
            "maintainer first.",
            field="role",
        )


def _maintainers(place: Place) -> list[str]:
    return [full_name for _, full_name, role in people.members(place.project_id) if role is Role.MAINTAINER]


@transaction
def set_group_role(actor: Actor, project: str, group: str, role: str | None) -> None:
    """Give, change or take away (None) the role that everybody of a group has in a project; for its maintainers."""
    place = enter(actor, project, Act.ADMINISTER)
    projects.lock_project(place.project_id)
    before = dict(people.group_roles(place.project_id)).get(check_name(group, "group"))
    wanted = _role(role)
    if before == wanted:
        return
    with _maintainer_stays(place):
        people.set_group_role(place.project_id, group, wanted)
    change = journal.Change(before, wanted)
    journal.append(place.project_id, actor.person_id, "changed a group's role", group, change, source=actor.source)


@dataclass(frozen=True)
class Settings:
    """What a project is set to, and who is in it; `earlier_names` lead to it."""

    project: ProjectRow
    earlier_names: list[str]
    members: list[tuple[str, str, Role]]
    groups: list[tuple[str, Role]]


@transaction
def read_settings(actor: Actor, project: str) -> Settings:
    """Return a project's settings; for its maintainers."""
    return _settings(enter(actor, project, Act.ADMINISTER))


def _settings(place: Place) -> Settings:
    return Settings(
        projects.project_by_id(place.project_id),
        projects.earlier_names_of(place.project_id),
        people.own_members(place.project_id),
        people.group_roles(place.project_id),
    )


@transaction
def change_settings(
    actor: Actor, project: str, is_open: bool | None = None, is_archived: bool | None = None, name: str | None = None
) -> Settings:
    """Open or close a project, put it into the archive or take it out, rename it; for its maintainers.

    Its old name goes on leading to it. None leaves something as it is.
    """
    place = enter(actor, project, Act.ADMINISTER)
    row = projects.lock_project(place.project_id)
    if is_open is not None and is_open != row.is_open:
        projects.set_project(row.project_id, is_open=is_open)
        _note(actor, row, "opened the project" if is_open else "closed the project")
    if is_archived is not None and is_archived != (row.archived_at is not None):
        projects.set_project(row.project_id, archived_at=now() if is_archived else None)
        _note(actor, row, "archived the project" if is_archived else "took the project out of the archive")
    if name is not None and name != row.name:
        if check_name(name, "project") not in projects.earlier_names_of(row.project_id):
            _check_free(name)
        projects.rename_project(row, name)
        _note(actor, row, "renamed the project", journal.Change(row.name, name))
    return _settings(place)


def _note(actor: Actor, row: ProjectRow, act: str, change: journal.Change | None = None) -> None:
    journal.append(row.project_id, actor.person_id, act, row.name, change, source=actor.source)


@transaction
def delete_project(actor: Actor, project: str, confirmed: str) -> None:
    """Delete a project, the first act: nobody sees it any more; an administrator can bring it back, or end it.

    `confirmed` is its name, written once more.
    """
    place = enter(actor, project, Act.ADMINISTER)
    if confirmed != place.project.name:
        raise InvalidInput(
            f"Write the project's name, {place.project.name}, to delete it; {confirmed!r} was written.",
            field="confirmed",
        )
    projects.set_project(place.project_id, deleted_at=now())
    _note(actor, place.project, "deleted the project")


@transaction
def list_deleted(actor: Actor) -> list[ProjectRow]:
    """Return the projects that were deleted and can be brought back; for administrators."""
    require_administrator(actor)
    return projects.deleted_projects()


def deleted_project(name: str) -> ProjectRow:
    """Return the deleted project of a name, its row locked until the transaction ends; raises NotFound without one."""
    row = projects.deleted_project_named(name)
    # Meanwhile somebody else may have brought it back, or removed it.
    if row is None or projects.lock_project(row.project_id) != row:
        raise NotFound(f"There is no deleted project {name!r}.", field="project")
    return row


@transaction
def restore_project(actor: Actor, name: str) -> None:
    """Bring a deleted project back as it was; for administrators."""
    require_administrator(actor)
    row = deleted_project(name)
    projects.set_project(row.project_id, deleted_at=None)
    _note(actor, row, "brought the project back")
