"""Runs under others: children, families, and how many there are."""

from __future__ import annotations

from collections.abc import Sequence

from peewee import fn

from kinetrum.storage.db.database import named_rows
from kinetrum.storage.runs.runs import Run, read_runs, select_runs
from kinetrum.storage.tables.people import Experiment
from kinetrum.storage.tables.runs import RunRow


def children_of(uid: bytes, project_id: int, limit: int) -> list[Run]:
    """Return the runs under a parent that are not in the bin, the earliest first."""
    children = select_runs(RunRow.parent_uid == uid, Experiment.project_id == project_id, RunRow.binned_at.is_null())
    return read_runs(children.order_by(RunRow.run_id).limit(limit))


def family_of(uids: Sequence[bytes], project_id: int, limit: int) -> list[Run]:
    """Return all runs below others, their children and those below them, that were not purged; the earliest first."""
    family: dict[bytes, Run] = {}
    above = list(uids)
    while above and len(family) <= limit:
        below = select_runs(
            RunRow.parent_uid.in_(above), Experiment.project_id == project_id, RunRow.purged_at.is_null()
        )
        fresh = {run.uid: run for run in read_runs(below.limit(limit + 1)) if run.uid not in {*family, *uids}}
        family |= fresh
        above = list(fresh)
    return sorted(family.values(), key=lambda run: run.run_id)


def counts_of_children(uids: list[bytes], experiment_ids: list[int]) -> dict[bytes, int]:
    """Return how many children in these experiments the runs have; runs in the bin are not counted."""
    if not uids or not experiment_ids:
        return {}
    rows = (
        RunRow.select(RunRow.parent_uid, fn.COUNT(RunRow.run_id).alias("children"))
        .where(RunRow.parent_uid.in_(uids), RunRow.binned_at.is_null(), RunRow.experiment_id.in_(experiment_ids))
        .group_by(RunRow.parent_uid)
    )
    return {row.parent_uid: int(row.children) for row in named_rows(rows)}


def references_of(uids: list[bytes], project_id: int) -> dict[bytes, str]:
    """Return references of runs of a project by their ids."""
    if not uids:
        return {}
    rows = (
        RunRow.select(RunRow.uid, RunRow.number, Experiment.name)
        .join(Experiment, on=Experiment.experiment_id == RunRow.experiment_id)
        .where(RunRow.uid.in_(uids), Experiment.project_id == project_id)
    )
    return {row.uid: f"{row.name}/{row.number}" for row in named_rows(rows)}


def parents_and_children(run_ids: set[int], of_children: bool) -> list[tuple[int, int]]:
    """Return (parent, child) pairs of which some runs are the children, or with `of_children` false the parents."""
    parent, child = RunRow.alias(), RunRow.alias()
    ordered, pairs = sorted(run_ids), list[tuple[int, int]]()
    for start in range(0, len(ordered), 1000):
        known = child if of_children else parent
        rows = (
            parent.select(parent.run_id.alias("above"), child.run_id.alias("below"))
            .join(child, on=(child.parent_uid == parent.uid))
            .where(known.run_id.in_(ordered[start : start + 1000]))
        )
        pairs += [(row.above, row.below) for row in named_rows(rows)]
    return pairs
