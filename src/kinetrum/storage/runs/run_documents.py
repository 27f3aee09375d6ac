"""The documents of runs, locked while they change, with the index rows that follow them."""

from __future__ import annotations

from collections.abc import Iterable

from kinetrum.core.base.goals import Goal
from kinetrum.core.base.run_document import RunDoc, pack, unpack_doc
from kinetrum.storage.db.database import Prepared, named_rows
from kinetrum.storage.runs.run_index import save_described, save_index
from kinetrum.storage.runs.runs import Run, touch
from kinetrum.storage.tables.runs import RunDocument

_DOC = Prepared(lambda run_id: RunDocument.select(RunDocument.doc).where(RunDocument.run_id == run_id))


_LOCK_DOC = Prepared(
    lambda run_id: RunDocument.select(RunDocument.doc).where(RunDocument.run_id == run_id).for_update()
)


_SAVE_DOC = Prepared(lambda doc, run_id: RunDocument.update(doc=doc).where(RunDocument.run_id == run_id))


def load_doc(run_id: int) -> RunDoc:
    """Return a run's document."""
    (row,) = _DOC.rows(run_id)
    return unpack_doc(row.doc)


def load_docs(run_ids: list[int]) -> dict[int, RunDoc]:
    """Return many documents by run id."""
    if not run_ids:
        return {}
    rows = RunDocument.select().where(RunDocument.run_id.in_(run_ids))
    return {row.run_id: unpack_doc(row.doc) for row in named_rows(rows)}


def lock_doc(run_id: int) -> RunDoc:
    """Return a run's document, locked against other writers until the transaction ends."""
    (row,) = _LOCK_DOC.rows(run_id)
    doc = unpack_doc(row.doc)
    doc.found_described = doc.described()
    return doc


def save_doc(
    run: Run, doc: RunDoc, goals: dict[str, Goal], params: Iterable[str] = (), values: Iterable[str] = ()
) -> None:
    """Write a locked document back and bring the index up to date.

    For the named parameters and values, and for labels, commit and problems where they changed.
    """
    _SAVE_DOC.execute(pack(doc), run.run_id)
    touch(run.run_id)
    save_index(run, doc, goals, params, values)
    save_described(run, doc.found_described, doc.described())
