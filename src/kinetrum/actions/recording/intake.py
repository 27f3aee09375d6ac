"""Recording: runs begin, are told things, and end. Everything here may be sent twice without harm."""

from __future__ import annotations

import json
import threading
import time
from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import datetime

from kinetrum.actions.context import Actor, Place, enter
from kinetrum.actions.people import quotas
from kinetrum.actions.people.projects import make_project_on_first_use
from kinetrum.actions.recording import checkpoints
from kinetrum.actions.search.references import run_to_write
from kinetrum.core.base.errors import Conflict, InvalidInput, NotFound
from kinetrum.core.base.goals import Goal
from kinetrum.core.base.ids import id_bytes
from kinetrum.core.base.permissions import Act
from kinetrum.core.base.run_document import Result, RunDoc
from kinetrum.core.base.values import Value, check_key, check_label, check_name, check_run_name, same, show, to_json
from kinetrum.core.points.codec import Group, encode_batch
from kinetrum.core.text.run_names import generate_run_name
from kinetrum.storage.db.clock import from_micros, now, to_micros
from kinetrum.storage.db.database import transaction
from kinetrum.storage.live import events
from kinetrum.storage.people import journal, projects
from kinetrum.storage.people.projects import ExperimentRow
from kinetrum.storage.runs import outputs, points, result_records, run_documents, runs
from kinetrum.storage.runs.result_records import ResultRow
from kinetrum.storage.runs.runs import Run

LEASE_RANGE_S = (10, 604_800)
_STATUSES = ("finished", "failed", "stopped")
_REASON_LIMIT = 4_000
SKETCHES_KEPT = 200
PATIENCE_S, _LOOK_AGAIN_S = 5.0, 0.01
_turns: dict[tuple[str | None, str | None], threading.Lock] = {}


@dataclass(frozen=True)
class Beginning:
    """What a run is begun with. Times are microseconds since 1970, UTC."""

    uid: str
    started_at: int
    name: str | None = None
    host: str = ""
    parent: str | None = None
    lease_s: int = 120
    params: dict[str, Value] = field(default_factory=dict)
    goals: dict[str, Goal] = field(default_factory=dict)
    labels: dict[str, str] = field(default_factory=dict)
    about: dict[str, Value] = field(default_factory=dict)


@dataclass(frozen=True)
class NewResult:
    """One result with its client-made id and time in microseconds."""

    uid: str
    key: str
    value: Value
    at: int


@dataclass(frozen=True)
class SetAside:
    """What could not be taken because something else stood there first."""

    key: str
    text: str


def begin_run(actor: Actor, project: str, experiment: str, beginning: Beginning) -> Run:
    """Begin a run, making the experiment (for administrators the project too) on first use.

    Begun again under the same id, the run that is there comes back unchanged.
    """
    make_project_on_first_use(actor, project)
    return _begin(actor, project, experiment, beginning)


def _experiment(actor: Actor, place: Place, name: str) -> ExperimentRow:
    """Return the experiment of that name, or that had it before it was renamed; made where there is none."""
    known = projects.experiment_named(place.project_id, name)
    if known is not None:
        return known
    if projects.add_experiment(place.project_id, name, actor.person_id):
        journal.append(
            place.project_id, actor.person_id, "made the experiment", f"experiment:{name}", source=actor.source
        )
    row = projects.experiment_named(place.project_id, name)
    if row is None:
        raise NotFound(f"The experiment {name!r} vanished.", field="experiment")
    return row


