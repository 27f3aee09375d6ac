"""Routes for what one comes to see first."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Annotated

from fastapi import Query

from kinetrum.actions.people import today
from kinetrum.actions.people.today import SeenRun
from kinetrum.core.base.errors import InvalidInput
from kinetrum.core.base.values import to_json
from kinetrum.service.http.access import SignedIn
from kinetrum.service.http.routers import make_router
from kinetrum.service.presenters import shapes
from kinetrum.wire import people as wire

router = make_router(tags=["today"])


def _seen(one: SeenRun) -> wire.SeenRun:
    run = one.run
    return wire.SeenRun(
        project=run.project,
        reference=run.reference,
        experiment=run.experiment,
        number=run.number,
        name=run.name,
        status=run.status,
        author=one.author,
        started_at=run.started_at,
        ended_at=run.ended_at,
        goal=one.goal,
        value=to_json(one.value),
        is_best=one.is_best,
        progress=shapes.progress(one.doc.progress),
        expected_end=one.expected_end,
        expected_by="progress" if one.expected_by == "progress" else "earlier runs" if one.expected_by else None,
        look=today.needs_a_look(one) if run.status != "running" else None,
    )


@router.post("/visits", status_code=204)
def note_visit(actor: SignedIn) -> None:
    """Note that one is here. After an absence of over an hour another visit begins."""
    today.note_visit(actor)


@router.get("/today")
def read_today(
    actor: SignedIn,
    since: Annotated[datetime | None, Query(description="From when on; the end of the last visit without it.")] = None,
) -> wire.Today:
    """Read what is running, what ended since the last visit, what waits for one's review, what changed stage."""
    try:
        begin = since.astimezone(UTC).replace(tzinfo=None) if since and since.tzinfo else since
    except OverflowError:
        raise InvalidInput("since lies outside the calendar in UTC.", field="since") from None
    view = today.read_today(actor, begin)
    return wire.Today(
        at=view.at,
        since=view.since,
        first_visit=view.first_visit,
        running=[_seen(one) for one in view.running],
        ended=[_seen(one) for one in view.ended],
        ended_more=view.ended_more,
        waiting=view.waiting,
        stage_changes=view.stage_changes,
        troubles=view.troubles,
        notes=view.notes,
    )
