"""Names that hold a fragment: experiments, models, artifacts, runs."""

from __future__ import annotations

from typing import Any

from peewee import Expression, ModelSelect, Node, fn

from kinetrum.storage.db.database import named_rows
from kinetrum.storage.runs.runs import Run, runs_by_ids
from kinetrum.storage.search.run_query import sql_pattern
from kinetrum.storage.tables.data import Artifact, ArtifactVersion
from kinetrum.storage.tables.people import Experiment
from kinetrum.storage.tables.registry import RegisteredModel
from kinetrum.storage.tables.runs import RunRow


def _like(fragment: str) -> str:
    return sql_pattern("*" + fragment.replace("*", "").replace("?", "") + "*")


def experiments_like(project_id: int, fragment: str, limit: int) -> list[tuple[str, int]]:
    """Return (name, runs) of experiments, the shortest names first."""
    rows = Experiment.select(Experiment.name, Experiment.last_number).where(
        Experiment.project_id == project_id, _holds(Experiment.name, fragment)
    )
    return [(row.name, row.last_number) for row in named_rows(_shortest_first(rows, Experiment.name, limit))]


def models_like(project_id: int, fragment: str, limit: int) -> list[tuple[str, int | None]]:
    """Return (name, chosen lead version) of models."""
    rows = RegisteredModel.select(RegisteredModel.name, RegisteredModel.lead_number).where(
        RegisteredModel.project_id == project_id,
        RegisteredModel.binned_at.is_null(),
        _holds(RegisteredModel.name, fragment),
    )
    return [(row.name, row.lead_number) for row in named_rows(_shortest_first(rows, RegisteredModel.name, limit))]


def artifacts_like(project_id: int, fragment: str, limit: int) -> list[tuple[str, str, int]]:
    """Return (name, kind, latest version) of artifacts that have versions out of the bin."""
    rows = (
        Artifact.select(Artifact.name, Artifact.kind, fn.MAX(ArtifactVersion.number).alias("newest"))
        .join(ArtifactVersion, on=ArtifactVersion.artifact_id == Artifact.artifact_id)
        .where(Artifact.project_id == project_id, _holds(Artifact.name, fragment), ArtifactVersion.binned_at.is_null())
        .group_by(Artifact.artifact_id)
    )
    return [(row.name, row.kind, row.newest) for row in named_rows(_shortest_first(rows, Artifact.name, limit))]


def _holds(name: Node, fragment: str) -> Expression:
    return Expression(name, "LIKE", _like(fragment))


def _shortest_first(rows: ModelSelect[Any], name: Node, limit: int) -> ModelSelect[Any]:
    return rows.order_by(fn.CHAR_LENGTH(name), name).limit(limit)


def runs_like(project_id: int, fragment: str, limit: int) -> list[Run]:
    """Return the latest runs whose names hold a fragment, or whose number it is."""
    number = int(fragment) if fragment.isdecimal() and len(fragment) < 10 else 0
    rows = (
        RunRow.select(RunRow.run_id)
        .join(Experiment, on=Experiment.experiment_id == RunRow.experiment_id)
        .where(
            Experiment.project_id == project_id,
            RunRow.binned_at.is_null(),
            _holds(fn.LOWER(RunRow.name), fragment) | (RunRow.number == number),
        )
        .order_by(RunRow.run_id.desc())
        .limit(limit)
    )
    return runs_by_ids([row.run_id for row in named_rows(rows)])
