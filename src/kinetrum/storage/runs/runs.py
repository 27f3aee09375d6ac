"""Runs: their rows, their documents, and the index tables that follow the documents.

Guarantee: a document and its index rows change in one transaction, under the lock of the run's row,
so the table that sorts and filters never disagrees with the page that shows the run.
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Any

from peewee import SQL, Expression, ModelSelect, fn

from kinetrum.core.base.run_document import RunDoc, pack
from kinetrum.storage.db.clock import now
from kinetrum.storage.db.database import Prepared, named_rows, records
from kinetrum.storage.live import events
from kinetrum.storage.people import journal
from kinetrum.storage.runs.run_index import key_ids
from kinetrum.storage.tables.people import Experiment, Project
from kinetrum.storage.tables.runs import RunDocument, RunIngest, RunRow
from kinetrum.storage.tables.search import NumberValue


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


_COLUMNS = (
    RunRow.run_id,
    RunRow.uid,
    Experiment.project_id,
    Project.name.alias("project"),
    RunRow.experiment_id,
    Experiment.name.alias("experiment"),
    RunRow.number,
    RunRow.name,
    RunRow.status,
    RunRow.reason,
    RunRow.author_id,
    RunRow.host,
    RunRow.parent_uid,
    RunRow.started_at,
    RunRow.ended_at,
    RunRow.last_sign_at,
    RunRow.lease_s,
    RunRow.changed_at,
    RunRow.resumed_at,
    RunRow.binned_at,
    RunRow.binned_by,
    RunRow.purged_at,
    RunRow.imported_from,
)


def select_runs(*conditions: Expression) -> ModelSelect[RunRow]:
    """Begin a query for runs that meet conditions, with the names of their experiments and projects."""
    return (
        RunRow.select(*_COLUMNS)
        .join(Experiment, on=Experiment.experiment_id == RunRow.experiment_id)
        .join(Project, on=Project.project_id == Experiment.project_id)
        .where(*conditions)
    )


def read_runs(select: ModelSelect[RunRow]) -> list[Run]:
    """Read the runs that a query selects."""
    return records(select, Run)


def _one(select: ModelSelect[RunRow]) -> Run | None:
    return next(iter(read_runs(select.limit(1))), None)


_BY_UID = Prepared(lambda uid: select_runs(RunRow.uid == uid))


_BY_ID = Prepared(lambda run_id: select_runs(RunRow.run_id == run_id))


_BY_NUMBER = Prepared(
    lambda experiment_id, number: select_runs(RunRow.experiment_id == experiment_id, RunRow.number == number)
)


_LOCK = Prepared(lambda run_id: RunRow.select(RunRow.run_id).where(RunRow.run_id == run_id).for_update())


_TOUCH = Prepared(lambda moment, run_id: RunRow.update(changed_at=moment).where(RunRow.run_id == run_id))


_SIGN = Prepared(
    lambda moment, run_id: RunRow.update(last_sign_at=moment, changed_at=moment).where(RunRow.run_id == run_id)
)


_REVIVE = Prepared(
    lambda run_id: RunRow.update(status="running", reason=None, ended_at=None).where(
        RunRow.run_id == run_id, RunRow.status == "lost"
    )
)


def _first(rows: list[Any]) -> Run | None:
    return Run(**rows[0]._asdict()) if rows else None


def run_by_uid(uid: bytes) -> Run | None:
    """Return the run with that id."""
    return _first(_BY_UID.rows(uid))


def run_by_id(run_id: int) -> Run:
    """Return a run that is known to exist."""
    run = _first(_BY_ID.rows(run_id))
    if run is None:
        raise LookupError(run_id)
    return run


def run_by_number(experiment_id: int, number: int) -> Run | None:
    """Return a run by its number."""
    return _first(_BY_NUMBER.rows(experiment_id, number))


def runs_by_numbers(experiment_id: int, numbers: list[int]) -> dict[int, Run]:
    """Return those of an experiment's runs that have these numbers, by number."""
    if not numbers:
        return {}
    runs = read_runs(select_runs(RunRow.experiment_id == experiment_id, RunRow.number.in_(numbers)))
    return {run.number: run for run in runs}


