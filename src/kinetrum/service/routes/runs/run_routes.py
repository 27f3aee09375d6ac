"""Routes for experiments, runs, what is recorded in them, curves and comparisons."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import Depends, Header, Query, Request

from kinetrum.actions.data import new_versions
from kinetrum.actions.data.new_versions import NewVersion
from kinetrum.actions.recording import intake
from kinetrum.actions.recording.intake import Beginning, NewResult
from kinetrum.actions.runs import readers
from kinetrum.core.base.errors import InvalidInput
from kinetrum.core.base.goals import make_goal
from kinetrum.core.base.ids import id_text
from kinetrum.core.base.manifests import FileEntry
from kinetrum.core.base.refs import VersionRef, parse_ref
from kinetrum.core.base.values import check_key, from_json
from kinetrum.core.points.codec import BATCH_MEDIA_TYPE, decode_batch
from kinetrum.service.guard.large_bodies import read_body
from kinetrum.service.http.access import SignedIn
from kinetrum.service.http.point_bodies import groups_from_json
from kinetrum.service.http.routers import make_router
from kinetrum.service.presenters import shapes
from kinetrum.storage.runs.runs import Run
from kinetrum.wire import artifacts
from kinetrum.wire import runs as wire

router = make_router(prefix="/projects/{project}", tags=["runs"])
_RUN = "/experiments/{experiment}/runs/{run}"
_POINTS_BODY: dict[str, Any] = {
    "requestBody": {
        "required": True,
        "content": {
            "application/json": {"schema": {"$ref": "#/components/schemas/PointBatch"}},
            BATCH_MEDIA_TYPE: {"schema": {"type": "string", "format": "binary"}},
        },
    }
}


def _begun(run: Run) -> wire.Begun:
    return wire.Begun(reference=run.reference, id=id_text(run.uid), number=run.number, name=run.name, status=run.status)


@router.get("/experiments")
def list_experiments(actor: SignedIn, project: str) -> list[wire.Experiment]:
    """List a project's experiments, the last active first."""
    return [shapes.experiment(view) for view in readers.list_experiments(actor, project)]


@router.get("/experiments/{experiment}")
def read_experiment(actor: SignedIn, project: str, experiment: str) -> wire.Experiment:
    """Read one experiment."""
    return shapes.experiment(readers.read_experiment(actor, project, experiment))


@router.put(_RUN)
def begin_run(actor: SignedIn, project: str, experiment: str, run: str, body: wire.NewRun) -> wire.Begun:
    """Begin a run under the id that the client made. Sent again, the run that is there comes back unchanged."""
    beginning = Beginning(
        uid=run,
        started_at=body.started_at,
        name=body.name,
        host=body.host,
        parent=body.parent,
        lease_s=body.lease_s,
        params=shapes.read_values(body.params),
        goals={
            key: make_goal(key, new.direction, new.unit, new.bound, new.aggregate) for key, new in body.goals.items()
        },
        labels=body.labels,
        about=shapes.read_values(body.about),
    )
    return _begun(intake.begin_run(actor, project, experiment, beginning))


@router.get(_RUN)
def read_run(actor: SignedIn, project: str, experiment: str, run: str) -> wire.RunDetail:
    """Read a run named by number, `last`, `best:KEY` or id."""
    return shapes.run_detail(readers.read_run(actor, project, experiment, run))


@router.get("/runs/{run}")
def read_run_by_id(actor: SignedIn, project: str, run: str) -> wire.RunDetail:
    """Read a run by its id or the last ten or more digits of it."""
    return shapes.run_detail(readers.read_run_by_id(actor, project, run))


@router.post(f"{_RUN}/parameters")
def set_parameters(actor: SignedIn, project: str, experiment: str, run: str, body: wire.Params) -> wire.ParamsSet:
    """Set parameters, each once. Another value for a set one is put aside and becomes a problem of the run."""
    aside = intake.set_params(actor, project, experiment, run, shapes.read_values(body.params))
    return wire.ParamsSet(set_aside=[wire.SetAside(key=item.key, text=item.text) for item in aside])


@router.post(f"{_RUN}/points", openapi_extra=_POINTS_BODY)
async def add_points(
    actor: SignedIn,
    project: str,
    experiment: str,
    run: str,
    request: Request,
    batch: Annotated[str, Query(description="UUID of this batch, made by the client; a repeat changes nothing.")],
    content_type: Annotated[str, Header()] = "application/json",
) -> wire.PointsKept:
    """Keep a batch of metric points, as JSON columns or in the binary form."""
    from starlette.concurrency import run_in_threadpool

    body = await request.body()
    is_packed = content_type.split(";")[0].strip() == BATCH_MEDIA_TYPE
    groups = await read_body(decode_batch if is_packed else groups_from_json, body)

    def keep() -> int:
        if is_packed:
            return intake.add_packed_points(actor, project, experiment, run, batch, groups, body)
        return intake.add_points(actor, project, experiment, run, batch, groups)

    return wire.PointsKept(values=await run_in_threadpool(keep))


