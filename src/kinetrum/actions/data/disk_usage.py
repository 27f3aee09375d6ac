"""Room: what takes how much, what a purge would free, and purging: the second, deliberate act."""

from __future__ import annotations

import shutil
from collections.abc import Sequence
from dataclasses import dataclass

from kinetrum.actions.context import Actor, Place, enter, may, sight_of
from kinetrum.actions.data import uploads
from kinetrum.actions.runs.bin import things_named
from kinetrum.core.access.scopes import Scope
from kinetrum.core.base.errors import NotAllowed
from kinetrum.core.base.permissions import Act
from kinetrum.storage.data import artifacts, blob_rows, disk_usage, manifests
from kinetrum.storage.data.artifacts import VersionRow
from kinetrum.storage.data.blobs import BlobStore
from kinetrum.storage.data.disk_usage import Taken, TakenBy
from kinetrum.storage.db.database import snapshot, transaction
from kinetrum.storage.people import journal, quotas
from kinetrum.storage.people.quotas import Quota
from kinetrum.storage.runs import runs
from kinetrum.storage.runs.runs import Run

LISTED = 10_000


@dataclass(frozen=True)
class Usage:
    """What a project holds; stored files count once however many versions hold them.

    `runs_today` and `points_today` are counted where the project has a quota of them; `people` kept what is stored.
    """

    files: int
    size_bytes: int
    artifacts: list[Taken]
    experiments: list[Taken]
    binned_runs: int
    binned_versions: int
    frees_bytes: int
    disk_free_bytes: int
    may_purge: bool
    quota: Quota
    runs_today: int
    points_today: int
    people: list[TakenBy]


@dataclass(frozen=True)
class KeptThing:
    """Something that a purge leaves, and why."""

    reference: str
    why: str


@dataclass(frozen=True)
class Purge:
    """What a purge frees or freed: `kept` are (reference, why) that stay; bytes of files and of the database."""

    runs: list[str]
    versions: list[str]
    kept: list[KeptThing]
    files: int
    size_bytes: int
    recorded_bytes: int


@snapshot
def read_usage(actor: Actor, store: BlobStore, project: str) -> Usage:
    """Return what takes how much in a project."""
    place = enter(actor, project)
    files, size = disk_usage.stored_in_project(place.project_id)
    binned = artifacts.binned_versions(place.project_id, LISTED)
    registered = artifacts.models_on([row.version_id for row in binned])
    free = [row.version_id for row in binned if row.version_id not in registered]
    return Usage(
        files,
        size,
        disk_usage.room_of_artifacts(place.project_id),
        disk_usage.room_of_experiments(place.project_id),
        len(runs.binned_runs(place.project_id, LISTED)),
        len(binned),
        blob_rows.only_held_by(place.project_id, free)[1],
        shutil.disk_usage(store.folder).free,
        may(actor, place, Act.PURGE),
        quotas.quota_of(place.project_id) or Quota(),
        *quotas.today(place.project_id),
        disk_usage.stored_by_people(place.project_id),
    )


@snapshot
def read_all_usage(actor: Actor, store: BlobStore) -> tuple[list[tuple[str, int, int]], int, int, int]:
    """Return (project, files, bytes) of all projects, the files and bytes stored, and the bytes free on the disk."""
    if not actor.is_admin:
        raise NotAllowed("What all projects take is for administrators of the instance.")
    actor.require_scope(Scope.ADMINISTER)
    files, size = blob_rows.count_blobs()
    return disk_usage.stored_by_project(), files, size, shutil.disk_usage(store.folder).free


def _sorted_out(
    actor: Actor, place: Place, references: Sequence[str] | None
) -> tuple[list[Run], list[VersionRow], list[KeptThing]]:
    """Return what may be purged of what was named (None: all of the bin), and what may not, with the reason."""
    if references is None:
        binned = runs.binned_runs(place.project_id, LISTED)
        versions = artifacts.binned_versions(place.project_id, LISTED)
        staying = list[KeptThing]()
    else:
        things = things_named(place, references)
        binned, versions = things.runs, things.versions
        staying = [KeptThing(f"model:{model.name}", "what was registered is never purged") for model in things.models]
    on_runs = disk_usage.models_on_runs([run.run_id for run in binned])
    on_versions = artifacts.models_on([row.version_id for row in versions])
    sight = sight_of(actor)
    free_runs, free_versions = [], []
    for run in binned:
        why = _why_kept(
            run.purged_at is not None, run.binned_at is None, sight.names_from(place, on_runs.get(run.run_id, []))
        )
        if why:
            staying.append(KeptThing(run.reference, why))
        else:
            free_runs.append(run)
    for row in versions:
        why = _why_kept(
            row.purged_at is not None,
            row.binned_at is None,
            sight.names_from(place, on_versions.get(row.version_id, [])),
        )
        if why:
            staying.append(KeptThing(row.reference, why))
        else:
            free_versions.append(row)
    return free_runs, free_versions, staying


