"""Releasing checkpoints: those that a run no longer wants to keep go to the bin, unless something rests on them."""

from __future__ import annotations

from kinetrum.core.base.run_document import RunDoc
from kinetrum.core.points.columns import shown
from kinetrum.core.registry.checkpoints import Checkpoint, to_release
from kinetrum.storage.data import artifacts, links
from kinetrum.storage.data.artifacts import VersionRow
from kinetrum.storage.data.links import LinkRow
from kinetrum.storage.people import projects
from kinetrum.storage.runs import point_reading
from kinetrum.storage.runs.runs import Run


def keep_chosen(run: Run, doc: RunDoc, version: VersionRow, keep: str, at: int, final: bool = False) -> None:
    """Put those checkpoints of a run under this name into the bin that `keep` does not choose.

    At the run's end (`final`) it is settled also for those that were still to be measured.
    """
    made = _in_use(links.checkpoints_of_run(run.run_id, version.artifact_id))
    values: dict[int, float] = {}
    higher = True
    if keep.startswith("best"):
        goals = projects.goals_of(run.experiment_id)
        key = keep[5:] or next(iter(goals), "")
        if key not in goals:
            named = f"no goal for {key!r}" if key else "no goal"
            text = f"All checkpoints of {version.name} are kept: {run.experiment} has {named} to choose the best by."
            doc.add_problem(text, at)
            return
        higher = goals[key].higher
        measured = shown(point_reading.read_points(run.run_id, key))
        values = dict(zip(measured.steps.tolist(), measured.values.tolist(), strict=True))
    checkpoints = _checkpoints(made, values)
    measured_to = max(values, default=None)
    free = _free(
        run, [checkpoints.version_id for checkpoints in to_release(checkpoints, keep, higher, final, measured_to)]
    )
    if free:
        artifacts.lock_versions(free)
        what = f"the last {keep}" if keep.isdigit() else "the best" + (f" by {keep[5:]}" if keep[5:] else "")
        artifacts.set_binned(free, run.author_id, f"{run.reference} keeps {what}")


def settle(run: Run, doc: RunDoc, at: int) -> bool:
    """Choose once more at the run's end, when everything was measured; tells whether there was anything to choose."""
    latest: dict[int, LinkRow] = {}
    for link in links.links_of_runs([run.run_id]):
        if link.keep is not None and link.keep.startswith("best"):
            latest[link.version_id] = link
    by_artifact = {row.artifact_id: (row, latest[row.version_id]) for row in artifacts.versions_by_ids(list(latest))}
    for row, link in by_artifact.values():
        keep_chosen(run, doc, row, link.keep or "best", at, final=True)
    return bool(by_artifact)


def _in_use(made: list[LinkRow]) -> list[LinkRow]:
    """Leave out what lies in the bin: were that the best, nothing would be left in sight."""
    rows = artifacts.versions_by_ids(sorted({link.version_id for link in made}))
    binned = {row.version_id for row in rows if row.binned_at is not None}
    return [link for link in made if link.version_id not in binned]


def _checkpoints(made: list[LinkRow], values: dict[int, float]) -> list[Checkpoint]:
    """One for each version: content that came again counts at its latest step, or at its best-known value's."""
    latest: dict[int, LinkRow] = {}
    for link in made:
        known = latest.get(link.version_id)
        if known is None or _step(known) <= _step(link):
            latest[link.version_id] = link
    return [Checkpoint(link.version_id, _step(link), values.get(_step(link))) for link in latest.values()]


def _step(link: LinkRow) -> int:
    return -1 if link.step is None else link.step


def _free(run: Run, version_ids: list[int]) -> list[int]:
    """Keep only versions that nothing else rests on: no other run, no input, no registered version."""
    rests = set(artifacts.models_on(version_ids))
    for link in links.links_of_versions(version_ids):
        if link.run_id != run.run_id or link.relation != "generated" or link.keep is None:
            rests.add(link.version_id)
    return [version_id for version_id in version_ids if version_id not in rests]
