"""Secrets of projects, as they are sealed; what they are is known only to who has the key."""

from __future__ import annotations

from dataclasses import dataclass

from kinetrum.storage.db.clock import Moment, now
from kinetrum.storage.db.database import named_rows
from kinetrum.storage.tables.people import Person, ProjectSecret


@dataclass(frozen=True)
class SecretRow:
    """A secret without what it is: its name, when it was set, and by whom."""

    name: str
    set_at: Moment
    set_by: str


def secrets_of(project_id: int) -> list[SecretRow]:
    """Return a project's secrets, by name."""
    rows = (
        ProjectSecret.select(ProjectSecret.name, ProjectSecret.set_at, Person.full_name)
        .join(Person, on=(Person.person_id == ProjectSecret.set_by))
        .where(ProjectSecret.project_id == project_id)
        .order_by(ProjectSecret.name)
    )
    return [SecretRow(row.name, row.set_at, row.full_name) for row in named_rows(rows)]


def sealed_secret(project_id: int, name: str) -> bytes | None:
    """Return a secret as it is sealed, None where there is none of that name."""
    row = ProjectSecret.get_or_none(ProjectSecret.project_id == project_id, ProjectSecret.name == name)
    return bytes(row.sealed) if row else None


def set_secret(project_id: int, name: str, sealed: bytes, person_id: int) -> None:
    """Keep a sealed secret, in place of the one of before."""
    ProjectSecret.replace(project_id=project_id, name=name, sealed=sealed, set_at=now(), set_by=person_id).execute()


def remove_secret(project_id: int, name: str) -> bool:
    """Forget a secret; tells whether there was one."""
    asked = (ProjectSecret.project_id == project_id) & (ProjectSecret.name == name)
    return bool(ProjectSecret.delete().where(asked).execute())


def remove_secrets_of(project_id: int) -> None:
    """Forget all secrets of a project."""
    ProjectSecret.delete().where(ProjectSecret.project_id == project_id).execute()


def every_sealed() -> list[tuple[int, str, bytes]]:
    """Return (project, name, sealed) of all secrets; those who read them may change them, nobody else meanwhile."""
    rows = ProjectSecret.select().order_by(ProjectSecret.project_id, ProjectSecret.name).for_update()
    return [(row.project_id, row.name, bytes(row.sealed)) for row in rows]


def seal_anew(project_id: int, name: str, sealed: bytes) -> None:
    """Put a secret that was sealed with an earlier key in place of itself; when and by whom it was set stays."""
    asked = (ProjectSecret.project_id == project_id) & (ProjectSecret.name == name)
    ProjectSecret.update(sealed=sealed).where(asked).execute()