@router.post(f"{_RUN}/results", status_code=204)
def add_results(actor: SignedIn, project: str, experiment: str, run: str, body: wire.NewResults) -> None:
    """Keep final values; of one key the latest by time is shown."""
    results = [
        NewResult(new.id, check_key(new.key, "result"), from_json(new.value, new.key), new.at) for new in body.results
    ]
    intake.add_results(actor, project, experiment, run, results)


@router.post(f"{_RUN}/problems", status_code=204)
def add_problem(actor: SignedIn, project: str, experiment: str, run: str, body: wire.NewProblem) -> None:
    """Tell of something that went wrong while recording."""
    intake.add_problem(actor, project, experiment, run, body.id, body.text, body.at)


@router.post(f"{_RUN}/signs", status_code=204)
def keep_alive(actor: SignedIn, project: str, experiment: str, run: str) -> None:
    """Give a sign of life."""
    intake.keep_alive(actor, project, experiment, run)


@router.post(f"{_RUN}/ending")
def record_ending(actor: SignedIn, project: str, experiment: str, run: str, body: wire.Ending) -> wire.Begun:
    """End a run as finished, failed or stopped."""
    return _begun(intake.record_ending(actor, project, experiment, run, body.status, body.reason, body.ended_at))


@router.post(f"{_RUN}/resumption")
def resume_run(actor: SignedIn, project: str, experiment: str, run: str, body: wire.Resumption) -> wire.Begun:
    """Take up again a run that ended or was lost."""
    return _begun(intake.resume_run(actor, project, experiment, run, body.at))


def new_version(body: artifacts.NewContent) -> NewVersion:
    """Read content under a name; raises InvalidInput without a name."""
    if body.name is None:
        raise InvalidInput("The content needs a name, or artifact=NAME@NUMBER.", field="name")
    return NewVersion(
        uid=body.id,
        name=body.name,
        kind=body.kind,
        files=tuple(
            FileEntry(entry.path, entry.size, entry.sha256, entry.modified, entry.address) for entry in body.files
        ),
        by_reference=body.by_reference,
        at=body.at,
        address=body.address,
        role=body.role,
        step=body.step,
        activity=body.activity,
        about=body.about,
        labels=body.labels,
        keep=body.keep,
        named=body.named,
    )


@router.post(f"{_RUN}/used")
def add_used(
    actor: SignedIn, project: str, experiment: str, run: str, body: artifacts.NewContent
) -> artifacts.ArtifactVersion:
    """Record what the run used: new content by its manifest, or an existing version by reference."""
    if body.artifact is not None:
        ref = parse_ref(body.artifact)
        if not isinstance(ref, VersionRef):
            raise InvalidInput(f"{body.artifact!r} names no artifact version; write NAME@NUMBER.", field="artifact")
        return shapes.artifact_version(
            new_versions.link_existing(
                actor,
                project,
                experiment,
                run,
                new_versions.ExistingLink(ref.name, ref.which, body.id, body.role, body.at, body.activity),
            )
        )
    return shapes.artifact_version(
        new_versions.link_version(actor, project, experiment, run, "used", new_version(body))
    )


@router.post(f"{_RUN}/generated")
def add_generated(
    actor: SignedIn, project: str, experiment: str, run: str, body: artifacts.NewContent
) -> artifacts.ArtifactVersion:
    """Record what the run generated; its bytes were sent before."""
    return shapes.artifact_version(
        new_versions.link_version(actor, project, experiment, run, "generated", new_version(body))
    )


@router.get(f"{_RUN}/points")
def read_points(
    actor: SignedIn, project: str, experiment: str, run: str, metric: Annotated[str, Query(max_length=250)]
) -> wire.Points:
    """Read every point of a metric."""
    return shapes.all_points(metric, readers.read_points(actor, project, experiment, run, metric))


def _curve_window(
    width: Annotated[int, Query(description="Pixel columns of the chart, 10 to 4000.")] = 600,
    first_step: Annotated[int | None, Query(ge=-(2**62), le=2**62)] = None,
    last_step: Annotated[int | None, Query(ge=-(2**62), le=2**62)] = None,
    against: Annotated[str | None, Query(max_length=250, description="Another metric, for the x axis.")] = None,
) -> readers.CurveWindow:
    return readers.CurveWindow(width, first_step, last_step, against)


@router.get("/curves")
def read_curves(
    actor: SignedIn,
    project: str,
    metric: Annotated[str, Query(max_length=250)],
    run: Annotated[list[str], Query(description="References such as frost-alarm/42; up to 100.")],
    window: Annotated[readers.CurveWindow, Depends(_curve_window)],
) -> wire.Curves:
    """Read one metric of several runs, reduced to what a chart of that width can show."""
    curves = readers.read_curves(actor, project, run, metric, window)
    return wire.Curves(
        metric=metric,
        curves=[
            wire.Curve(
                run=curve.run.reference,
                id=id_text(curve.run.uid),
                status=curve.run.status,
                steps=curve.points.steps.tolist(),
                times=curve.points.times.tolist(),
                values=shapes.curve_values(curve.points),
                against=None if curve.against is None else [readers.finite(value) for value in curve.against],
            )
            for curve in curves
        ],
    )
