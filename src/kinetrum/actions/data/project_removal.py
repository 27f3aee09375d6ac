"""The second act of deleting a project: its bytes and records go for good.

Each run and version goes in a transaction of its own, files only after it: cut off at any moment, the project is still
a deleted one, and the same act goes on with what is left; where somebody brings it back meanwhile, it ends.
Tombstones and the journal stay, under no name. What a model of another project rests on stays too: it was handed over.
"""

from __future__ import annotations

from dataclasses import dataclass

from kinetrum.actions.context import Actor
from kinetrum.actions.data import uploads
from kinetrum.actions.people.accounts import require_administrator
from kinetrum.actions.people.projects import deleted_project
from kinetrum.core.base.errors import InvalidInput
from kinetrum.storage.data import artifacts, blob_rows, disk_usage, manifests
from kinetrum.storage.data.artifacts import VersionRow
from kinetrum.storage.data.blobs import BlobStore
from kinetrum.storage.db.database import snapshot, transaction
from kinetrum.storage.people import journal, project_secrets, projects
from kinetrum.storage.people.projects import ProjectRow
from kinetrum.storage.runs import runs

_AT_ONCE = 500


@dataclass(frozen=True)
class Removed:
    """What went: runs, versions, and the bytes of files that nothing else held."""

    runs: int
    versions: int
    freed_bytes: int


def remove_project(actor: Actor, store: BlobStore, name: str, confirmed: str) -> Removed:
    """Remove a deleted project for good; for administrators. `confirmed` is its name, written once more."""
    require_administrator(actor)
    project = _read_deleted(name)
    if confirmed != project.name:
        raise InvalidInput(
            f"Write the project's name, {project.name}, to remove it for good; {confirmed!r} was written.",
            field="confirmed",
        )
    run_count = version_count = 0
    while batch := _runs_left(project.project_id):
        for run_id in batch:
            _remove_run(actor, project, run_id)
            run_count += 1
    for row in _versions_left(project.project_id):
        version_count += _remove_version(actor, project, row)
    freed = uploads.remove_released(store)
    _finish(actor, project)
    return Removed(run_count, version_count, freed)


@transaction
def _read_deleted(name: str) -> ProjectRow:
    return deleted_project(name)


@snapshot
def _runs_left(project_id: int) -> list[int]:
    return runs.ids_to_remove(project_id, _AT_ONCE)


@transaction
def _remove_run(actor: Actor, project: ProjectRow, run_id: int) -> None:
    deleted_project(project.name)
    disk_usage.purge_run(runs.lock_run(run_id).run_id, actor.person_id)


@snapshot
def _versions_left(project_id: int) -> list[VersionRow]:
    rows = [row for row in artifacts.every_version_of(project_id) if row.purged_at is None]
    dependents = artifacts.models_on([row.version_id for row in rows])
    return [
        row
        for row in rows
        if all(dependent.project_id == project_id for dependent in dependents.get(row.version_id, []))
    ]


@transaction
def _remove_version(actor: Actor, project: ProjectRow, row: VersionRow) -> bool:
    deleted_project(project.name)
    artifacts.lock_versions([row.version_id])
    disk_usage.mark_version_purged(row.version_id, actor.person_id)
    if not row.by_reference:
        blob_rows.let_go(row.project_id, {entry.sha256 for entry in manifests.load_manifest(row.digest)})
    return True


@transaction
def _finish(actor: Actor, project: ProjectRow) -> None:
    deleted_project(project.name)
    project_secrets.remove_secrets_of(project.project_id)
    projects.forget_project(project)
    journal.append(None, actor.person_id, "removed the project for good", project.name, source=actor.source)
