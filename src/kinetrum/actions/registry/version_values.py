"""The values of registered versions: of the whole run, or of the checkpoint that a version was made from."""

from __future__ import annotations

from collections.abc import Sequence

from kinetrum.core.base.goals import Goal
from kinetrum.core.base.run_document import RunDoc
from kinetrum.core.base.values import from_json
from kinetrum.core.registry.values import VersionValues, checkpoint_values
from kinetrum.storage.data import artifacts, links
from kinetrum.storage.people import projects
from kinetrum.storage.registry.models import ModelVersionRow
from kinetrum.storage.runs import point_reading, run_documents, runs
from kinetrum.storage.runs.runs import Run


def values_of_versions(versions: Sequence[ModelVersionRow]) -> dict[int, VersionValues]:
    """Return the values of versions of one model by number; inside a running transaction or snapshot."""
    by_run: dict[int, list[ModelVersionRow]] = {}
    for row in versions:
        by_run.setdefault(row.run_id or 0, []).append(row)
    last_steps = links.last_steps([run_id for run_id in by_run if run_id])
    values: dict[int, VersionValues] = {}
    for run_id, rows in by_run.items():
        values |= (
            _of_run(runs.run_by_id(run_id), rows, last_steps)
            if run_id
            else {row.number: VersionValues({}) for row in rows}
        )
    return {
        row.number: values[row.number].with_added(
            {key: from_json(value, key) for key, value in row.added_values.items()}
        )
        for row in versions
    }


def _of_run(
    run: Run, versions: Sequence[ModelVersionRow], last_steps: dict[tuple[int, int], int]
) -> dict[int, VersionValues]:
    """Return the values of versions that one run made."""
    doc, goals = run_documents.load_doc(run.run_id), projects.goals_of(run.experiment_id)
    steps = sorted({row.step for row in versions if row.step is not None})
    at_steps = point_reading.read_at(run.run_id, steps) if steps else {}
    artifact_of = {
        row.version_id: row.artifact_id
        for row in artifacts.versions_by_ids([row.version_id for row in versions if row.step is not None])
    }
    values = {}
    for row in versions:
        if row.step is None:
            values[row.number] = VersionValues(doc.values(goals))
        else:
            last = last_steps.get((run.run_id, artifact_of[row.version_id]), row.step)
            values[row.number] = at_checkpoint(doc, at_steps[row.step], row.step, row.step >= last)
    return values


def at_checkpoint(doc: RunDoc, points_there: dict[str, tuple[int, float]], step: int, is_last: bool) -> VersionValues:
    """Return the values of a run's checkpoint from the latest points up to its step."""
    results = {key: result.value for key, result in doc.results.items()}
    metrics = dict.fromkeys([*doc.stats, *points_there])
    return checkpoint_values(step, points_there, metrics, results, is_last)


def best_step(run: Run, key: str, steps: Sequence[int]) -> tuple[int, float, Goal] | None:
    """Return the step, of those given, at which a metric with a goal is best, with its value; None without any."""
    goal = projects.goals_of(run.experiment_id).get(key)
    if goal is None:
        return None
    points = point_reading.read_at(run.run_id, steps)
    measured = {step: values[key][1] for step, values in points.items() if key in values and values[key][0] == step}
    known = {step: value for step, value in measured.items() if value == value}
    if not known:
        return None
    # The earlier of two equals: max() and min() take the first.
    best = (max if goal.higher else min)(sorted(known), key=lambda step: known[step])
    return best, known[best], goal
