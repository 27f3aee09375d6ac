"""Runs: their rows, their documents, and the index tables that follow the documents.

Guarantee: a document and its index rows change in one transaction, under the lock of the run's row,
so the table that sorts and filters never disagrees with the page that shows the run.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime

from kinetrum.core.base.goals import Goal
from kinetrum.core.base.run_document import RunDoc, pack, unpack_doc
from kinetrum.storage.db.clock import now
from kinetrum.storage.db.database import execute, named_rows, places, query
from kinetrum.storage.live import events
from kinetrum.storage.people import journal
from kinetrum.storage.runs.run_index import key_ids, save_described, save_index
from kinetrum.storage.tables.runs import RunRow


@dataclass(frozen=True)
class Run:
    """One run's row; the experiment and project names come along for references."""

    run_id: int
    uid: bytes
    project_id: int
    project: str
    experiment_id: int
    experiment: str
    number: int
    name: str | None
    status: str
    reason: str | None
    author_id: int
    host: str
    parent_uid: bytes | None
    started_at: datetime
    ended_at: datetime | None
    last_sign_at: datetime
    lease_s: int
    changed_at: datetime
    resumed_at: datetime | None
    binned_at: datetime | None
    binned_by: int | None
    purged_at: datetime | None
    imported_from: str | None

    @property
    def reference(self) -> str:
        """`experiment/number`."""
        return f"{self.experiment}/{self.number}"

    @property
    def subject(self) -> str:
        """How the journal names the run; an experiment may bear the name of a model."""
        return f"run:{self.reference}"


_SELECT = (
    "SELECT r.run_id, r.uid, e.project_id, p.name, r.experiment_id, e.name, r.number, r.name, r.status, r.reason,"
    " r.author_id, r.host, r.parent_uid, r.started_at, r.ended_at, r.last_sign_at, r.lease_s, r.changed_at,"
    " r.resumed_at, r.binned_at, r.binned_by, r.purged_at, r.imported_from"
    " FROM run r JOIN experiment e USING (experiment_id) JOIN project p USING (project_id) "
)


def _one(where: str, *values: object) -> Run | None:
    rows = query(_SELECT + where, *values)
    return Run(*rows[0]) if rows else None


def run_by_uid(uid: bytes) -> Run | None:
    """Return the run with that id."""
    return _one("WHERE r.uid = %s", uid)


def run_by_id(run_id: int) -> Run:
    """Return a run that is known to exist."""
    found = _one("WHERE r.run_id = %s", run_id)
    if found is None:
        raise LookupError(run_id)
    return found


def run_by_number(experiment_id: int, number: int) -> Run | None:
    """Return a run by its number."""
    return _one("WHERE r.experiment_id = %s AND r.number = %s", experiment_id, number)


def runs_by_numbers(experiment_id: int, numbers: list[int]) -> dict[int, Run]:
    """Return those of an experiment's runs that have these numbers, by number."""
    if not numbers:
        return {}
    rows = query(_SELECT + f"WHERE r.experiment_id = %s AND r.number IN {places(numbers)}", experiment_id, *numbers)
    return {run.number: run for run in (Run(*row) for row in rows)}


def last_run(experiment_id: int) -> Run | None:
    """Return the run that was started last, of those not in the bin."""
    return _one(
        "WHERE r.experiment_id = %s AND r.binned_at IS NULL ORDER BY r.started_at DESC, r.run_id DESC LIMIT 1",
        experiment_id,
    )


def previous_run(run: Run) -> Run | None:
    """Return the run of the same experiment with the next lower number that is not in the bin."""
    return _one(
        "WHERE r.experiment_id = %s AND r.number < %s AND r.binned_at IS NULL ORDER BY r.number DESC LIMIT 1",
        run.experiment_id,
        run.number,
    )


