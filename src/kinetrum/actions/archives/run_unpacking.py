"""Taking one run of an archive in: its row, what was recorded in it, what it used and generated."""

from __future__ import annotations

import hashlib
import json
from typing import Any

from kinetrum.actions.archives.imported import Imported
from kinetrum.actions.archives.members import (
    read_machine,
    read_output,
    read_plots,
    read_points,
)
from kinetrum.actions.archives.opened import Opened, experiment_here, read_run_record
from kinetrum.actions.archives.origins import Origin
from kinetrum.actions.context import enter
from kinetrum.actions.people import quotas
from kinetrum.core.archives.archive import (
    Contents,
    LinkRecord,
    PlotRecord,
    RunRecord,
)
from kinetrum.core.base.errors import Conflict
from kinetrum.core.base.ids import id_bytes
from kinetrum.core.base.permissions import Act
from kinetrum.core.base.run_document import Link
from kinetrum.core.base.samples import Samples
from kinetrum.core.points.codec import Group, encode_batch
from kinetrum.core.text.printed_lines import Line
from kinetrum.storage.data import links, texts
from kinetrum.storage.data.links import LinkRow
from kinetrum.storage.db.clock import from_micros
from kinetrum.storage.db.database import transaction
from kinetrum.storage.people import journal, notes, projects
from kinetrum.storage.runs import outputs, plots, points, resources, result_records, run_documents, runs
from kinetrum.storage.runs.result_records import ResultRow


def take_run(
    origin: Origin,
    project: str,
    uid: str,
    opened: Opened,
    numbers: dict[tuple[str, int], tuple[int, int]],
    done: Imported,
) -> None:
    """Take a run in with all that was recorded in it; one that is here whole already is left as it is."""
    record = read_run_record(opened.archive, uid)
    run_id, complete = _make_run(origin, project, record, opened.contents, numbers, done)
    if complete:
        return
    folder = f"runs/{record.uid}/"
    for at, batch in enumerate(read_points(opened.archive, f"{folder}points.csv")):
        _add_points(run_id, record.uid, at, batch)
    _add_output(run_id, list(read_output(opened.archive, f"{folder}output.jsonl")))
    for at, block in enumerate(read_machine(opened.archive, f"{folder}machine.jsonl")):
        _add_machine(run_id, record.uid, at, block)
    for plot in read_plots(opened.archive, f"{folder}plots.jsonl"):
        _add_plot(run_id, plot)
    _complete(run_id)


@transaction
def _make_run(
    origin: Origin,
    project: str,
    record: RunRecord,
    contents: Contents,
    numbers: dict[tuple[str, int], tuple[int, int]],
    done: Imported,
) -> tuple[int, bool]:
    """Make the run's row and document; returns its id, and whether it was here complete already."""
    actor = origin.actor
    place = enter(actor, project, Act.RECORD)
    uid = id_bytes(record.uid)
    known = runs.run_by_uid(uid)
    if known is not None:
        if known.project_id != place.project_id:
            raise Conflict(f"Run {record.uid} is in another project of this instance; a run has one place.")
        if not runs.is_half_imported(known.run_id):
            done.known.append(known.reference)
            return known.run_id, True
        done.runs[f"{record.experiment}/{record.number}"] = known.reference
        return known.run_id, False
    experiment = experiment_here(place, next(one for one in contents.experiments if one.name == record.experiment))
    if experiment is None:
        raise Conflict(f"The experiment {record.experiment} vanished.")
    quotas.spend(place.project_id, runs=1)
    number = projects.take_run_number(experiment.experiment_id, record.number)
    run_id = _add_row(origin, record, experiment.experiment_id, number)
    doc = record.doc
    doc.texts = {name: texts.keep_text(place.project_id, text) for name, text in record.texts.items()}
    _add_links(run_id, record.links, numbers, doc.used, doc.generated, contents)
    rows = [
        ResultRow(id_bytes(uid), key, json.dumps(_plain(value)), from_micros(at))
        for uid, key, value, at in record.results
    ]
    result_records.add_results(run_id, rows)
    run = runs.run_by_id(run_id)
    goals = projects.goals_to_index(experiment.experiment_id)
    run_documents.save_doc(run, doc, goals, params=doc.params, values=doc.results)
    for note in record.notes:
        imported = notes.ImportedNote(
            id_bytes(note.uid), origin.person_id(note.by), note.text, from_micros(note.at), origin.words(note.by)
        )
        notes.add_imported(place.project_id, "run", run_id, imported)
    change = journal.Change(after={"from": run.imported_from})
    journal.append(place.project_id, actor.person_id, "imported", run.subject, change, source=actor.source)
    was = f"{record.experiment}/{record.number}"
    done.runs[was] = run.reference
    if number != record.number:
        done.remarks.append(f"{was} arrived as {run.reference}: its number is taken here.")
    return run_id, False


