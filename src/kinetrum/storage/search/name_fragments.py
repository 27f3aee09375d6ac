"""Names that hold a fragment: experiments, models, artifacts, runs."""

from __future__ import annotations

from kinetrum.storage.db.database import query
from kinetrum.storage.runs.runs import Run, runs_by_ids
from kinetrum.storage.search.run_query import sql_pattern


def _like(fragment: str) -> str:
    return sql_pattern("*" + fragment.replace("*", "").replace("?", "") + "*")


def experiments_like(project_id: int, fragment: str, limit: int) -> list[tuple[str, int]]:
    """Return (name, runs) of experiments, the shortest names first."""
    rows = query(
        "SELECT name, last_number FROM experiment WHERE project_id = %s AND name LIKE %s"
        " ORDER BY CHAR_LENGTH(name), name LIMIT %s",
        project_id,
        _like(fragment),
        limit,
    )
    return [(name, int(runs)) for name, runs in rows]


def models_like(project_id: int, fragment: str, limit: int) -> list[tuple[str, int | None]]:
    """Return (name, chosen lead version) of models."""
    return list(
        query(
            "SELECT name, lead_number FROM model WHERE project_id = %s AND binned_at IS NULL AND name LIKE %s"
            " ORDER BY CHAR_LENGTH(name), name LIMIT %s",
            project_id,
            _like(fragment),
            limit,
        )
    )


def artifacts_like(project_id: int, fragment: str, limit: int) -> list[tuple[str, str, int]]:
    """Return (name, kind, latest version) of artifacts that have versions out of the bin."""
    return list(
        query(
            "SELECT a.name, a.kind, MAX(v.number) FROM artifact a JOIN artifact_version v USING (artifact_id)"
            " WHERE a.project_id = %s AND a.name LIKE %s AND v.binned_at IS NULL"
            " GROUP BY a.artifact_id ORDER BY CHAR_LENGTH(a.name), a.name LIMIT %s",
            project_id,
            _like(fragment),
            limit,
        )
    )


def runs_like(project_id: int, fragment: str, limit: int) -> list[Run]:
    """Return the latest runs whose names hold a fragment, or whose number it is."""
    rows = query(
        "SELECT r.run_id FROM run r JOIN experiment e USING (experiment_id) WHERE e.project_id = %s"
        " AND r.binned_at IS NULL AND (LOWER(r.name) LIKE %s OR r.number = %s) ORDER BY r.run_id DESC LIMIT %s",
        project_id,
        _like(fragment),
        int(fragment) if fragment.isdecimal() and len(fragment) < 10 else 0,
        limit,
    )
    return runs_by_ids([run_id for (run_id,) in rows])
