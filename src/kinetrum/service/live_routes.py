"""The stream of live changes (Server-Sent Events)."""

from __future__ import annotations

from collections.abc import AsyncIterator
from datetime import datetime
from typing import Annotated

from fastapi import APIRouter, Depends, Header, Request
from fastapi.sse import EventSourceResponse, ServerSentEvent
from starlette.concurrency import run_in_threadpool

from kinetrum.actions import looking
from kinetrum.core.errors import InvalidInput, KinetrumError
from kinetrum.service.access import SignedIn
from kinetrum.service.live import Broker

router = APIRouter(tags=["live"])


def _moment(cursor: str | None) -> datetime | None:
    if not cursor:
        return None
    try:
        return datetime.fromisoformat(cursor.removesuffix("Z"))
    except ValueError:
        raise InvalidInput(f"{cursor!r} was not given out here as an event's id.", field="Last-Event-ID") from None


async def _allowed(actor: SignedIn, project: str, last_event_id: Annotated[str | None, Header()] = None) -> None:
    _moment(last_event_id)
    await run_in_threadpool(looking.read_project, actor, project)


@router.get("/projects/{project}/events", response_class=EventSourceResponse, dependencies=[Depends(_allowed)])
async def follow_project(
    actor: SignedIn, project: str, request: Request, last_event_id: Annotated[str | None, Header()] = None
) -> AsyncIterator[ServerSentEvent]:
    """Follow a project's changes; `Last-Event-ID` resumes after an event. Events may repeat, none is missed."""
    broker: Broker = request.app.state.broker
    yield ServerSentEvent(comment="following", retry=1000)
    async for told in broker.subscribe(project, _moment(last_event_id)):
        if told is None:
            try:
                await run_in_threadpool(looking.read_project, actor, project)
            except KinetrumError:
                return
            yield ServerSentEvent(comment="still here")
            continue
        change = told.change
        data = {key: value for key, value in vars(change).items() if value is not None}
        yield ServerSentEvent(id=told.cursor, event="change", data=data)