def _add_row(origin: Origin, record: RunRecord, experiment_id: int, number: int) -> int:
    """Insert the run's row with where it came from and how it ended there; one that was running is stopped here."""
    new = runs.NewRunRow(
        number,
        record.name,
        origin.person_id(record.by),
        record.host,
        id_bytes(record.parent) if record.parent else None,
        from_micros(record.started_at),
        max(1, record.lease_s),
    )
    run_id = runs.add_run(id_bytes(record.uid), experiment_id, new)
    running = record.status == "running"
    runs.set_imported(
        run_id,
        "stopped" if running else record.status,
        "was still running when it was exported" if running else record.reason,
        from_micros(record.ended_at or record.started_at),
        origin.words(record.by, f"{record.experiment}/{record.number}"),
    )
    return run_id


def _plain(value: Any) -> Any:
    from kinetrum.core.base.values import to_json

    return to_json(value)


def _add_links(
    run_id: int,
    records: list[LinkRecord],
    numbers: dict[tuple[str, int], tuple[int, int]],
    used: list[Link],
    generated: list[Link],
    contents: Contents,
) -> None:
    versions = {(version.name, version.number): version for version in contents.versions}
    for record in records:
        version_id, number = numbers[record.name, record.number]
        version = versions[record.name, record.number]
        links.add_link(
            LinkRow(
                run_id,
                id_bytes(record.uid),
                version_id,
                record.relation,
                record.role,
                record.step,
                from_micros(record.at),
                record.activity,
                None,
            )
        )
        (used if record.relation == "used" else generated).append(
            Link(record.name, number, version.digest, record.role, record.step, version.kind, record.activity)
        )


def _uid(uid: str, what: str, at: int) -> bytes:
    return hashlib.sha256(f"{uid} {what} {at}".encode()).digest()[:16]


@transaction
def _add_points(run_id: int, uid: str, at: int, groups: list[Group]) -> None:
    count = sum(len(group.steps) for group in groups)
    if points.append_batch(run_id, _uid(uid, "points", at), encode_batch(groups), count):
        quotas.spend(runs.run_by_id(run_id).project_id, points=count)


@transaction
def _add_output(run_id: int, lines: list[Line]) -> None:
    if outputs.line_count(run_id) == 0:
        outputs.add_imported(run_id, lines)


@transaction
def _add_machine(run_id: int, uid: str, at: int, block: Samples) -> None:
    resources.add_block(run_id, _uid(uid, "machine", at), block)


@transaction
def _add_plot(run_id: int, record: PlotRecord) -> None:
    at = from_micros(record.at)
    plots.add_plot(run_id, id_bytes(record.uid), record.name, record.step, at, record.plot, record.declared)


def _complete(run_id: int) -> None:
    from kinetrum.actions.recording.intake import compact_run

    while compact_run(run_id):
        pass
    _mark_complete(run_id)


@transaction
def _mark_complete(run_id: int) -> None:
    runs.finish_import(run_id)
