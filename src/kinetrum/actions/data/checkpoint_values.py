"""Checkpoints of an artifact: which run made each at which step, and what it measured there."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from kinetrum.actions.context import Place
from kinetrum.core.base.goals import Goal
from kinetrum.core.base.values import JsonValue, Value
from kinetrum.storage.data import links
from kinetrum.storage.data.artifacts import VersionRow
from kinetrum.storage.data.links import LinkRow
from kinetrum.storage.people import projects
from kinetrum.storage.runs import point_reading, runs

# Of so many versions, the newest ones, it is told.
CHECKPOINTS_LIMIT = 1_000


@dataclass(frozen=True)
class Checkpoint:
    """A version that a run made at a step, and each metric's latest value up to it."""

    number: int
    run: str
    step: int
    values: dict[str, JsonValue]


def checkpoints_of(place: Place, versions: Sequence[VersionRow]) -> tuple[list[Checkpoint], dict[str, Goal]]:
    """Return the checkpoints among an artifact's versions, the newest first, and the goals of their runs.

    Content that came again counts at its latest step. Inside a running snapshot.
    """
    numbers = {version.version_id: version.number for version in versions[:CHECKPOINTS_LIMIT]}
    latest: dict[int, tuple[int, LinkRow]] = {}
    for link in links.links_of_versions(list(numbers)):
        known = latest.get(link.version_id)
        if link.relation == "generated" and link.step is not None and (known is None or known[0] <= link.step):
            latest[link.version_id] = link.step, link
    by_run: dict[int, list[tuple[int, LinkRow]]] = {}
    for step, link in latest.values():
        by_run.setdefault(link.run_id, []).append((step, link))
    checkpoints, goals = [], dict[str, Goal]()
    for run in runs.runs_by_ids(sorted(by_run)):
        if run.project_id != place.project_id:
            continue
        for key, goal in projects.goals_of(run.experiment_id).items():
            goals.setdefault(key, goal)
        made = by_run[run.run_id]
        measured = point_reading.read_at(run.run_id, sorted({step for step, _ in made}))
        for step, link in made:
            values: dict[str, Value] = {key: value for key, (_, value) in measured[step].items()}
            checkpoints.append(Checkpoint(numbers[link.version_id], run.reference, step, values))
    return sorted(checkpoints, key=lambda one: -one.number), goals