def best_run(project_id: int, experiment_id: int, key: str, higher: bool) -> Run | None:
    """Return the finished run with the best value of a key, the earlier one where two are equal."""
    key_id = key_ids(project_id, [("value", "shown", key)]).get(("value", "shown", key))
    if key_id is None:
        return None
    return _one(
        "JOIN value_num v ON v.run_id = r.run_id AND v.key_id = %s AND v.experiment_id = r.experiment_id"
        f" WHERE r.experiment_id = %s AND r.status = 'finished' AND r.binned_at IS NULL"
        f" ORDER BY v.num {'DESC' if higher else 'ASC'}, r.run_id ASC LIMIT 1",
        key_id,
        experiment_id,
    )


def runs_by_tail(project_ids: list[int], tail: str) -> list[Run]:
    """Return up to three runs whose id ends in these hex digits."""
    if not project_ids:
        return []
    rows = query(
        _SELECT + f"WHERE e.project_id IN {places(project_ids)} AND LOWER(HEX(r.uid)) LIKE %s LIMIT 3",
        *project_ids,
        "%" + tail.replace("-", ""),
    )
    return [Run(*row) for row in rows]


def ids_in_experiment(experiment_id: int, limit: int) -> list[int]:
    """Return the ids of an experiment's runs that are not in the bin, by their numbers, up to a limit."""
    rows = (
        RunRow.select(RunRow.run_id)
        .where((RunRow.experiment_id == experiment_id) & RunRow.binned_at.is_null() & RunRow.purged_at.is_null())
        .order_by(RunRow.number)
        .limit(limit)
    )
    return [row.run_id for row in rows]


def runs_by_ids(run_ids: list[int]) -> list[Run]:
    """Return runs in the order of the given ids."""
    if not run_ids:
        return []
    found = {row[0]: Run(*row) for row in query(_SELECT + f"WHERE r.run_id IN {places(run_ids)}", *run_ids)}
    return [found[run_id] for run_id in run_ids if run_id in found]


def add_run(
    uid: bytes,
    experiment_id: int,
    number: int,
    name: str | None,
    author_id: int,
    host: str,
    parent_uid: bytes | None,
    started_at: datetime,
    lease_s: int,
) -> int:
    """Insert a running run with an empty document and return its id."""
    run_id = int(
        RunRow.insert(
            uid=uid,
            experiment_id=experiment_id,
            number=number,
            name=name,
            status="running",
            author_id=author_id,
            host=host,
            parent_uid=parent_uid,
            started_at=started_at,
            last_sign_at=now(),
            lease_s=lease_s,
            changed_at=now(),
        ).execute()
    )
    execute("INSERT INTO run_doc (run_id, doc) VALUES (%s, %s)", run_id, pack(RunDoc()))
    execute("INSERT INTO run_ingest (run_id) VALUES (%s)", run_id)
    return run_id


def set_imported(run_id: int, status: str, reason: str | None, ended_at: datetime, source: str) -> None:
    """Note where an imported run came from and how it ended there; it is not complete yet."""
    execute(
        "UPDATE run SET status = %s, reason = %s, ended_at = %s, last_sign_at = %s, imported_from = %s"
        " WHERE run_id = %s",
        status,
        reason,
        ended_at,
        ended_at,
        source[:200],
        run_id,
    )


def is_half_imported(run_id: int) -> bool:
    """Tell whether an import of this run was cut off."""
    return bool(
        query("SELECT 1 FROM run WHERE run_id = %s AND imported_from IS NOT NULL AND imported_at IS NULL", run_id)
    )


def finish_import(run_id: int) -> None:
    """Note that everything of an imported run is here."""
    execute("UPDATE run SET imported_at = %s WHERE run_id = %s", now(), run_id)
    events.tell_run(run_id)


