"""When people looked in last, and what happened since."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta

from kinetrum.storage.db.clock import now
from kinetrum.storage.db.database import execute, places, query
from kinetrum.storage.people import notes
from kinetrum.storage.runs.runs import Run, runs_by_ids

# Whoever comes back after a longer pause begins another visit.
PAUSE = timedelta(hours=1)


@dataclass(frozen=True)
class WaitingVersion:
    """A version that waits for a person's review."""

    project: str
    model: str
    number: int
    comment: str
    registered_by: str
    registered_at: datetime
    run: str | None


@dataclass(frozen=True)
class StageChange:
    """A change of a stage's occupant."""

    project: str
    model: str
    act: str
    stage: str
    before: int | None
    after: int | None
    person: str
    at: datetime


@dataclass(frozen=True)
class NewNote:
    """A note, and what it stands on: whether project, experiment, run, artifact or model, and the reference."""

    project: str
    kind: str
    reference: str
    author: str
    text: str
    written_at: datetime


def visit(person_id: int) -> datetime | None:
    """Note that a person is here; returns when the visit before this one ended, None at the first."""
    moment = now()
    execute(
        "INSERT INTO visit (person_id, visited_at, before_at) VALUES (%s, %s, NULL) ON DUPLICATE KEY UPDATE"
        " before_at = IF(visited_at < %s, visited_at, before_at), visited_at = VALUES(visited_at)",
        person_id,
        moment,
        moment - PAUSE,
    )
    return last_visit(person_id)


def last_visit(person_id: int) -> datetime | None:
    """Return when the visit before the present one ended."""
    rows = query("SELECT before_at FROM visit WHERE person_id = %s", person_id)
    return rows[0][0] if rows else None


_LIVE = " FROM run r JOIN experiment e USING (experiment_id) WHERE r.binned_at IS NULL AND e.project_id IN "


def running(project_ids: list[int], limit: int) -> list[Run]:
    """Return running runs of projects, the latest first."""
    if not project_ids:
        return []
    rows = query(
        f"SELECT r.run_id {_LIVE} {places(project_ids)} AND r.status = 'running' ORDER BY r.started_at DESC LIMIT %s",
        *project_ids,
        limit,
    )
    return runs_by_ids([run_id for (run_id,) in rows])


def ended_since(project_ids: list[int], since: datetime, limit: int) -> list[Run]:
    """Return runs of projects that ended after a moment, the latest first."""
    if not project_ids:
        return []
    rows = query(
        f"SELECT r.run_id {_LIVE} {places(project_ids)} AND r.ended_at > %s ORDER BY r.ended_at DESC LIMIT %s",
        *project_ids,
        since,
        limit,
    )
    return runs_by_ids([run_id for (run_id,) in rows])


def seconds_of_earlier(experiment_ids: list[int], each: int = 5) -> dict[int, list[float]]:
    """Return how long the last finished runs of experiments took."""
    if not experiment_ids:
        return {}
    rows = query(
        "SELECT experiment_id, TIMESTAMPDIFF(MICROSECOND, started_at, ended_at) / 1e6 FROM (SELECT experiment_id,"
        " started_at, ended_at, ROW_NUMBER() OVER (PARTITION BY experiment_id ORDER BY ended_at DESC) AS place"
        f" FROM run WHERE status = 'finished' AND binned_at IS NULL AND experiment_id IN {places(experiment_ids)})"
        " latest WHERE place <= %s",
        *experiment_ids,
        each,
    )
    found: dict[int, list[float]] = {}
    for experiment_id, seconds in rows:
        found.setdefault(experiment_id, []).append(float(seconds))
    return found


def waiting_versions(project_ids: list[int], person_id: int, limit: int) -> list[WaitingVersion]:
    """Return versions that wait for this person's review, the earliest first."""
    if not project_ids:
        return []
    rows = query(
        "SELECT p.name, m.name, v.number, v.comment, w.full_name, v.created_at,"
        " (SELECT CONCAT(e.name, '/', r.number) FROM run r JOIN experiment e USING (experiment_id)"
        " WHERE r.run_id = v.run_id) FROM model_version v JOIN model m USING (model_id)"
        " JOIN project p USING (project_id) JOIN person w ON w.person_id = v.created_by"
        f" WHERE m.project_id IN {places(project_ids)} AND m.binned_at IS NULL AND NOT v.retired"
        " AND NOT (m.second_pair AND v.created_by = %s)"
        " AND NOT EXISTS (SELECT 1 FROM verdict d WHERE d.model_id = v.model_id AND d.number = v.number"
        " AND (NOT d.approves OR d.person_id = %s)) AND (SELECT COUNT(*) FROM verdict d WHERE"
        " d.model_id = v.model_id AND d.number = v.number AND d.approves) < m.approvals_needed"
        " ORDER BY v.created_at LIMIT %s",
        *project_ids,
        person_id,
        person_id,
        limit,
    )
    return [WaitingVersion(*row) for row in rows]


def stage_changes(project_ids: list[int], since: datetime, limit: int) -> list[StageChange]:
    """Return changes of stages after a moment, the latest first."""
    if not project_ids:
        return []
    rows = query(
        "SELECT p.name, m.name, s.act, s.stage, s.before_number, s.after_number, w.full_name, s.at FROM stage_event s"
        " JOIN model m USING (model_id) JOIN project p USING (project_id) JOIN person w ON w.person_id = s.person_id"
        f" WHERE m.project_id IN {places(project_ids)} AND s.at > %s ORDER BY s.at DESC LIMIT %s",
        *project_ids,
        since,
        limit,
    )
    return [StageChange(*row) for row in rows]


def new_notes(project_ids: list[int], since: datetime, but_of: int, limit: int) -> list[NewNote]:
    """Return notes that others wrote after a moment, the latest first; none on what is in the bin."""
    if not project_ids:
        return []
    rows = query(
        "SELECT p.name, n.subject_kind, n.subject_id, w.full_name, n.text, n.written_at FROM note n"
        " JOIN project p ON p.project_id = n.project_id JOIN person w ON w.person_id = n.author_id"
        f" WHERE n.project_id IN {places(project_ids)} AND n.written_at > %s AND n.author_id <> %s"
        " ORDER BY n.written_at DESC LIMIT %s",
        *project_ids,
        since,
        but_of,
        limit,
    )
    names = notes.references_of([(kind, row_id) for _, kind, row_id, *_ in rows])
    return [
        NewNote(project, kind.removesuffix("@"), names[kind, row_id], *said)
        for project, kind, row_id, *said in rows
        if (kind, row_id) in names
    ]
