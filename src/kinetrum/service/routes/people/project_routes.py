"""Routes for projects, their settings, members and groups."""

from __future__ import annotations

from fastapi import Request

from kinetrum.actions.data import project_removal
from kinetrum.actions.people import projects, quotas
from kinetrum.actions.people.projects import Settings
from kinetrum.actions.runs import readers
from kinetrum.service.http.access import SignedIn
from kinetrum.service.http.routers import make_router
from kinetrum.service.http.store import store_of
from kinetrum.service.presenters import shapes
from kinetrum.storage.people.quotas import Quota
from kinetrum.wire import people as wire

router = make_router(tags=["projects"])


@router.get("/projects")
def list_projects(actor: SignedIn) -> list[wire.Project]:
    """List the projects that one may see."""
    return [shapes.project(view) for view in readers.list_projects(actor)]


@router.post("/projects", status_code=201)
def make_project(actor: SignedIn, body: wire.NewProject) -> wire.Project:
    """Make a project; for administrators."""
    projects.make_project(actor, body.name, body.description, body.is_open)
    return shapes.project(readers.read_project(actor, body.name))


@router.get("/projects/{project}")
def read_project(actor: SignedIn, project: str) -> wire.Project:
    """Read one project."""
    return shapes.project(readers.read_project(actor, project))


@router.get("/projects/{project}/members")
def list_members(actor: SignedIn, project: str) -> list[wire.Member]:
    """List a project's members and their roles."""
    members = readers.list_members(actor, project)
    return [wire.Member(name=name, full_name=full_name, role=role) for name, full_name, role in members]


@router.put("/projects/{project}/members/{person}", status_code=204)
def set_role(actor: SignedIn, project: str, person: str, body: wire.NewRole) -> None:
    """Give a person a role in a project; for its maintainers."""
    projects.set_role(actor, project, person, body.role)


@router.delete("/projects/{project}/members/{person}", status_code=204)
def remove_member(actor: SignedIn, project: str, person: str) -> None:
    """Take a person's role away; for the project's maintainers."""
    projects.set_role(actor, project, person, None)


@router.put("/projects/{project}/groups/{group}", status_code=204)
def set_group_role(actor: SignedIn, project: str, group: str, body: wire.NewRole) -> None:
    """Give everybody of a group a role in a project; for its maintainers."""
    projects.set_group_role(actor, project, group, body.role)


@router.delete("/projects/{project}/groups/{group}", status_code=204)
def remove_group(actor: SignedIn, project: str, group: str) -> None:
    """Take a group's role away; for the project's maintainers."""
    projects.set_group_role(actor, project, group, None)


def _settings(settings: Settings) -> wire.ProjectSettings:
    return wire.ProjectSettings(
        name=settings.project.name,
        earlier_names=settings.earlier_names,
        is_open=settings.project.is_open,
        archived_at=settings.project.archived_at,
        members=[wire.Member(name=name, full_name=full, role=role) for name, full, role in settings.members],
        groups=[wire.GroupRole(name=name, role=role) for name, role in settings.groups],
    )


@router.get("/projects/{project}/settings")
def read_settings(actor: SignedIn, project: str) -> wire.ProjectSettings:
    """Read how a project is set, and who is in it; for its maintainers."""
    return _settings(projects.read_settings(actor, project))


@router.patch("/projects/{project}/settings")
def change_settings(actor: SignedIn, project: str, body: wire.ProjectChange) -> wire.ProjectSettings:
    """Open or close a project, archive it, rename it; for its maintainers."""
    return _settings(projects.change_settings(actor, project, body.is_open, body.is_archived, body.name))


@router.post("/projects/{project}/deletion", status_code=204)
def delete_project(actor: SignedIn, project: str, body: wire.Deletion) -> None:
    """Delete a project, the first of two acts: nobody sees it any more. For its maintainers."""
    projects.delete_project(actor, project, body.confirmed)


@router.put("/projects/{project}/quota")
def set_quota(actor: SignedIn, project: str, body: wire.NewQuota) -> Quota:
    """Bound how much a project may take: bytes, and runs and points of a day; for administrators."""
    return quotas.set_quota(actor, project, Quota(body.size_bytes, body.runs_a_day, body.points_a_day))


@router.get("/deleted-projects")
def list_deleted_projects(actor: SignedIn) -> list[wire.DeletedProject]:
    """List the projects that were deleted and can be brought back; for administrators."""
    return [wire.DeletedProject.model_validate(row) for row in projects.list_deleted(actor)]


@router.post("/deleted-projects/{name}/restoration", status_code=204)
def restore_project(actor: SignedIn, name: str) -> None:
    """Bring a deleted project back; for administrators."""
    projects.restore_project(actor, name)


@router.post("/deleted-projects/{name}/removal")
def remove_project(actor: SignedIn, name: str, body: wire.Deletion, request: Request) -> project_removal.Removed:
    """Remove a deleted project for good, the second act: its bytes and records go. For administrators."""
    return project_removal.remove_project(actor, store_of(request), name, body.confirmed)
