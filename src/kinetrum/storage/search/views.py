"""Saved views, and links that show one to people without an account."""

from __future__ import annotations

import hashlib
import json
import secrets
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from kinetrum.storage.db.clock import now
from kinetrum.storage.db.database import execute, query

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


def _views(rest: str, *values: object) -> list[ViewRow]:
    rows = query(
        "SELECT v.view_id, v.uid, v.project_id, e.name, v.name, v.shared, v.author_id, p.full_name, v.arrangement,"
        " v.version, v.saved_at FROM saved_view v JOIN person p ON p.person_id = v.author_id"
        f" LEFT JOIN experiment e ON e.experiment_id = v.experiment_id {rest}",
        *values,
    )
    return [
        ViewRow(
            row[0], row[1], row[2], row[3], row[4], bool(row[5]), row[6], row[7], json.loads(row[8]), row[9], row[10]
        )
        for row in rows
    ]


def views_of(project_id: int, person_id: int, experiment_id: int | None) -> list[ViewRow]:
    """Return one's own views and the shared ones of a project, of one experiment or of all."""
    where, values = "", [project_id, person_id]
    if experiment_id is not None:
        where, values = " AND v.experiment_id = %s", [*values, experiment_id]
    return _views(
        f"WHERE v.project_id = %s AND (v.shared OR v.author_id = %s){where} ORDER BY v.shared, v.name, v.view_id",
        *values,
    )


def view_by_uid(uid: bytes) -> ViewRow | None:
    """Return a view by its id, locked until the transaction ends."""
    found = _views("WHERE v.uid = %s FOR UPDATE", uid)
    return found[0] if found else None


def save_view(
    uid: bytes,
    project_id: int,
    experiment_id: int | None,
    name: str,
    shared: bool,
    author_id: int,
    arrangement: dict[str, Any],
    version: int,
) -> None:
    """Insert a view, or change the one of that id."""
    held = json.dumps(arrangement)
    if version == 1:
        execute(
            "INSERT INTO saved_view (uid, project_id, experiment_id, name, shared, author_id, arrangement, version,"
            " saved_at) VALUES (%s, %s, %s, %s, %s, %s, %s, 1, %s)",
            uid,
            project_id,
            experiment_id,
            name,
            shared,
            author_id,
            held,
            now(),
        )
    else:
        execute(
            "UPDATE saved_view SET name = %s, shared = %s, arrangement = %s, version = %s, saved_at = %s"
            " WHERE uid = %s",
            name,
            shared,
            held,
            version,
            now(),
            uid,
        )


def count_views(project_id: int, person_id: int) -> int:
    """Count the views that somebody saved in a project."""
    ((found,),) = query(
        "SELECT COUNT(*) FROM saved_view WHERE project_id = %s AND author_id = %s", project_id, person_id
    )
    return int(found)


def remove_view(view_id: int) -> None:
    """Remove a view."""
    execute("DELETE FROM saved_view WHERE view_id = %s", view_id)


def _digest(secret: str) -> bytes:
    return hashlib.sha256(secret.encode()).digest()


def add_link(
    project_id: int, experiment_id: int, arrangement: dict[str, Any], author_id: int, days: int
) -> tuple[int, str]:
    """Make a link; returns its id and its secret."""
    secret, made_at = LINK_PREFIX + secrets.token_urlsafe(24), now()
    execute(
        "INSERT INTO view_link (secret_sha256, project_id, experiment_id, arrangement, author_id, made_at, expires_at)"
        " VALUES (%s, %s, %s, %s, %s, %s, %s)",
        _digest(secret),
        project_id,
        experiment_id,
        json.dumps(arrangement),
        author_id,
        made_at,
        made_at + timedelta(days=days),
    )
    ((link_id,),) = query("SELECT link_id FROM view_link WHERE secret_sha256 = %s", _digest(secret))
    return int(link_id), secret


def _links(rest: str, *values: object) -> list[LinkRow]:
    rows = query(
        "SELECT l.link_id, l.project_id, j.name, e.name, l.arrangement, l.author_id, p.full_name, l.made_at,"
        " l.expires_at, l.revoked_at FROM view_link l JOIN person p ON p.person_id = l.author_id"
        " JOIN project j ON j.project_id = l.project_id"
        f" JOIN experiment e ON e.experiment_id = l.experiment_id {rest}",
        *values,
    )
    return [
        LinkRow(row[0], row[1], row[2], row[3], json.loads(row[4]), row[5], row[6], row[7], row[8], row[9])
        for row in rows
    ]


def link_of_secret(secret: str) -> LinkRow | None:
    """Return the link that a secret opens, unless it expired or was revoked."""
    found = _links("WHERE l.secret_sha256 = %s AND l.revoked_at IS NULL AND l.expires_at > %s", _digest(secret), now())
    return found[0] if found else None


def links_of(project_id: int) -> list[LinkRow]:
    """Return the links of a project that can still be opened, the newest first."""
    return _links(
        "WHERE l.project_id = %s AND l.revoked_at IS NULL AND l.expires_at > %s ORDER BY l.link_id DESC",
        project_id,
        now(),
    )


def link_by_id(link_id: int) -> LinkRow | None:
    """Return a link by its number."""
    found = _links("WHERE l.link_id = %s", link_id)
    return found[0] if found else None


def revoke_link(link_id: int) -> None:
    """Let a link open nothing any more."""
    execute("UPDATE view_link SET revoked_at = %s WHERE link_id = %s AND revoked_at IS NULL", now(), link_id)
