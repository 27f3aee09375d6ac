"""The ladders of models, the stays of versions on stages, and the timeline of what changed there."""

from __future__ import annotations

import json
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from peewee import Field

from kinetrum.core.base.permissions import Role
from kinetrum.core.registry.ladder import Stack, Stage, Stay
from kinetrum.storage.db.clock import iso, now
from kinetrum.storage.db.database import insert_rows, named_rows
from kinetrum.storage.tables.people import Person
from kinetrum.storage.tables.registry import (
    StageEvent,
    StageRow,
    StageStay,
)


@dataclass(frozen=True)
class EventRow:
    """One change of a stage's occupant."""

    uid: bytes
    act: str
    stage: str
    before: int | None
    after: int | None
    person: str
    comment: str
    at: datetime
    checks: list[dict[str, Any]] | None
    override_reason: str | None
    imported_from: str | None


def stages_of_versions(model_id: int) -> dict[int, list[str]]:
    """Return the stages on which versions of a model stand now, by version number."""
    stages: dict[int, list[str]] = {}
    for stage, stack in stacks_of(model_id).items():
        if stack:
            stages.setdefault(stack[-1].number, []).append(stage)
    return stages


def insert_ladder(model_id: int, ladder: tuple[Stage, ...]) -> None:
    """Insert the stages of a model that has none."""
    fields: list[Field[Any]] = [
        StageRow.model_id,
        StageRow.position,
        StageRow.name,
        StageRow.asks_approved,
        StageRow.least_role,
        StageRow.placers,
    ]
    rows = [
        (model_id, at, stage.name, stage.asks_approved, stage.least_role, json.dumps(stage.placers))
        for at, stage in enumerate(ladder)
    ]
    insert_rows(StageRow, fields, rows)


def set_ladder(model_id: int, ladder: tuple[Stage, ...]) -> None:
    """Put a ladder in the place of the one that a model has."""
    StageRow.delete().where(StageRow.model_id == model_id).execute()
    insert_ladder(model_id, ladder)


def ladder_of(model_id: int) -> tuple[Stage, ...]:
    """Return a model's stages from the lowest to the highest."""
    rows = StageRow.select().where(StageRow.model_id == model_id).order_by(StageRow.position)
    return tuple(
        Stage(row.name, bool(row.asks_approved), Role(row.least_role), tuple(json.loads(row.placers))) for row in rows
    )


def stacks_of(model_id: int) -> dict[str, Stack]:
    """Return the stack of every stage that was ever placed on and not emptied since."""
    stacks: dict[str, list[Stay]] = {}
    rows = (
        StageStay.select(
            StageStay.stage, StageStay.number, StageStay.placed_at, StageStay.approvals_asked, Person.full_name
        )
        .join(Person, on=(Person.person_id == StageStay.placed_by))
        .where(StageStay.model_id == model_id)
        .order_by(StageStay.stage, StageStay.depth)
    )
    for row in named_rows(rows):
        stay = Stay(row.number, row.full_name, iso(row.placed_at) or "", row.approvals_asked)
        stacks.setdefault(row.stage, []).append(stay)
    return {stage: tuple(stays) for stage, stays in stacks.items()}


def push_stay(model_id: int, stage: str, depth: int, number: int, person_id: int, approvals_asked: int) -> None:
    """Put a version on top of a stage's stack, with how many approvals the stage takes now (0: none)."""
    StageStay.insert(
        model_id=model_id,
        stage=stage,
        depth=depth,
        number=number,
        placed_by=person_id,
        placed_at=now(),
        approvals_asked=approvals_asked,
    ).execute()


def cut_stack(model_id: int, stage: str, height: int) -> None:
    """Keep the lowest `height` stays of a stage."""
    above = (StageStay.model_id == model_id) & (StageStay.stage == stage) & (StageStay.depth >= height)
    StageStay.delete().where(above).execute()


@dataclass(frozen=True)
class NewEvent:
    """A change of a stage's occupant, with the outcome of every gate that was asked."""

    uid: bytes
    act: str
    stage: str
    before: int | None
    after: int | None
    person_id: int
    comment: str
    checks: list[dict[str, Any]] | None = None
    override_reason: str | None = None


def add_event(
    model_id: int,
    event: NewEvent,
) -> None:
    """Add to the timeline of stages, with the outcome of every gate that was asked."""
    StageEvent.insert(
        model_id=model_id,
        uid=event.uid,
        act=event.act,
        stage=event.stage,
        before_number=event.before,
        after_number=event.after,
        person_id=event.person_id,
        comment=event.comment,
        at=now(),
        checks=None if event.checks is None else json.dumps(event.checks),
        override_reason=event.override_reason,
    ).execute()


def event_by_uid(uid: bytes) -> tuple[int, str, str, int | None] | None:
    """Return (model id, act, stage, after) of the event with that client-made id."""
    event = StageEvent.get_or_none(StageEvent.uid == uid)
    return (event.model_id, event.act, event.stage, event.after_number) if event else None


def events_of(model_id: int) -> list[EventRow]:
    """Return the timeline of a model's stages, the earliest first."""
    rows = (
        StageEvent.select(StageEvent, Person.full_name)
        .join(Person, on=(Person.person_id == StageEvent.person_id))
        .where(StageEvent.model_id == model_id)
        .order_by(StageEvent.event_id)
    )
    return [
        EventRow(
            row.uid,
            row.act,
            row.stage,
            row.before_number,
            row.after_number,
            row.full_name,
            row.comment,
            row.at,
            json.loads(row.checks) if row.checks else None,
            row.override_reason,
            row.imported_from,
        )
        for row in named_rows(rows)
    ]