@transaction
def _begin(actor: Actor, project: str, experiment: str, beginning: Beginning) -> Run:
    place = enter(actor, project, Act.RECORD)
    check_name(experiment, "experiment")
    uid = id_bytes(beginning.uid)
    known = runs.run_by_uid(uid)
    if known is not None:
        row = projects.experiment_named(place.project_id, experiment)
        if known.project_id != place.project_id or row is None or known.experiment_id != row.experiment_id:
            raise Conflict(f"The id {beginning.uid} belongs to another run.", field="id")
        return known
    row = _experiment(actor, place, experiment)
    quotas.spend(place.project_id, runs=1)
    low, high = LEASE_RANGE_S
    parent, stranger = _parent(place, beginning.parent)
    run_id = runs.add_run(
        uid,
        row.experiment_id,
        runs.NewRunRow(
            projects.next_run_number(row.experiment_id),
            check_run_name(beginning.name) or (generate_run_name(uid) if row.generates_names else None),
            actor.person_id,
            beginning.host[:200],
            parent,
            _moment(beginning.started_at, "started_at"),
            min(max(beginning.lease_s, low), high),
        ),
    )
    run = runs.run_by_id(run_id)
    doc = RunDoc(labels=_labels(beginning.labels), about=beginning.about, seeds=row.seeds)
    if stranger:
        doc.add_problem(stranger, beginning.started_at)
    _declare_goals(row.experiment_id, beginning.goals, doc, beginning.started_at)
    _set_params(doc, beginning.params, beginning.started_at)
    run_documents.save_doc(run, doc, {}, params=doc.params)
    journal.append(place.project_id, actor.person_id, "began", run.subject, source=actor.source)
    return run


def _parent(place: Place, uid: str | None) -> tuple[bytes | None, str | None]:
    """Return a run's parent, and what is wrong with it: a run of another project is none.

    One that is not known yet may still come.
    """
    if uid is None:
        return None, None
    parent_uid = id_bytes(uid, "parent")
    parent = runs.run_by_uid(parent_uid)
    if parent is None or parent.project_id == place.project_id:
        return parent_uid, None
    return None, "Its parent is not a run of this project; the run stands without a parent."


def _labels(labels: dict[str, str]) -> dict[str, str]:
    return {key: check_label(key, text) for key, text in labels.items()}


def _moment(micros: int, what: str) -> datetime:
    if not 0 <= micros < 2**55:
        raise InvalidInput(f"{micros} is not a time in microseconds since 1970.", field=what)
    return from_micros(micros)


def _declare_goals(experiment_id: int, goals: dict[str, Goal], doc: RunDoc, at: int) -> None:
    standing = projects.goals_of(experiment_id)
    for goal in goals.values():
        known = standing.get(goal.key)
        if known is None:
            projects.add_goal(experiment_id, goal, len(standing))
            standing[goal.key] = goal
        elif known != goal:
            bound = "" if known.bound is None else f", bound {known.bound:g}"
            text = f"The goal of {goal.key} stands differently in this experiment and was kept: "
            doc.add_problem(f"{text}{known.direction}{bound}.", at)


def _set_params(doc: RunDoc, params: dict[str, Value], at: int) -> tuple[list[str], list[SetAside]]:
    fresh, aside = [], []
    for key, value in params.items():
        if key not in doc.params:
            doc.params[key] = value
            fresh.append(key)
        elif not same(doc.params[key], value):
            text = f"The parameter {key} was set to {show(doc.params[key])}; {show(value)}, sent later, was set aside."
            aside.append(SetAside(key, text))
            doc.add_problem(text, at)
    return fresh, aside


@transaction
def set_params(actor: Actor, project: str, experiment: str, run_ref: str, params: dict[str, Value]) -> list[SetAside]:
    """Set parameters once; another value for a set one is put aside and becomes a problem of the run."""
    _, run = run_to_write(actor, project, experiment, run_ref)
    doc = run_documents.lock_doc(run.run_id)
    fresh, aside = _set_params(doc, params, to_micros(now()))
    if fresh or aside:
        run_documents.save_doc(run, doc, {}, params=fresh)
    runs.sign_of_life(run.run_id)
    return aside


@transaction
def add_points(actor: Actor, project: str, experiment: str, run_ref: str, batch: str, groups: list[Group]) -> int:
    """Keep a batch of points; returns how many values it holds, also where it was kept before."""
    return _keep_points(actor, project, experiment, run_ref, batch, groups, encode_batch(groups))


