"""From what actions return to what the interface sends."""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from typing import Any

from kinetrum.actions.recording.environment import Surroundings
from kinetrum.actions.runs.readers import ExperimentView, ProjectView, RunView, finite
from kinetrum.actions.search.run_table import RunPage
from kinetrum.core.base import values
from kinetrum.core.base.goals import Goal
from kinetrum.core.base.ids import id_text
from kinetrum.core.base.run_document import Activity, Link, Progress
from kinetrum.core.base.values import Value, special_name, to_json
from kinetrum.core.compare.environment import code_state, expected_end
from kinetrum.core.points.columns import Points
from kinetrum.core.points.stats import Stats
from kinetrum.core.query.settled import Field, Source
from kinetrum.storage.data.artifacts import VersionRow
from kinetrum.storage.db.clock import from_micros
from kinetrum.storage.people.notes import Note
from kinetrum.wire import artifacts, people, runs
from kinetrum.wire import environment as wire

KEYS_IN_A_ROW = 200


def project(view: ProjectView) -> people.Project:
    """Shape a project."""
    return people.Project(
        name=view.project.name,
        description=view.project.description,
        labels=view.project.labels,
        role=view.role,
        experiments=view.experiments,
        runs=view.runs,
        last_activity=view.last_activity,
        is_open=view.project.is_open,
        archived_at=view.project.archived_at,
    )


def experiment(view: ExperimentView) -> runs.Experiment:
    """Shape an experiment."""
    summary = view.summary
    return runs.Experiment(
        name=summary.name,
        description=summary.description,
        labels=summary.labels,
        seeds=list(summary.seeds),
        generates_names=summary.generates_names,
        earlier_names=view.earlier_names,
        runs=summary.runs,
        running=summary.running,
        last_activity=summary.last_activity,
        goals=view.goals,
        best_run=view.best_reference,
        best_value=to_json(view.best_value),
    )


def json_values(values: dict[str, Value]) -> dict[str, Any]:
    """Return values as JSON holds them."""
    return {key: to_json(value) for key, value in values.items()}


def metric(stats: Stats, goal: Goal | None, line: list[tuple[int, float]]) -> runs.Metric:
    """Shape a metric's aggregates and its thin line."""
    best = stats.best(goal.higher) if goal else None
    return runs.Metric.model_construct(
        count=stats.count,
        nan_count=stats.nan_count,
        first=to_json(stats.first),
        last=to_json(stats.last),
        min=to_json(stats.low),
        max=to_json(stats.high),
        mean=to_json(stats.mean),
        best=to_json(best[0]) if best else None,
        best_step=best[1] if best and not math.isnan(best[0]) else None,
        first_step=stats.first_step,
        last_step=stats.last_step,
        line_steps=[step for step, _ in line],
        line_values=[finite(value) for _, value in line],
    )


def link(link_found: Link) -> runs.Link:
    """Shape an input or output."""
    return runs.Link(
        reference=f"{link_found.name}@{link_found.version}",
        name=link_found.name,
        version=link_found.version,
        kind=link_found.kind,
        digest=link_found.digest,
        role=link_found.role,
        step=link_found.step,
        activity=link_found.activity,
    )


def _run_fields(view: RunView) -> dict[str, Any]:
    run, doc = view.run, view.doc
    return {
        "reference": run.reference,
        "id": id_text(run.uid),
        "project": run.project,
        "experiment": run.experiment,
        "number": run.number,
        "name": run.name,
        "status": run.status,
        "reason": run.reason,
        "author": view.author,
        "host": run.host,
        "started_at": run.started_at,
        "ended_at": run.ended_at,
        "labels": doc.labels,
        "problems": [runs.ProblemOfRun(text=item.text, at=item.at) for item in doc.problems],
        "used": [link(item) for item in doc.used],
        "generated": [link(item) for item in doc.generated],
        "progress": progress(doc.progress),
        "imported_from": run.imported_from,
        "commit": doc.fields().get("commit"),
        "code_state": code_state(doc.code, doc.texts),
        "parent_id": id_text(run.parent_uid) if run.parent_uid else None,
    }


def _metrics(view: RunView, keys: Iterable[str]) -> dict[str, runs.Metric]:
    doc = view.doc
    return {key: metric(doc.stats[key], view.goals.get(key), doc.sketches.get(key, [])) for key in keys}


def _row_fields(view: RunView, wanted: Sequence[str] = ()) -> dict[str, Any]:
    """Return what a row says: of very many keys those with goals, those wanted, and the first of the others."""
    params = _first(view.doc.params, wanted)
    values = _first(view.values, [*view.goals, *wanted])
    metrics = [key for key in values if key in view.doc.stats]
    complete = len(params) == len(view.doc.params) and len(values) == len(view.values)
    return {
        **_run_fields(view),
        "params": json_values(params),
        "values": json_values(values),
        "metrics": _metrics(view, metrics),
        "complete": complete,
    }


def _first(values: dict[str, Value], leading: Sequence[str]) -> dict[str, Value]:
    if len(values) <= KEYS_IN_A_ROW:
        return values
    ordered = dict.fromkeys([*(key for key in leading if key in values), *values])
    return {key: values[key] for key in list(ordered)[:KEYS_IN_A_ROW]}


