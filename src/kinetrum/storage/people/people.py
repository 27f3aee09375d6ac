"""People and machines, and their roles in projects."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from peewee import Expression

from kinetrum.core.base.permissions import Role, highest
from kinetrum.storage.db.clock import now
from kinetrum.storage.db.database import lock_rows, named_rows
from kinetrum.storage.tables.people import GroupRole, Member, Person, PersonGroup, Project


@dataclass(frozen=True)
class PersonRow:
    """One person as stored; `password_hash` is an argon2id hash, empty where there is no password.

    `machine_of` is the project whose machine this is, None of a person. `subject` is who it is where people sign in.
    """

    person_id: int
    name: str
    full_name: str
    password_hash: str
    is_admin: bool
    created_at: datetime
    deactivated_at: datetime | None
    subject: str | None
    mail: str
    time_zone: str
    theme: str
    machine_of: int | None


def person_row(person: Any) -> PersonRow:
    """Return a person as stored."""
    return PersonRow(
        person.person_id,
        person.name,
        person.full_name,
        person.password_hash,
        bool(person.is_admin),
        person.created_at,
        person.deactivated_at,
        person.subject,
        person.mail,
        person.time_zone,
        person.theme,
        person.machine_of,
    )


def _one(where: Expression) -> PersonRow | None:
    person = Person.get_or_none(where)
    return person_row(person) if person else None


def person_named(name: str) -> PersonRow | None:
    """Return the person with that sign-in name; machines have none."""
    return _one((Person.name == name) & Person.machine_of.is_null())


def is_name_taken(name: str) -> bool:
    """Tell whether anybody, or any machine, has that name."""
    return Person.select().where(Person.name == name).exists()


def free_name(wanted: str) -> str:
    """Return a name that nobody has, the wanted one or one with a number; two who ask at once may get the same."""
    if not is_name_taken(wanted):
        return wanted
    return next(name for at in range(2, 10_000) if not is_name_taken(name := f"{wanted[:90]}-{at}"))


def lock_person(person_id: int) -> None:
    """Let others who lock this person wait until the transaction ends."""
    lock_rows(Person.select(Person.person_id).where(Person.person_id == person_id))


def person_by_id(person_id: int) -> PersonRow:
    """Return a person or machine by id."""
    return person_row(Person.get_by_id(person_id))


def person_of_subject(subject: str) -> PersonRow | None:
    """Return whom somebody is who signed in elsewhere."""
    return _one(Person.subject == subject)


def people() -> list[PersonRow]:
    """Return everybody, by name; machines are not people."""
    return [person_row(person) for person in Person.select().where(Person.machine_of.is_null()).order_by(Person.name)]


def machines_of(project_id: int) -> list[PersonRow]:
    """Return the machines of a project, by name."""
    return [person_row(one) for one in Person.select().where(Person.machine_of == project_id).order_by(Person.name)]


def full_names() -> dict[int, str]:
    """Return the full name by person id."""
    return {row.person_id: row.full_name for row in Person.select(Person.person_id, Person.full_name)}


def add_person(name: str, full_name: str, password_hash: str, is_admin: bool, **fields: Any) -> int:
    """Insert a person and return the new id; `fields` are columns that are not as usual, such as `machine_of`."""
    plain = {"mail": "", "time_zone": "", "theme": ""}
    return int(
        Person.insert(
            name=name,
            full_name=full_name,
            password_hash=password_hash,
            is_admin=is_admin,
            created_at=now(),
            **(plain | fields),
        ).execute()
    )


def set_person(person_id: int, **fields: Any) -> None:
    """Change columns of a person."""
    Person.update(**fields).where(Person.person_id == person_id).execute()


def active_administrators() -> list[int]:
    """Return the administrators who can sign in; they stay so until the transaction ends."""
    rows = Person.select(Person.person_id).where(Person.is_admin, Person.deactivated_at.is_null())
    return [row.person_id for row in lock_rows(rows.order_by(Person.person_id))]


def set_groups(person_id: int, groups: Collection[str]) -> None:
    """Say of which groups a person is, and of no other."""
    PersonGroup.delete().where(PersonGroup.person_id == person_id, PersonGroup.name.not_in(list(groups))).execute()
    if groups:
        rows = [{"person_id": person_id, "name": name} for name in sorted(groups)]
        PersonGroup.insert_many(rows).on_conflict_ignore().execute()


def groups_of(person_id: int) -> list[str]:
    """Return the groups that a person is of, by name."""
    rows = PersonGroup.select().where(PersonGroup.person_id == person_id).order_by(PersonGroup.name)
    return [row.name for row in rows]


def groups() -> dict[str, int]:
    """Return the names of all groups with how many people each has; none for one that only has roles."""
    counts = {row.name: 0 for row in GroupRole.select(GroupRole.name).distinct()}
    for row in PersonGroup.select(PersonGroup.name):
        counts[row.name] = counts.get(row.name, 0) + 1
    return dict(sorted(counts.items()))


def _roles_by_group(person_id: int) -> Any:
    return (
        GroupRole.select(GroupRole.project_id, GroupRole.role)
        .join(PersonGroup, on=(PersonGroup.name == GroupRole.name))
        .where(PersonGroup.person_id == person_id)
    )


def own_role_in(project_id: int, person_id: int) -> Role | None:
    """Return the role that was given to the person in a project, apart from groups and from its being open."""
    member = Member.get_or_none((Member.project_id == project_id) & (Member.person_id == person_id))
    return Role(member.role) if member else None


def role_in(project_id: int, person_id: int) -> Role | None:
    """Return the highest role that a person has in a project: their own, by a group, or because it is open."""
    own = own_role_in(project_id, person_id)
    by_group = [Role(row.role) for row in named_rows(_roles_by_group(person_id)) if row.project_id == project_id]
    open_to_all = Project.is_open & Person.machine_of.is_null()
    everybodys = (
        Project.select(Project.project_id)
        .join(Person, on=(Person.person_id == person_id))
        .where(Project.project_id == project_id, open_to_all)
    )
    roles = [*by_group, *([own] if own else [])]
    if not roles:
        return Role.VIEWER if everybodys.exists() else None
    return highest(roles)


def project_ids_of(person_id: int) -> frozenset[int]:
    """Return the projects that a person sees: as a member, by a group, and those that are open."""
    members = Member.select(Member.project_id).where(Member.person_id == person_id)
    ids = {int(row.project_id) for rows in (members, _roles_by_group(person_id)) for row in named_rows(rows)}
    # Not those that were deleted, which nobody is told of.
    here = Project.select(Project.project_id).where(Project.project_id.in_(list(ids)), Project.deleted_at.is_null())
    ids = {int(row.project_id) for row in named_rows(here)} if ids else set()
    if Person.select().where(Person.person_id == person_id, Person.machine_of.is_null()).exists():
        ids |= {int(row.project_id) for row in open_ones()}
    return frozenset(ids)


def open_ones() -> list[Any]:
    """Return the ids of the projects that everybody sees."""
    return named_rows(Project.select(Project.project_id).where(Project.is_open, Project.deleted_at.is_null()))


def set_role(project_id: int, person_id: int, role: Role | None) -> None:
    """Give, change or (None) take away a role."""
    if role is None:
        Member.delete().where((Member.project_id == project_id) & (Member.person_id == person_id)).execute()
    else:
        Member.replace(project_id=project_id, person_id=person_id, role=role.value).execute()


def members(project_id: int) -> list[tuple[str, str, Role]]:
    """Return (name, full name, highest role) of the people who are members of a project, also by a group."""
    by_group = (
        Person.select(Person.name, Person.full_name, GroupRole.role)
        .join(PersonGroup, on=(PersonGroup.person_id == Person.person_id))
        .join(GroupRole, on=(GroupRole.name == PersonGroup.name))
        .where(GroupRole.project_id == project_id, Person.deactivated_at.is_null())
    )
    roles = {(name, full_name): role for name, full_name, role in own_members(project_id)}
    for row in named_rows(by_group):
        key, role = (row.name, row.full_name), Role(row.role)
        roles[key] = highest([role, roles.get(key, role)])
    return [(name, full_name, role) for (name, full_name), role in sorted(roles.items())]


def own_members(project_id: int) -> list[tuple[str, str, Role]]:
    """Return (name, full name, role) of the people who were given a role in a project and can sign in."""
    rows = (
        Member.select(Person.name, Person.full_name, Member.role)
        .join(Person, on=(Person.person_id == Member.person_id))
        .where(Member.project_id == project_id, Person.machine_of.is_null(), Person.deactivated_at.is_null())
        .order_by(Person.name)
    )
    return [(row.name, row.full_name, Role(row.role)) for row in named_rows(rows)]


def set_group_role(project_id: int, name: str, role: Role | None) -> None:
    """Give, change or (None) take away the role of a group."""
    if role is None:
        GroupRole.delete().where(GroupRole.project_id == project_id, GroupRole.name == name).execute()
    else:
        GroupRole.replace(project_id=project_id, name=name, role=role.value).execute()


def group_roles(project_id: int) -> list[tuple[str, Role]]:
    """Return (group, role) of the groups that have one in a project."""
    rows = GroupRole.select().where(GroupRole.project_id == project_id).order_by(GroupRole.name)
    return [(row.name, Role(row.role)) for row in rows]
