"""Routes for the journal: searched, taken along, checked; and for how the instance is."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Annotated

from fastapi import Depends, Query, Request
from fastapi.responses import StreamingResponse
from pydantic import AwareDatetime

from kinetrum.actions.people import instance_state, journal_records
from kinetrum.actions.people.instance_state import InstanceState
from kinetrum.actions.people.journal_records import ChainState, Filters
from kinetrum.core.base.errors import InvalidInput
from kinetrum.core.base.values import check_name
from kinetrum.service.guard.turns import EXPORTS, in_turn
from kinetrum.service.http.access import SignedIn
from kinetrum.service.http.routers import make_router
from kinetrum.service.http.store import store_of
from kinetrum.storage.people.journal import JournalRow

router = make_router(tags=["journal"])
Limit = Annotated[int, Query(ge=1, le=500)]
_JSON_LINES = "application/jsonl"


def _moment(moment: datetime | None, name: str) -> datetime | None:
    if moment is None:
        return None
    try:
        return moment.astimezone(UTC).replace(tzinfo=None)
    except OverflowError:
        raise InvalidInput(f"{moment} is no moment that a journal could have.", field=name) from None


def _filters(
    subject: Annotated[str | None, Query(max_length=400, description="A thing's reference.")] = None,
    before: Annotated[int | None, Query(description="Only entries before this one.")] = None,
    since: Annotated[AwareDatetime | None, Query(description="Only entries from then on.")] = None,
    until: Annotated[AwareDatetime | None, Query(description="Only entries before then.")] = None,
    person: Annotated[str | None, Query(max_length=100, description="Only what this person did: the name.")] = None,
    text: Annotated[str, Query(max_length=200, description="Words in what was done, on what, why, from where.")] = "",
) -> Filters:
    return Filters(subject, before, _moment(since, "since"), _moment(until, "until"), person, text)


Wanted = Annotated[Filters, Depends(_filters)]


def _lines(pieces: object, name: str) -> StreamingResponse:
    headers = {"Content-Disposition": f'attachment; filename="{name}-journal.jsonl"'}
    return StreamingResponse(pieces, media_type=_JSON_LINES, headers=headers)  # type: ignore[arg-type]


@router.get("/projects/{project}/journal")
def read_journal(actor: SignedIn, project: str, wanted: Wanted, limit: Limit = 100) -> list[JournalRow]:
    """Read who changed what, latest first: of one thing for everybody, of the project for its maintainers."""
    if wanted.subject is not None:
        check_name(wanted.subject.split("@")[0].split("/")[0].split(":")[-1], "subject")
    return journal_records.read_journal(actor, project, wanted, limit)


@router.get(
    "/projects/{project}/journal/lines",
    response_class=StreamingResponse,
    responses={200: {"content": {_JSON_LINES: {}}}},
    dependencies=[in_turn(EXPORTS, while_streaming=True)],
)
def export_journal(actor: SignedIn, project: str, wanted: Wanted) -> StreamingResponse:
    """Stream a project's journal as JSON Lines, the earliest entry first; for its maintainers."""
    return _lines(journal_records.export_journal(actor, project, wanted), project)


@router.get("/journal")
def read_whole_journal(actor: SignedIn, wanted: Wanted, limit: Limit = 100) -> list[JournalRow]:
    """Read the journal of all projects and of the instance, latest first; for administrators."""
    return journal_records.read_whole_journal(actor, wanted, limit)


@router.get(
    "/journal/lines",
    response_class=StreamingResponse,
    responses={200: {"content": {_JSON_LINES: {}}}},
    dependencies=[in_turn(EXPORTS, while_streaming=True)],
)
def export_whole_journal(actor: SignedIn, wanted: Wanted) -> StreamingResponse:
    """Stream the whole journal as JSON Lines, the earliest entry first; for administrators."""
    return _lines(journal_records.export_journal(actor, None, wanted), "whole")


@router.get("/instance")
def read_instance(actor: SignedIn, request: Request) -> InstanceState:
    """Read how the instance is: version, processes, database, store, what waits; for administrators."""
    return instance_state.read_state(actor, store_of(request))


@router.get("/journal/chain", dependencies=[in_turn(EXPORTS)])
def check_chain(actor: SignedIn) -> ChainState:
    """Read the journal's whole chain of digests and tell where it breaks; for administrators."""
    return journal_records.check_chain(actor)