def last_run(experiment_id: int) -> Run | None:
    """Return the run that was started last, of those not in the bin."""
    in_sight = select_runs(RunRow.experiment_id == experiment_id, RunRow.binned_at.is_null())
    return _one(in_sight.order_by(RunRow.started_at.desc(), RunRow.run_id.desc()))


def previous_run(run: Run) -> Run | None:
    """Return the run of the same experiment with the next lower number that is not in the bin."""
    earlier = select_runs(
        RunRow.experiment_id == run.experiment_id, RunRow.number < run.number, RunRow.binned_at.is_null()
    )
    return _one(earlier.order_by(RunRow.number.desc()))


def best_run(project_id: int, experiment_id: int, key: str, higher: bool) -> Run | None:
    """Return the finished run with the best value of a key, the earlier one where two are equal."""
    key_id = key_ids(project_id, [("value", "shown", key)]).get(("value", "shown", key))
    if key_id is None:
        return None
    finished = select_runs(
        RunRow.experiment_id == experiment_id, RunRow.status == "finished", RunRow.binned_at.is_null()
    ).join(
        NumberValue,
        on=(NumberValue.run_id == RunRow.run_id)
        & (NumberValue.key_id == key_id)
        & (NumberValue.experiment_id == RunRow.experiment_id),
        src=RunRow,
    )
    return _one(finished.order_by(NumberValue.num.desc() if higher else NumberValue.num.asc(), RunRow.run_id))


def runs_by_tail(project_ids: list[int], tail: str) -> list[Run]:
    """Return up to three runs whose id ends in these hex digits."""
    if not project_ids:
        return []
    ending = fn.LOWER(fn.HEX(RunRow.uid)).endswith(tail.replace("-", ""))
    return read_runs(select_runs(Experiment.project_id.in_(project_ids), ending).limit(3))


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
    runs = {run.run_id: run for run in read_runs(select_runs(RunRow.run_id.in_(run_ids)))}
    return [runs[run_id] for run_id in run_ids if run_id in runs]


@dataclass(frozen=True)
class NewRunRow:
    """A run to insert; `lease_s` is how long it may be silent."""

    number: int
    name: str | None
    author_id: int
    host: str
    parent_uid: bytes | None
    started_at: datetime
    lease_s: int


def add_run(
    uid: bytes,
    experiment_id: int,
    new: NewRunRow,
) -> int:
    """Insert a running run with an empty document and return its id."""
    run_id = int(
        RunRow.insert(
            uid=uid,
            experiment_id=experiment_id,
            number=new.number,
            name=new.name,
            status="running",
            author_id=new.author_id,
            host=new.host,
            parent_uid=new.parent_uid,
            started_at=new.started_at,
            last_sign_at=now(),
            lease_s=new.lease_s,
            changed_at=now(),
        ).execute()
    )
    RunDocument.insert(run_id=run_id, doc=pack(RunDoc())).execute()
    RunIngest.insert(run_id=run_id).execute()
    return run_id


def set_imported(run_id: int, status: str, reason: str | None, ended_at: datetime, source: str) -> None:
    """Note where an imported run came from and how it ended there; it is not complete yet."""
    changes = RunRow.update(
        status=status, reason=reason, ended_at=ended_at, last_sign_at=ended_at, imported_from=source[:200]
    )
    changes.where(RunRow.run_id == run_id).execute()


def is_half_imported(run_id: int) -> bool:
    """Tell whether an import of this run was cut off."""
    half = (RunRow.run_id == run_id) & RunRow.imported_from.is_null(False) & RunRow.imported_at.is_null()
    return bool(RunRow.select().where(half).exists())


