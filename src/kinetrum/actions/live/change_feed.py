"""Watching: what changed, in the order in which it was committed, and what of it one may see."""

from __future__ import annotations

from datetime import timedelta

from kinetrum.actions import context
from kinetrum.actions.context import Actor, enter
from kinetrum.storage.db.database import snapshot, transaction
from kinetrum.storage.live import events
from kinetrum.storage.live.events import Event

READ_AT_ONCE = 1_000
KEPT = timedelta(hours=24)
# Acts after which somebody may see more or less than before.
ACCESS_ACTS = frozenset({"changed a role", "made the project", "revoked a token", "set a password"})


@transaction
def put_in_order() -> int:
    """Give what was committed since its place in the order of events; returns how many events that were."""
    return events.stamp()


@snapshot
def events_after(after: int) -> list[Event]:
    """Return up to 1,000 events behind a place in the order."""
    return events.events_after(after, READ_AT_ONCE)


@snapshot
def present() -> int:
    """Return the place that was given last."""
    return events.last_stamp()


@snapshot
def is_gone(after: int) -> bool:
    """Tell whether events behind this place were forgotten already, or the place was never given."""
    return after + 1 < events.first_stamp() or after > events.last_stamp()


@transaction
def forget_old() -> int:
    """Delete events that are over a day old; returns how many."""
    return events.forget_events(KEPT)


@snapshot
def visible_projects(actor: Actor, wanted: str | None) -> frozenset[int]:
    """Return the ids of the projects whose events the actor may see: of the wanted one, else of all.

    Raises NotFound where the wanted one may not be seen.
    """
    if wanted is not None:
        return frozenset({enter(actor, wanted).project_id})
    return frozenset(one.project.project_id for one in context.visible_projects(actor))