def _why_kept(purged: bool, in_use: bool, dependents: list[str]) -> str | None:
    if purged:
        return "was purged already"
    if in_use:
        return "is not in the bin; put it there first"
    return f"is what {dependents[0]} rests on" if dependents else None


@snapshot
def preview_purge(actor: Actor, project: str, references: Sequence[str] | None, keep_files: bool = False) -> Purge:
    """Return what a purge would free; nothing is changed."""
    place = enter(actor, project, Act.PURGE)
    free_runs, free_versions, staying = _sorted_out(actor, place, references)
    if not keep_files:
        known = {row.version_id for row in free_versions}
        only = disk_usage.generated_by_these_alone([run.run_id for run in free_runs])
        free_versions += artifacts.versions_by_ids([version_id for version_id in only if version_id not in known])
    files, size = blob_rows.only_held_by(place.project_id, [row.version_id for row in free_versions])
    return Purge(
        [run.reference for run in free_runs],
        [row.reference for row in free_versions],
        staying,
        files,
        size,
        disk_usage.recorded_bytes([run.run_id for run in free_runs]),
    )


def purge(
    actor: Actor, store: BlobStore, project: str, references: Sequence[str] | None, keep_files: bool = False
) -> Purge:
    """Free the room of what is in the bin for good; tombstones stay.

    Each thing goes in a transaction of its own and files only after it: cut off at any moment, what is gone is gone
    whole, and the rest is as it was. With the last run that holds a version goes that version, in the same transaction.
    What a registered version rests on stays, and is told.
    """
    planned = preview_purge(actor, project, references, keep_files)
    gone: set[str] = set()
    for reference in (*planned.runs, *planned.versions):
        if reference not in gone:
            gone.update(_purge_one(actor, project, reference, keep_files))
    uploads.remove_released(store)
    left = [
        KeptThing(reference, "was taken out of the bin meanwhile")
        for reference in (*planned.runs, *planned.versions)
        if reference not in gone
    ]
    return Purge(
        [reference for reference in planned.runs if reference in gone],
        [reference for reference in planned.versions if reference in gone],
        [*planned.kept, *left],
        planned.files,
        planned.size_bytes,
        planned.recorded_bytes,
    )


@transaction
def _purge_one(actor: Actor, project: str, reference: str, keep_files: bool) -> list[str]:
    place = enter(actor, project, Act.PURGE)
    things = things_named(place, [reference])
    for run in things.runs:
        runs.lock_run(run.run_id)
    artifacts.lock_versions([row.version_id for row in things.versions])
    free_runs, free_versions, _ = _sorted_out(actor, place, [reference])
    if free_runs and not keep_files:
        # Of two runs that are purged at once, the later sees here that the earlier is gone.
        artifacts.lock_versions(disk_usage.generated_by([run.run_id for run in free_runs]))
    for run in free_runs:
        disk_usage.purge_run(run.run_id, actor.person_id)
        journal.append(place.project_id, actor.person_id, "purged", run.subject, source=actor.source)
    if free_runs and not keep_files:
        # With the last run that holds them: what another one of those in the bin holds goes with that.
        only = disk_usage.generated_by_these_alone([run.run_id for run in free_runs])
        free_versions += artifacts.versions_by_ids(only)
    for row in free_versions:
        disk_usage.mark_version_purged(row.version_id, actor.person_id)
        if not row.by_reference:
            digests = {entry.sha256 for entry in manifests.load_manifest(row.digest)}
            blob_rows.let_go(place.project_id, digests)
        journal.append(
            place.project_id,
            actor.person_id,
            "purged",
            row.reference,
            journal.Change({"digest": row.digest}),
            source=actor.source,
        )
    return [*(run.reference for run in free_runs), *(row.reference for row in free_versions)]
