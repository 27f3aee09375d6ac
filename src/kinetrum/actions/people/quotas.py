"""Quotas: once a project has taken what it may, more is refused with the figure and whom to ask.

The sender keeps what is refused in its spool and tries again, so that nothing of a training is lost: there is room
again after midnight (UTC), after a purge, or with a larger quota. Bytes never pass their quota. The batch of points
that passes that of the day is taken whole: refused, it would be larger than the quota on the next day too.
"""

from __future__ import annotations

from kinetrum.actions.context import Actor, enter
from kinetrum.actions.people.accounts import require_administrator
from kinetrum.core.base.errors import InvalidInput, OverQuota
from kinetrum.storage.data import disk_usage
from kinetrum.storage.db.database import snapshot, transaction
from kinetrum.storage.people import journal, projects, quotas
from kinetrum.storage.people.quotas import Quota

# What the columns hold.
_MOST = {"size_bytes": 2**62, "runs_a_day": 2**32 - 1, "points_a_day": 2**62}
_ASK = "Ask a maintainer to purge what is not needed, or an administrator of the instance for more."


@transaction
def set_quota(actor: Actor, project: str, quota: Quota) -> Quota:
    """Bound what a project may take; for administrators. None bounds nothing."""
    place = enter(actor, project)
    require_administrator(actor)
    for name, value in vars(quota).items():
        if value is not None and not 0 <= value <= _MOST[name]:
            raise InvalidInput(f"A quota is a whole number from 0 to {_MOST[name]:,}, not {value:,}.", field=name)
    before = quotas.quota_of(place.project_id) or Quota()
    if before != quota:
        quotas.set_quota(place.project_id, quota)
        change = journal.Change(vars(before), vars(quota))
        journal.append(
            place.project_id, actor.person_id, "changed the quota", place.project.name, change, source=actor.source
        )
    return quota


def spend(project_id: int, runs: int = 0, points: int = 0) -> None:
    """Count runs and points against a project's day, inside a transaction that takes them; raises OverQuota."""
    quota = quotas.quota_of(project_id)
    if quota is None or (quota.runs_a_day is None and quota.points_a_day is None):
        return
    runs_today, points_today = quotas.count(project_id, runs, points)
    name = projects.project_by_id(project_id).name
    for what, count, bound, more in (
        ("runs", runs_today, quota.runs_a_day, runs),
        ("points", points_today, quota.points_a_day, points),
    ):
        if more and bound is not None and count - more >= bound:
            bounded = f"{bound:,} {what if bound != 1 else what[:-1]} a day"
            raise OverQuota(
                f"{name} may record {bounded} and has {count - more:,}; "
                f"there is room again after midnight (UTC). {_ASK}"
            )


@snapshot
def room_for_bytes(project_id: int) -> int | None:
    """Return how many more bytes a project may store, None where that is not bounded."""
    quota = quotas.quota_of(project_id)
    if quota is None or quota.size_bytes is None:
        return None
    return max(0, quota.size_bytes - disk_usage.stored_in_project(project_id)[1])


def check_stored(project_id: int) -> None:
    """Raise OverQuota where a project stores more than it may, inside the transaction that stored something."""
    quota = quotas.quota_of(project_id)
    if quota is None or quota.size_bytes is None:
        return
    # One after the other: of two uploads at once, the later one counts the earlier.
    project = projects.lock_project(project_id)
    if disk_usage.stored_in_project(project_id)[1] > quota.size_bytes:
        raise over_bytes(project.name, quota.size_bytes)


@snapshot
def refusal_of_bytes(project_id: int) -> OverQuota:
    """Return the error for bytes beyond a project's quota."""
    quota = quotas.quota_of(project_id) or Quota()
    return over_bytes(projects.project_by_id(project_id).name, quota.size_bytes or 0)


def over_bytes(project: str, size_bytes: int) -> OverQuota:
    """Say that a project's bytes are used up."""
    return OverQuota(f"{project} may store {size_bytes:,} bytes, and this would be more. {_ASK}")
