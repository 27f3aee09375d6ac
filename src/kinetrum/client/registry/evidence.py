"""Judging a version's predictions: a run that used the version, with results, plots and rows."""

from __future__ import annotations

import os
from typing import TYPE_CHECKING

import kinetrum
from kinetrum.core.base.values import JsonObject

if TYPE_CHECKING:
    from kinetrum.client.registry.models import ModelVersion


def judge_version(
    version: ModelVersion,
    project: str,
    on: str,
    predictions: tuple[object, object],
    rows: object,
    data: str | os.PathLike[str] | None,
    options: JsonObject,
) -> str:
    """Record a run that judges predictions of a version on named data; returns its id once it is delivered."""
    artifact = version.data["artifact"]
    experiment = f"{version.data['model']}-evidence"[:100]
    with kinetrum.begin(experiment, project=project, name=f"{version.reference} on {on}") as run:
        run.used(f"{artifact['name']}@{artifact['number']}", role="judged", kind="model")
        if data is not None:
            run.used(data, role=on)
        run.evaluate(*predictions, on=on, rows=rows, **options)
    run.flush()
    return run.id
