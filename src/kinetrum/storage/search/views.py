"""Saved views, and links that show one to people without an account."""

from __future__ import annotations

import hashlib
import json
import secrets
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from peewee import JOIN, ModelSelect, Node

from kinetrum.storage.db.clock import now
from kinetrum.storage.db.database import records
from kinetrum.storage.tables.people import Experiment, Person, Project
from kinetrum.storage.tables.search import SavedView, ViewLink

LINK_PREFIX = "kv_"


@dataclass(frozen=True)
class ViewRow:
    """A saved arrangement; without an experiment it is of a whole project."""

    view_id: int
    uid: bytes
    project_id: int
    experiment: str | None
    name: str
    shared: bool
    author_id: int
    author: str
    arrangement: dict[str, Any]
    version: int
    saved_at: datetime


@dataclass(frozen=True)
class LinkRow:
    """A read-only link; its secret is stored nowhere, only its SHA-256 is."""

    link_id: int
    project_id: int
    project: str
    experiment: str
    arrangement: dict[str, Any]
    author_id: int
    author: str
    made_at: datetime
    expires_at: datetime
    revoked_at: datetime | None


def _views(*conditions: Node) -> ModelSelect[SavedView]:
    return (
        SavedView.select(
            SavedView.view_id,
            SavedView.uid,
            SavedView.project_id,
            Experiment.name.alias("experiment"),
            SavedView.name,
            SavedView.shared,
            SavedView.author_id,
            Person.full_name.alias("author"),
            SavedView.arrangement,
            SavedView.version,
            SavedView.saved_at,
        )
        .join(Person, on=Person.person_id == SavedView.author_id)
        .join(Experiment, JOIN.LEFT_OUTER, on=Experiment.experiment_id == SavedView.experiment_id, src=SavedView)
        .where(*conditions)
    )


def views_of(project_id: int, person_id: int, experiment_id: int | None) -> list[ViewRow]:
    """Return one's own views and the shared ones of a project, of one experiment or of all."""
    views = _views(SavedView.project_id == project_id, SavedView.shared | (SavedView.author_id == person_id))
    if experiment_id is not None:
        views = views.where(SavedView.experiment_id == experiment_id)
    return records(views.order_by(SavedView.shared, SavedView.name, SavedView.view_id), ViewRow, arrangement=json.loads)


def view_by_uid(uid: bytes) -> ViewRow | None:
    """Return a view by its id, locked until the transaction ends."""
    return next(iter(records(_views(SavedView.uid == uid).for_update(), ViewRow, arrangement=json.loads)), None)


@dataclass(frozen=True)
class ViewChange:
    """A view as it shall be."""

    experiment_id: int | None
    name: str
    shared: bool
    author_id: int
    arrangement: dict[str, Any]
    version: int


def save_view(
    uid: bytes,
    project_id: int,
    change: ViewChange,
) -> None:
    """Insert a view, or change the one of that id."""
    changes = {
        "name": change.name,
        "shared": change.shared,
        "arrangement": json.dumps(change.arrangement),
        "saved_at": now(),
    }
    if change.version == 1:
        SavedView.insert(
            uid=uid,
            project_id=project_id,
            experiment_id=change.experiment_id,
            author_id=change.author_id,
            version=1,
            **changes,
        ).execute()
    else:
        SavedView.update(version=change.version, **changes).where(SavedView.uid == uid).execute()


def count_views(project_id: int, person_id: int) -> int:
    """Count the views that somebody saved in a project."""
    theirs = (SavedView.project_id == project_id) & (SavedView.author_id == person_id)
    return int(SavedView.select().where(theirs).count())


def remove_view(view_id: int) -> None:
    """Remove a view."""
    SavedView.delete().where(SavedView.view_id == view_id).execute()


def _digest(secret: str) -> bytes:
    return hashlib.sha256(secret.encode()).digest()


def add_link(
    project_id: int, experiment_id: int, arrangement: dict[str, Any], author_id: int, days: int
) -> tuple[int, str]:
    """Make a link; returns its id and its secret."""
    secret, made_at = LINK_PREFIX + secrets.token_urlsafe(24), now()
    link_id = ViewLink.insert(
        secret_sha256=_digest(secret),
        project_id=project_id,
        experiment_id=experiment_id,
        arrangement=json.dumps(arrangement),
        author_id=author_id,
        made_at=made_at,
        expires_at=made_at + timedelta(days=days),
    ).execute()
    return int(link_id), secret


def _links(*conditions: Node) -> list[LinkRow]:
    rows = (
        ViewLink.select(
            ViewLink.link_id,
            ViewLink.project_id,
            Project.name.alias("project"),
            Experiment.name.alias("experiment"),
            ViewLink.arrangement,
            ViewLink.author_id,
            Person.full_name.alias("author"),
            ViewLink.made_at,
            ViewLink.expires_at,
            ViewLink.revoked_at,
        )
        .join(Person, on=Person.person_id == ViewLink.author_id)
        .join(Project, on=Project.project_id == ViewLink.project_id, src=ViewLink)
        .join(Experiment, on=Experiment.experiment_id == ViewLink.experiment_id, src=ViewLink)
        .where(*conditions)
        .order_by(ViewLink.link_id.desc())
    )
    return records(rows, LinkRow, arrangement=json.loads)


def _open() -> Node:
    return ViewLink.revoked_at.is_null() & (ViewLink.expires_at > now())


def link_of_secret(secret: str) -> LinkRow | None:
    """Return the link that a secret opens, unless it expired or was revoked."""
    return next(iter(_links(ViewLink.secret_sha256 == _digest(secret), _open())), None)


def links_of(project_id: int) -> list[LinkRow]:
    """Return the links of a project that can still be opened, the newest first."""
    return _links(ViewLink.project_id == project_id, _open())


def link_by_id(link_id: int) -> LinkRow | None:
    """Return a link by its number."""
    return next(iter(_links(ViewLink.link_id == link_id)), None)


def revoke_link(link_id: int) -> None:
    """Let a link open nothing any more."""
    valid = (ViewLink.link_id == link_id) & ViewLink.revoked_at.is_null()
    ViewLink.update(revoked_at=now()).where(valid).execute()
