"""Tables in stored files, row by row: filtered and sorted, or two of them joined by a row key."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Sequence
from dataclasses import asdict, dataclass
from typing import Any

from kinetrum.actions.context import Actor, enter
from kinetrum.actions.data.artifact_versions import stored_entry
from kinetrum.actions.sandbox.runner import WALL_S, run_limited
from kinetrum.actions.search.references import find_version
from kinetrum.core.base.errors import InvalidInput, NotFound, TooLarge
from kinetrum.core.base.manifests import FileEntry
from kinetrum.core.base.refs import VersionRef
from kinetrum.core.media import kind_of
from kinetrum.core.rows.row_query import JUDGED_BY, Page, RowQuery
from kinetrum.core.statistics.noise.difference import CONFIDENCE
from kinetrum.core.statistics.noise.verdict import Outcome, RowsVerdict
from kinetrum.storage.data import manifests
from kinetrum.storage.data.artifacts import VersionRow
from kinetrum.storage.data.blobs import BlobStore
from kinetrum.storage.db.database import snapshot, transaction
from kinetrum.storage.registry import judgements

FILE_BYTES = 512 * 1024 * 1024
TableAt = tuple[VersionRow, FileEntry]


def read_page(actor: Actor, store: BlobStore, project: str, table: VersionRef, query: RowQuery) -> tuple[TableAt, Page]:
    """Return a page of the rows of a table that fit, and which file of which version it is.

    Raises InvalidInput that names the condition at fault or says why the file is no table, TooLarge beyond the limits.
    """
    at = _table_at(actor, project, table)
    return at, _asked(store, [at], {"asked": asdict(query)}, query)


@dataclass(frozen=True)
class TwoTables:
    """Two tables beside each other: what they are joined by, which outcomes, and which rows of those."""

    left: VersionRef
    right: VersionRef
    key: str | None
    outcomes: Sequence[str]
    asked: RowQuery


def read_joined(
    actor: Actor,
    store: BlobStore,
    project: str,
    tables: TwoTables,
) -> tuple[TableAt, TableAt, Page]:
    """Return a page of the rows of two tables joined by a key; see `core.rows.join_tables`."""
    one, two = _table_at(actor, project, tables.left), _table_at(actor, project, tables.right)
    chosen = tables.key or _kept_key(one, two)
    options = {"asked": asdict(tables.asked), "key": chosen, "outcomes": list(tables.outcomes)}
    return one, two, _asked(store, [one, two], options, tables.asked)


def read_judged(
    actor: Actor, store: BlobStore, project: str, left: VersionRef, right: VersionRef, confidence: float = CONFIDENCE
) -> list[RowsVerdict]:
    """Compare two tables of predictions on the rows that both have; see `core.rows.judging`.

    Files never change under their digest: what two of them came to is judged once and kept.
    """
    one, two = _table_at(actor, left.project or project, left), _table_at(actor, right.project or project, right)
    options = {"key": _kept_key(one, two), "confidence": confidence}
    inputs = json.dumps([JUDGED_BY, *([at[1].sha256, at[1].path] for at in (one, two)), options])
    digest = hashlib.sha256(inputs.encode()).digest()
    # Evidence that nobody can read any more is none, whatever it once came to.
    _require_bytes(store, [one, two])
    rows = _find_judgement(digest)
    if rows is None:
        rows = json.loads(_limited(store, "judged", [one, two], options))
        _keep_judgement(digest, rows)
    return [RowsVerdict(**{**row, "outcome": Outcome(row["outcome"])}) for row in rows]


_find_judgement = snapshot(judgements.find_judgement)
_keep_judgement = transaction(judgements.keep_judgement)


def _kept_key(one: TableAt, two: TableAt) -> str | None:
    """Return the row key that both tables were kept with."""
    named = one[0].about.get("key")
    return str(named) if named is not None and named == two[0].about.get("key") else None


@snapshot
def _table_at(actor: Actor, project: str, table: VersionRef) -> TableAt:
    version = find_version(enter(actor, project), table.name, table.which)
    path = table.path
    if path is None:
        files = manifests.files_of_version(version.version_id, version.digest)
        tables = [entry.path for entry in files if kind_of(entry.path) == "table"]
        if len(tables) != 1:
            there = f"; it has {', '.join(tables[:8])}" if tables else ""
            raise InvalidInput(
                f"{version.reference} has {len(tables) or 'no'} tables; name one, as in {version.reference}:PATH"
                f"{there}.",
                field="path",
            )
        path = tables[0]
    entry = stored_entry(version, path)
    if entry.size > FILE_BYTES:
        raise TooLarge(f"{path} has {entry.size:,} bytes; tables up to {FILE_BYTES:,} are browsed; download it.")
    return version, entry


def _asked(store: BlobStore, tables: Sequence[TableAt], options: dict[str, Any], query: RowQuery) -> Page:
    answer = json.loads(_limited(store, "rows", tables, options))
    return Page(**{**answer, "columns": [(name, kind) for name, kind in answer["columns"]]})


def _require_bytes(store: BlobStore, tables: Sequence[TableAt]) -> None:
    for _, entry in tables:
        if not store.has(entry.sha256):
            raise NotFound(f"The bytes of {entry.path} are missing in the store; ask its administrator to look.")


def _limited(store: BlobStore, task: str, tables: Sequence[TableAt], options: dict[str, Any]) -> bytes:
    _require_bytes(store, tables)
    paths = [entry.path for _, entry in tables]
    answer = run_limited(task, [store.path_of(entry.sha256) for _, entry in tables], {"paths": paths, **options})
    if answer is None:
        raise TooLarge(
            f"{' and '.join(paths)}: reading takes more than {WALL_S} seconds or too much memory; download it."
        )
    return answer
