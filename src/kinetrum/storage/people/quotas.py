"""How much projects may take, and what they took of that today."""

from __future__ import annotations

from dataclasses import dataclass

from kinetrum.storage.db.clock import now
from kinetrum.storage.tables.people import ProjectDay, ProjectQuota


@dataclass(frozen=True)
class Quota:
    """How much a project may take; None does not bound it. Days begin at midnight, UTC."""

    size_bytes: int | None = None
    runs_a_day: int | None = None
    points_a_day: int | None = None


def quota_of(project_id: int) -> Quota | None:
    """Return a project's quota, None where nothing of it is bounded."""
    row = ProjectQuota.get_or_none(ProjectQuota.project_id == project_id)
    return Quota(row.bytes, row.runs_a_day, row.points_a_day) if row else None


def set_quota(project_id: int, quota: Quota) -> None:
    """Bound what a project may take, or with a quota of nothing bound it no more."""
    if quota == Quota():
        ProjectQuota.delete().where(ProjectQuota.project_id == project_id).execute()
        return
    ProjectQuota.replace(
        project_id=project_id,
        bytes=quota.size_bytes,
        runs_a_day=quota.runs_a_day,
        points_a_day=quota.points_a_day,
    ).execute()


def today(project_id: int) -> tuple[int, int]:
    """Return how many runs a project began today, and how many points came; counted since it has a quota."""
    row = ProjectDay.get_or_none(ProjectDay.project_id == project_id, ProjectDay.day == now().date())
    return (int(row.runs), int(row.points)) if row else (0, 0)


def count(project_id: int, runs: int, points: int) -> tuple[int, int]:
    """Count runs and points of today; returns how many there are now. Who counts at the same time waits."""
    ProjectDay.insert(project_id=project_id, day=now().date(), runs=runs, points=points).on_conflict(
        update={ProjectDay.runs: ProjectDay.runs + runs, ProjectDay.points: ProjectDay.points + points}
    ).execute()
    return today(project_id)