def sign_of_life(run_id: int) -> None:
    """Note that the run is alive; one that was taken for lost is running again."""
    moment = now()
    execute("UPDATE run SET last_sign_at = %s, changed_at = %s WHERE run_id = %s", moment, moment, run_id)
    if execute(
        "UPDATE run SET status = 'running', reason = NULL, ended_at = NULL WHERE run_id = %s AND status = 'lost'",
        run_id,
    ):
        run = run_by_id(run_id)
        journal.append(run.project_id, None, "came back", run.subject, before="lost", after="running")
        events.tell_run(run_id)


def set_ending(run_id: int, status: str, reason: str | None, ended_at: datetime) -> None:
    """Set the final status."""
    execute(
        "UPDATE run SET status = %s, reason = %s, ended_at = %s, changed_at = %s WHERE run_id = %s",
        status,
        reason,
        ended_at,
        now(),
        run_id,
    )
    events.tell_run(run_id)


def silent_runs() -> list[int]:
    """Return running runs whose last sign of life is older than their lease."""
    rows = query(
        "SELECT run_id FROM run WHERE status = 'running' AND last_sign_at < %s - INTERVAL lease_s SECOND LIMIT 500",
        now(),
    )
    return [run_id for (run_id,) in rows]


def mark_lost(run_id: int) -> bool:
    """Mark a run as lost if it still is silent; tells whether it was."""
    moment = now()
    lost = execute(
        "UPDATE run SET status = 'lost', ended_at = last_sign_at, changed_at = %s,"
        " reason = CONCAT('no sign of life for over ', lease_s, ' s')"
        " WHERE run_id = %s AND status = 'running' AND last_sign_at < %s - INTERVAL lease_s SECOND",
        moment,
        run_id,
        moment,
    )
    if lost:
        events.tell_run(run_id)
    return bool(lost)


def set_running_again(run_id: int, resumed_at: datetime) -> None:
    """Take an ended run up again."""
    execute(
        "UPDATE run SET status = 'running', reason = NULL, ended_at = NULL, resumed_at = %s, last_sign_at = %s,"
        " changed_at = %s WHERE run_id = %s",
        resumed_at,
        now(),
        now(),
        run_id,
    )
    events.tell_run(run_id)


def lock_run(run_id: int) -> Run:
    """Return a run, its row locked until the transaction ends."""
    query("SELECT run_id FROM run WHERE run_id = %s FOR UPDATE", run_id)
    return run_by_id(run_id)


def touch(run_id: int) -> None:
    """Note that something about the run changed."""
    execute("UPDATE run SET changed_at = %s WHERE run_id = %s", now(), run_id)
    events.tell_run(run_id)


def rename(run_id: int, name: str | None) -> None:
    """Give a run another name, or none."""
    execute("UPDATE run SET name = %s, changed_at = %s WHERE run_id = %s", name, now(), run_id)
    events.tell_run(run_id)


def set_binned(run_id: int, person_id: int | None) -> None:
    """Put a run into the bin for a person, or with None take it out."""
    moment = now()
    execute(
        "UPDATE run SET binned_at = %s, binned_by = %s, changed_at = %s WHERE run_id = %s",
        None if person_id is None else moment,
        person_id,
        moment,
        run_id,
    )
    events.tell_run(run_id)


def binned_runs(project_id: int, limit: int) -> list[Run]:
    """Return a project's runs in the bin, the latest first."""
    rows = query(
        _SELECT + "WHERE e.project_id = %s AND r.binned_at IS NOT NULL AND r.purged_at IS NULL"
        " ORDER BY r.binned_at DESC LIMIT %s",
        project_id,
        limit,
    )
    return [Run(*row) for row in rows]


def children_of(uid: bytes, project_id: int, limit: int) -> list[Run]:
    """Return the runs under a parent that are not in the bin, the earliest first."""
    rows = query(
        _SELECT + "WHERE r.parent_uid = %s AND e.project_id = %s AND r.binned_at IS NULL ORDER BY r.run_id LIMIT %s",
        uid,
        project_id,
        limit,
    )
    return [Run(*row) for row in rows]


