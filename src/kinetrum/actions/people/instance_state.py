"""How the instance is, for administrators: version, processes, database, store, what waits, what is wrong."""

from __future__ import annotations

import os
import platform
import shutil
from dataclasses import dataclass
from importlib.metadata import version

from kinetrum.actions.context import Actor
from kinetrum.actions.people.accounts import require_administrator
from kinetrum.storage.data import blob_rows, disk_usage
from kinetrum.storage.data.blobs import BlobStore
from kinetrum.storage.db.clock import Moment, now
from kinetrum.storage.db.database import snapshot, transaction
from kinetrum.storage.live import processes
from kinetrum.storage.live.processes import ProcessRow
from kinetrum.storage.people import journal, people, projects
from kinetrum.storage.runs import points

# Below this share, and below so many bytes, there is too little room to work in.
_LEAST_SHARE, _LEAST_BYTES = 0.05, 5 * 1024**3
_MANY_WAITING = 1_000


@dataclass(frozen=True)
class ProjectSize:
    """How much is stored for a project; what two hold counts in both."""

    project: str
    files: int
    size_bytes: int


@dataclass(frozen=True)
class InstanceState:
    """How the instance is at a moment; `troubles` are sentences on what needs a look."""

    at: Moment
    version: str
    processes: list[ProcessRow]
    database_version: str
    database_bytes: int
    files: int
    store_bytes: int
    disk_free_bytes: int
    people: int
    runs: int
    waiting_runs: int
    journal_entries: int
    journal_digest: str
    projects: list[ProjectSize]
    troubles: list[str]


@snapshot
def read_state(actor: Actor, store: BlobStore) -> InstanceState:
    """Return how the instance is."""
    require_administrator(actor)
    files, stored = blob_rows.count_blobs()
    disk = shutil.disk_usage(store.folder)
    database_version, database_bytes = processes.database_state()
    entries, digest = journal.newest_digest()
    waiting = len(points.runs_to_compact(()))
    return InstanceState(
        at=now(),
        version=version("kinetrum"),
        processes=processes.processes(),
        database_version=database_version,
        database_bytes=database_bytes,
        files=files,
        store_bytes=stored,
        disk_free_bytes=disk.free,
        people=sum(person.deactivated_at is None for person in people.people()),
        runs=sum(summary.runs for summary in projects.project_summaries(None)),
        waiting_runs=waiting,
        journal_entries=entries,
        journal_digest=digest.hex(),
        projects=[ProjectSize(*row) for row in disk_usage.stored_by_project()],
        troubles=_troubles(disk.free, disk.total, waiting),
    )


def _troubles(free: int, total: int, waiting: int) -> list[str]:
    troubles = []
    if free < min(_LEAST_BYTES, _LEAST_SHARE * total):
        troubles.append(f"The disk of the store has only {free / 1e9:.1f} GB free.")
    if waiting >= _MANY_WAITING:
        troubles.append(f"Points of {waiting:,} runs wait to be worked in; more processes of the service would help.")
    return troubles


@transaction
def note_process() -> None:
    """Say that this process is at work."""
    processes.note_process(f"{platform.node()[:30]}:{os.getpid()}")