@transaction
def add_packed_points(
    actor: Actor, project: str, experiment: str, run_ref: str, batch: str, groups: list[Group], body: bytes
) -> int:
    """Keep a batch that came in binary form as it is; `groups` is what was read from `body`."""
    return _keep_points(actor, project, experiment, run_ref, batch, groups, body)


def _keep_points(
    actor: Actor,
    project: str,
    experiment: str,
    run_ref: str,
    batch: str,
    groups: Sequence[Group],
    body: bytes,
) -> int:
    _, run = run_to_write(actor, project, experiment, run_ref)
    count = sum(group.values.size for group in groups)
    if count:
        if points.append_batch(run.run_id, id_bytes(batch, "batch"), body, count):
            quotas.spend(run.project_id, points=count)
        events.tell_run(run.run_id)
    runs.sign_of_life(run.run_id)
    return count


@transaction
def add_results(actor: Actor, project: str, experiment: str, run_ref: str, results: list[NewResult]) -> None:
    """Keep results; of one key the latest by time is shown, all are kept."""
    _, run = run_to_write(actor, project, experiment, run_ref)
    doc = run_documents.lock_doc(run.run_id)
    # One that is known and comes again, however late, must not replace what was recorded after it.
    known = result_records.known_results(run.run_id, [id_bytes(result.uid) for result in results])
    results = [result for result in results if id_bytes(result.uid) not in known]
    rows = [
        ResultRow(
            id_bytes(result.uid),
            check_key(result.key, "result"),
            json.dumps(to_json(result.value)),
            _moment(result.at, "at"),
        )
        for result in results
    ]
    result_records.add_results(run.run_id, rows)
    changed = []
    for result in sorted(results, key=lambda result: result.at):
        standing = doc.results.get(result.key)
        if standing is None or standing.at <= result.at:
            doc.results[result.key] = Result(result.value, result.at)
            changed.append(result.key)
    if changed:
        run_documents.save_doc(run, doc, projects.goals_to_index(run.experiment_id), values=dict.fromkeys(changed))
    runs.sign_of_life(run.run_id)


@transaction
def add_problem(actor: Actor, project: str, experiment: str, run_ref: str, uid: str, text: str, at: int) -> None:
    """Tell of something that went wrong while recording."""
    _, run = run_to_write(actor, project, experiment, run_ref)
    doc = run_documents.lock_doc(run.run_id)
    before = len(doc.problems)
    doc.add_problem(text, at, uid)
    if len(doc.problems) > before:
        run_documents.save_doc(run, doc, {})


@transaction
def keep_alive(actor: Actor, project: str, experiment: str, run_ref: str) -> Run:
    """Give a sign of life; a run that was taken for lost runs again."""
    _, run = run_to_write(actor, project, experiment, run_ref)
    runs.sign_of_life(run.run_id)
    return runs.run_by_id(run.run_id)


@transaction
def record_ending(
    actor: Actor, project: str, experiment: str, run_ref: str, status: str, reason: str | None, ended_at: int
) -> Run:
    """End a run as finished, failed or stopped. Ended again the same way, nothing changes.

    An ending from before the run was taken up again, arriving late, changes nothing either.
    """
    if status not in _STATUSES:
        raise InvalidInput(f"Unknown final status {status!r}. Choose one of: {', '.join(_STATUSES)}.", field="status")
    place, run = run_to_write(actor, project, experiment, run_ref)
    run = runs.lock_run(run.run_id)
    moment = _moment(ended_at, "ended_at")
    if run.resumed_at is not None and moment < run.resumed_at:
        return run
    if run.status in _STATUSES:
        if run.status != status:
            raise Conflict(f"{run.reference} is {run.status} already and stays so.", field="status")
        return run
    outputs.finish_writers(run.run_id)
    doc = run_documents.lock_doc(run.run_id)
    if checkpoints.settle(run, doc, ended_at):
        run_documents.save_doc(run, doc, {})
    runs.set_ending(run.run_id, status, reason[:_REASON_LIMIT] if reason else None, moment)
    journal.append(
        place.project_id, actor.person_id, "ended", run.subject, journal.Change(run.status, status), source=actor.source
    )
    return runs.run_by_id(run.run_id)