def family_of(uids: Sequence[bytes], project_id: int, limit: int) -> list[Run]:
    """Return all runs below others, their children and those below them, that were not purged; the earliest first."""
    found: dict[bytes, Run] = {}
    above = list(uids)
    while above and len(found) <= limit:
        rows = query(
            _SELECT + f"WHERE r.parent_uid IN {places(above)} AND e.project_id = %s AND r.purged_at IS NULL LIMIT %s",
            *above,
            project_id,
            limit + 1,
        )
        fresh = {run.uid: run for run in (Run(*row) for row in rows) if run.uid not in found and run.uid not in uids}
        found |= fresh
        above = list(fresh)
    return sorted(found.values(), key=lambda run: run.run_id)


def counts_of_children(uids: list[bytes], experiment_ids: list[int]) -> dict[bytes, int]:
    """Return how many children in these experiments the runs have; runs in the bin are not counted."""
    if not uids or not experiment_ids:
        return {}
    rows = query(
        f"SELECT parent_uid, COUNT(*) FROM run WHERE parent_uid IN {places(uids)} AND binned_at IS NULL"
        f" AND experiment_id IN {places(experiment_ids)} GROUP BY parent_uid",
        *uids,
        *experiment_ids,
    )
    return {uid: int(count) for uid, count in rows}


def references_of(uids: list[bytes]) -> dict[bytes, str]:
    """Return references of runs by their ids."""
    if not uids:
        return {}
    rows = query(
        "SELECT r.uid, e.name, r.number FROM run r JOIN experiment e USING (experiment_id)"
        f" WHERE r.uid IN {places(uids)}",
        *uids,
    )
    return {uid: f"{experiment}/{number}" for uid, experiment, number in rows}


def parents_and_children(run_ids: set[int], of_children: bool) -> list[tuple[int, int]]:
    """Return (parent, child) pairs of which some runs are the children, or with `of_children` false the parents."""
    parent, child = RunRow.alias(), RunRow.alias()
    ordered, found = sorted(run_ids), list[tuple[int, int]]()
    for start in range(0, len(ordered), 1000):
        known = child if of_children else parent
        rows = (
            parent.select(parent.run_id.alias("above"), child.run_id.alias("below"))
            .join(child, on=(child.parent_uid == parent.uid))
            .where(known.run_id.in_(ordered[start : start + 1000]))
        )
        found += [(row.above, row.below) for row in named_rows(rows)]
    return found


def load_doc(run_id: int) -> RunDoc:
    """Return a run's document."""
    ((raw,),) = query("SELECT doc FROM run_doc WHERE run_id = %s", run_id)
    return unpack_doc(raw)


def load_docs(run_ids: list[int]) -> dict[int, RunDoc]:
    """Return many documents by run id."""
    if not run_ids:
        return {}
    rows = query(f"SELECT run_id, doc FROM run_doc WHERE run_id IN {places(run_ids)}", *run_ids)
    return {run_id: unpack_doc(raw) for run_id, raw in rows}


def lock_doc(run_id: int) -> RunDoc:
    """Return a run's document, locked against other writers until the transaction ends."""
    ((raw,),) = query("SELECT doc FROM run_doc WHERE run_id = %s FOR UPDATE", run_id)
    doc = unpack_doc(raw)
    doc.found_described = doc.described()
    return doc


def save_doc(
    run: Run, doc: RunDoc, goals: dict[str, Goal], params: Iterable[str] = (), values: Iterable[str] = ()
) -> None:
    """Write a locked document back and bring the index up to date.

    For the named parameters and values, and for labels, commit and problems where they changed.
    """
    execute("UPDATE run_doc SET doc = %s WHERE run_id = %s", pack(doc), run.run_id)
    touch(run.run_id)
    save_index(run, doc, goals, params, values)
    save_described(run, doc.found_described, doc.described())
