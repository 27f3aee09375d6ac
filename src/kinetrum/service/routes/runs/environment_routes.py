"""Routes for what surrounds a run: printed output, code and packages, use of the machine, activities, progress."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from fastapi import Depends, Query
from fastapi.responses import StreamingResponse

from kinetrum.actions.recording import environment, output
from kinetrum.actions.recording.environment import RecordedEnvironment
from kinetrum.actions.recording.output import Piece
from kinetrum.core.base.run_document import Activity, Progress
from kinetrum.core.text.printed_lines import Line
from kinetrum.service.http.access import SignedIn
from kinetrum.service.http.routers import make_router
from kinetrum.service.presenters import shapes
from kinetrum.storage.runs.outputs import Numbered
from kinetrum.wire import environment as wire

router = make_router(prefix="/projects/{project}/experiments/{experiment}/runs/{run}", tags=["following"])
_TEXT: dict[int | str, dict[str, Any]] = {
    200: {"description": "The output.", "content": {"text/plain": {}, "application/jsonl": {}}}
}


@router.post("/output")
def add_output(actor: SignedIn, project: str, experiment: str, run: str, body: wire.NewOutput) -> wire.OutputKept:
    """Keep what a process of the run printed; what was kept before changes nothing."""
    pieces = [Piece(piece.position, piece.at, piece.stream, piece.text) for piece in body.pieces]
    return wire.OutputKept(position=output.add_output(actor, project, experiment, run, body.writer, pieces))


def _line(number: int | None, line: Line) -> wire.OutputLine:
    return wire.OutputLine.model_validate({"number": number, "at": line.at, "stream": line.stream, "text": line.text})


def _numbered(item: Numbered) -> wire.OutputLine:
    return _line(item.number, item.line)


def _lines_asked(
    from_line: Annotated[int | None, Query(ge=0, description="First line; the last ones without it.")] = None,
    limit: Annotated[int, Query(ge=1, le=output.LINES_LIMIT)] = 1_000,
    stream: wire.Stream | None = None,
    search: Annotated[str, Query(max_length=200, description="Only lines that hold this text.")] = "",
) -> output.LinesAsked:
    return output.LinesAsked(from_line, limit, stream, search)


@router.get("/output")
def read_output(
    actor: SignedIn,
    project: str,
    experiment: str,
    run: str,
    lines: Annotated[output.LinesAsked, Depends(_lines_asked)],
) -> wire.Output:
    """Read printed output by line."""
    page = output.read_output(actor, project, experiment, run, lines)
    return wire.Output(
        lines=[_numbered(item) for item in page.lines],
        unfinished=[_line(None, line) for line in page.unfinished],
        next_line=page.extent.next_line,
        head_end=page.extent.head_end,
        tail_begin=page.extent.tail_begin,
        kept_bytes=page.extent.kept_bytes,
        more=page.more,
    )


@router.get("/output/text", response_class=StreamingResponse, responses=_TEXT)
def download_output(
    actor: SignedIn,
    project: str,
    experiment: str,
    run: str,
    form: Annotated[Literal["txt", "jsonl"], Query(description="Plain, or JSON Lines with time and stream.")] = "txt",
) -> StreamingResponse:
    """Download all that is kept of the printed output."""
    pieces = output.stream_output(actor, project, experiment, run, form)
    headers = {"Content-Disposition": f'attachment; filename="{experiment}-output.{form}"'}
    media_type = "application/jsonl" if form == "jsonl" else "text/plain; charset=utf-8"
    return StreamingResponse(pieces, media_type=media_type, headers=headers)


@router.put("/surroundings", status_code=204)
def add_surroundings(actor: SignedIn, project: str, experiment: str, run: str, body: wire.NewSurroundings) -> None:
    """Keep what was caught around the run."""
    caught = RecordedEnvironment(
        code=body.code.model_dump() if body.code else None,
        difference=body.difference,
        script=body.script,
        packages=body.packages,
        job=body.job,
        about=shapes.read_values(body.about),
    )
    environment.add_surroundings(actor, project, experiment, run, caught)


@router.get("/surroundings")
def read_surroundings(
    actor: SignedIn,
    project: str,
    experiment: str,
    run: str,
    against: Annotated[str | None, Query(max_length=300, description="previous, parent, or a run's reference.")] = None,
) -> wire.Surroundings:
    """Read the run's code, packages and job, and against another run what of them differs."""
    return shapes.surroundings(environment.read_surroundings(actor, project, experiment, run, against))


@router.post("/resources", status_code=204)
def add_resources(actor: SignedIn, project: str, experiment: str, run: str, body: wire.NewResources) -> None:
    """Keep samples of what the run used of its machine."""
    environment.add_resources(actor, project, experiment, run, body.id, body.samples)


@router.get("/resources")
def read_resources(
    actor: SignedIn, project: str, experiment: str, run: str, width: Annotated[int, Query(ge=10, le=4_000)] = 300
) -> wire.Resources:
    """Read what the run used of its machine over time."""
    return wire.Resources(samples=environment.read_resources(actor, project, experiment, run, width))


@router.put("/activities/{activity}", status_code=204)
def add_activity(
    actor: SignedIn, project: str, experiment: str, run: str, activity: str, body: wire.NewActivity
) -> None:
    """Keep an activity under the id that the client made; sent again with its end, it is over."""
    new = Activity(activity, body.name, body.started_at, body.ended_at, body.failed)
    environment.add_activity(actor, project, experiment, run, new)


@router.put("/progress", status_code=204)
def set_progress(actor: SignedIn, project: str, experiment: str, run: str, body: wire.NewProgress) -> None:
    """Note how far the run is."""
    progress = Progress(body.done, body.total, body.since, body.at)
    environment.set_progress(actor, project, experiment, run, progress)