@transaction
def resume_run(actor: Actor, project: str, experiment: str, run_ref: str, at: int) -> Run:
    """Take a run up again: one that ended or was lost is running from `at` on. Sent again, nothing changes."""
    place, run = run_to_write(actor, project, experiment, run_ref)
    run = runs.lock_run(run.run_id)
    moment = _moment(at, "at")
    if run.resumed_at is not None and moment <= run.resumed_at:
        return run
    if run.status in _STATUSES and run.ended_at is not None and moment < run.ended_at:
        return run
    runs.set_running_again(run.run_id, moment)
    journal.append(
        place.project_id,
        actor.person_id,
        "resumed",
        run.subject,
        journal.Change(run.status, "running"),
        source=actor.source,
    )
    return runs.run_by_id(run.run_id)


@transaction
def compact_run(run_id: int) -> bool:
    """Move a run's waiting points into chunks and bring its row up to date; False where nothing was to do."""
    done = points.compact(run_id)
    if done is None:
        return False
    run = runs.run_by_id(run_id)
    doc = run_documents.lock_doc(run_id)
    doc.stats.update(done.stats)
    for key, line in done.sketches.items():
        # Thin lines are for tables, which show few columns: a run with thousands of metrics keeps those of the first.
        if key in doc.sketches or len(doc.sketches) < SKETCHES_KEPT:
            doc.sketches[key] = line
    run_documents.save_doc(run, doc, projects.goals_to_index(run.experiment_id), values=done.stats)
    return True


@transaction
def waiting_runs(but: Sequence[int] = ()) -> list[int]:
    """Return runs whose points wait for compaction, without the named ones."""
    return points.runs_to_compact(but)


def bring_up_to_date(project: str | None, experiment: str | None = None, patience_s: float = PATIENCE_S) -> int:
    """Have table rows and indexes of a project's runs hold every point that was acknowledged before the call.

    Of all projects where none is named, of one experiment alone where one is. Where another process is at a run, this
    waits for it, up to `patience_s` for all of them. Returns the number of runs that are not up to date by then.
    """
    waiting = _latest_batches(project, experiment)
    if not waiting:
        return 0
    until = time.monotonic() + patience_s
    # Of many who ask at once one does the work, and the others find it done.
    turn = _turns.setdefault((project, experiment), threading.Lock())
    if not turn.acquire(timeout=max(0.0, patience_s)):
        return sum(_is_waiting(run_id, latest) for run_id, latest in waiting.items())
    try:
        return sum(not _is_up_to_date(run_id, latest, until) for run_id, latest in waiting.items())
    finally:
        turn.release()


def _is_up_to_date(run_id: int, latest: int, until: float) -> bool:
    while _is_waiting(run_id, latest):
        if time.monotonic() > until:
            return False
        if not compact_run(run_id):
            time.sleep(_LOOK_AGAIN_S)
    return True


@transaction
def _latest_batches(project: str | None, experiment: str | None) -> dict[int, int]:
    return points.latest_batches(project, experiment)


@transaction
def _is_waiting(run_id: int, latest: int) -> bool:
    return points.is_waiting(run_id, latest)


@transaction
def mark_lost_runs() -> int:
    """Mark runs without a sign of life as lost; returns how many those were."""
    lost = [run_id for run_id in runs.silent_runs() if runs.mark_lost(run_id)]
    for run_id in lost:
        run = runs.run_by_id(run_id)
        journal.append(run.project_id, None, "lost", run.subject, journal.Change("running", "lost"))
    return len(lost)