def finish_import(run_id: int) -> None:
    """Note that everything of an imported run is here."""
    RunRow.update(imported_at=now()).where(RunRow.run_id == run_id).execute()
    events.tell_run(run_id)


def sign_of_life(run_id: int) -> None:
    """Note that the run is alive; one that was taken for lost is running again."""
    moment = now()
    _SIGN.execute(moment, run_id)
    if _REVIVE.execute(run_id):
        run = run_by_id(run_id)
        journal.append(run.project_id, None, "came back", run.subject, journal.Change("lost", "running"))
        events.tell_run(run_id)


def set_ending(run_id: int, status: str, reason: str | None, ended_at: datetime) -> None:
    """Set the final status."""
    changes = RunRow.update(status=status, reason=reason, ended_at=ended_at, changed_at=now())
    changes.where(RunRow.run_id == run_id).execute()
    events.tell_run(run_id)


def silent_runs() -> list[int]:
    """Return running runs whose last sign of life is older than their lease."""
    rows = RunRow.select(RunRow.run_id).where(_is_silent(now())).limit(500)
    return [row.run_id for row in named_rows(rows)]


def _is_silent(moment: datetime) -> Expression:
    return (RunRow.status == "running") & (RunRow.last_sign_at < SQL("%s - INTERVAL lease_s SECOND", [moment]))


def mark_lost(run_id: int) -> bool:
    """Mark a run as lost if it still is silent; tells whether it was."""
    moment = now()
    lost = (
        RunRow.update(
            status="lost",
            ended_at=RunRow.last_sign_at,
            changed_at=moment,
            reason=fn.CONCAT("no sign of life for over ", RunRow.lease_s, " s"),
        )
        .where(RunRow.run_id == run_id, _is_silent(moment))
        .execute()
    )
    if lost:
        events.tell_run(run_id)
    return bool(lost)


def set_running_again(run_id: int, resumed_at: datetime) -> None:
    """Take an ended run up again."""
    changes = RunRow.update(
        status="running", reason=None, ended_at=None, resumed_at=resumed_at, last_sign_at=now(), changed_at=now()
    )
    changes.where(RunRow.run_id == run_id).execute()
    events.tell_run(run_id)


def lock_run(run_id: int) -> Run:
    """Return a run, its row locked until the transaction ends."""
    _LOCK.rows(run_id)
    return run_by_id(run_id)


def touch(run_id: int) -> None:
    """Note that something about the run changed."""
    _TOUCH.execute(now(), run_id)
    events.tell_run(run_id)


def rename(run_id: int, name: str | None) -> None:
    """Give a run another name, or none."""
    RunRow.update(name=name, changed_at=now()).where(RunRow.run_id == run_id).execute()
    events.tell_run(run_id)


def set_binned(run_id: int, person_id: int | None) -> None:
    """Put a run into the bin for a person, or with None take it out."""
    moment = now()
    binned_at = None if person_id is None else moment
    changes = RunRow.update(binned_at=binned_at, binned_by=person_id, changed_at=moment)
    changes.where(RunRow.run_id == run_id).execute()
    events.tell_run(run_id)


def ids_to_remove(project_id: int, limit: int) -> list[int]:
    """Return the ids of a project's runs that were not purged."""
    rows = (
        RunRow.select(RunRow.run_id)
        .join(Experiment, on=Experiment.experiment_id == RunRow.experiment_id)
        .where(Experiment.project_id == project_id, RunRow.purged_at.is_null())
        .limit(limit)
    )
    return [row.run_id for row in named_rows(rows)]


def binned_runs(project_id: int, limit: int) -> list[Run]:
    """Return a project's runs in the bin, the latest first."""
    binned = select_runs(
        Experiment.project_id == project_id, RunRow.binned_at.is_null(False), RunRow.purged_at.is_null()
    )
    return read_runs(binned.order_by(RunRow.binned_at.desc()).limit(limit))
