"""The streams of live changes (Server-Sent Events)."""

from __future__ import annotations

from collections.abc import AsyncIterator
from typing import Annotated

from fastapi import Depends, Header, Request
from fastapi.sse import EventSourceResponse, ServerSentEvent
from starlette.concurrency import run_in_threadpool

from kinetrum.actions.live import change_feed
from kinetrum.core.base.errors import InvalidInput, Unavailable
from kinetrum.service.http.access import SignedIn, credential_of, signed_in
from kinetrum.service.http.routers import make_router
from kinetrum.service.live.broker import Broker

router = make_router(tags=["live"])
Cursor = Annotated[str | None, Header(alias="Last-Event-ID", max_length=20)]


def _stamp(cursor: str | None) -> int | None:
    if not cursor:
        return None
    if not (cursor.isascii() and cursor.isdigit()):
        raise InvalidInput(f"{cursor!r} was not given out here as an event's id.", field="Last-Event-ID")
    return int(cursor)


def _check_room(request: Request, actor: SignedIn) -> None:
    broker: Broker = request.app.state.broker
    if not broker.has_room_for(actor.person_id):
        raise Unavailable("Too many streams of changes are open; close some, or read anew from time to time.")


async def _allowed(request: Request, actor: SignedIn, project: str, last_event_id: Cursor = None) -> None:
    _stamp(last_event_id)
    _check_room(request, actor)
    await run_in_threadpool(change_feed.visible_projects, actor, project)


async def _readable(request: Request, actor: SignedIn, last_event_id: Cursor = None) -> None:
    _stamp(last_event_id)
    _check_room(request, actor)


async def _follow(
    request: Request, actor: SignedIn, project: str | None, cursor: str | None
) -> AsyncIterator[ServerSentEvent]:
    broker: Broker = request.app.state.broker

    def visible() -> frozenset[int]:
        # Asked anew each time: a token may have been revoked meanwhile, a session have ended.
        return change_feed.visible_projects(signed_in(request), project)

    with broker.counted(actor.person_id):
        yield ServerSentEvent(comment="following", retry=1000)
        async for event in broker.subscribe(visible, _stamp(cursor), credential_of(request)):
            yield event


@router.get("/projects/{project}/events", response_class=EventSourceResponse, dependencies=[Depends(_allowed)])
async def follow_project(
    actor: SignedIn, project: str, request: Request, last_event_id: Cursor = None
) -> AsyncIterator[ServerSentEvent]:
    """Follow a project's changes; `Last-Event-ID` resumes behind an event. None is missed.

    `change` tells of a run (its record, its `output`, its `resources`) or an entry of the `journal`; of several
    changes of one run in a moment the last is told. `pace` says how long to gather changes before reading anew.
    `reset` comes where the cursor is over a day old: what is shown has to be read anew.
    """
    async for event in _follow(request, actor, project, last_event_id):
        yield event


@router.get("/events", response_class=EventSourceResponse, dependencies=[Depends(_readable)])
async def follow_all(actor: SignedIn, request: Request, last_event_id: Cursor = None) -> AsyncIterator[ServerSentEvent]:
    """Follow the changes of every project that one may see, as they are at each moment."""
    async for event in _follow(request, actor, None, last_event_id):
        yield event