def run_detail(view: RunView) -> runs.RunDetail:
    """Shape a run whole."""
    return runs.RunDetail(
        **_run_fields(view),
        params=json_values(view.doc.params),
        values=json_values(view.values),
        metrics=_metrics(view, view.doc.stats),
        complete=True,
        results={key: to_json(result.value) for key, result in view.doc.results.items()},
        goals=list(view.goals.values()),
        about=json_values(view.doc.about),
        parent=view.parent,
        previous=view.previous,
        children=[_child(child) for child in view.children],
        versions=list(view.versions),
        metric_names=list(view.metrics),
        notes=[note(item) for item in view.notes],
        resumed_at=view.run.resumed_at,
        last_sign_at=view.run.last_sign_at,
        lease_s=view.run.lease_s,
        binned_at=view.run.binned_at,
        binned_by=view.binned_by,
        purged_at=view.run.purged_at,
        activities=[activity(item) for item in view.doc.activities],
        code=wire.Repository.model_validate(view.doc.code) if view.doc.code else None,
        job=view.doc.job,
        output_lines=view.output_lines,
        has_resources=view.has_resources,
        may=[word for word in ("describe", "record", "bin") if word in view.may],
    )


def _child(view: RunView) -> runs.ChildRun:
    run = view.run
    return runs.ChildRun(
        reference=run.reference,
        name=run.name,
        status=run.status,
        started_at=run.started_at,
        ended_at=run.ended_at,
        params=json_values(view.doc.params),
        values=json_values(view.values),
    )


def note(note_found: Note) -> runs.Note:
    """Shape a note."""
    return runs.Note(
        id=id_text(note_found.uid),
        author=note_found.author,
        text=note_found.text,
        written_at=note_found.written_at,
        imported_from=note_found.imported_from,
    )


def run_page(page: RunPage, wanted: Sequence[str] = ()) -> runs.RunPage:
    """Shape a page of the run table."""
    wanted = [*wanted, *(source.name for _, source in page.chosen)]
    return runs.RunPage.model_construct(
        rows=[
            row(view, wanted, page.children.get(view.run.uid, 0), page.parents.get(view.run.parent_uid or b""))
            for view in page.rows
        ],
        columns=page.columns,
        goals=page.goals,
        seeds=page.seeds,
        count=page.count,
        count_is_capped=page.count_is_capped,
        next_cursor=page.next_cursor,
        remarks=page.remarks,
        chosen=[chosen(text, source) for text, source in page.chosen],
        python=page.python,
        shell=page.shell,
    )


def row(view: RunView, wanted: Sequence[str] = (), children: int = 0, parent: str | None = None) -> runs.RunRow:
    """Shape a run as a row of a table."""
    # What stands in it was made here, of the right types: checking it again would take longer than reading it.
    return runs.RunRow.model_construct(**_row_fields(view, wanted), children=children, parent=parent)


def chosen(text: str, source: Source) -> runs.ChosenColumn:
    """Shape what a column means."""
    if isinstance(source, Field):
        return runs.ChosenColumn(text=text, scope="field", name=source.name)
    scope: Any = source.scope
    aggregate = source.aggregate if source.aggregate != "shown" else None
    return runs.ChosenColumn(text=text, scope=scope, name=source.name, aggregate=aggregate)


def curve_values(points: Points) -> list[float | None]:
    """Return values for a chart."""
    return [finite(value) for value in points.values.tolist()]


def all_points(name: str, points: Points) -> runs.Points:
    """Shape every point of a metric."""
    return runs.Points(
        metric=name,
        steps=points.steps.tolist(),
        times=points.times.tolist(),
        values=[value if math.isfinite(value) else special_name(value) for value in points.values.tolist()],
    )


def artifact_version(row: VersionRow) -> artifacts.ArtifactVersion:
    """Shape an artifact version."""
    return artifacts.ArtifactVersion.model_validate(row)


def surroundings(around: Surroundings) -> wire.Surroundings:
    """Shape what surrounded a run."""
    return wire.Surroundings.model_validate(
        {
            **vars(around),
            "about": json_values(around.about),
            "code": around.code and wire.Repository.model_validate(around.code),
            "against_code": around.against_code and wire.Repository.model_validate(around.against_code),
        }
    )


def activity(activity_found: Activity) -> wire.Activity:
    """Shape an activity."""
    return wire.Activity(
        id=activity_found.uid,
        name=activity_found.name,
        started_at=activity_found.started_at,
        ended_at=activity_found.ended_at,
        failed=activity_found.failed,
    )


def progress(progress_found: Progress | None) -> wire.Progress | None:
    """Shape how far a run is, with its expected end."""
    if progress_found is None:
        return None
    end = expected_end(progress_found.done, progress_found.total, progress_found.since, progress_found.at)
    return wire.Progress(
        **vars(progress_found), expected_end=from_micros(end) if end is not None and end < 2**55 else None
    )


def read_values(plain: dict[str, Any]) -> dict[str, Value]:
    """Read typed values of a request; raises InvalidInput that names the key."""
    return {values.check_key(key): values.from_json(value, key) for key, value in plain.items()}
