"""`points`, and `runs --csv`: whole tables in open forms, streamed to a file or a pipe."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Iterator
from typing import TYPE_CHECKING, NoReturn

from kinetrum.cli import output
from kinetrum.cli.parser import Commands
from kinetrum.core.base.errors import InvalidInput

if TYPE_CHECKING:
    from kinetrum.client.reading.recorded_run import RecordedRun
    from kinetrum.client.transport.session import Session


def add_commands(commands: Commands) -> None:
    """Add this group to the parser."""
    points = commands.add_parser("points", help="every point of a run's metrics")
    points.add_argument("ref", metavar="REF")
    points.add_argument("metrics", nargs="*", metavar="METRIC", help="all of the run's without one")
    forms = points.add_mutually_exclusive_group()
    for form, what in (("csv", "CSV"), ("jsonl", "JSON Lines"), ("parquet", "Parquet")):
        forms.add_argument(f"--{form}", dest="form", action="store_const", const=form, help=f"as {what}")
    points.add_argument("-o", "--output", metavar="FILE", help="write there")
    points.add_argument("--project")
    points.set_defaults(run=_points)


def _points(given: argparse.Namespace) -> int:
    from kinetrum.client.reading.recorded_run import find_run
    from kinetrum.client.transport.session import open_session
    from kinetrum.core.base.refs import RunRef, parse_ref

    parsed = parse_ref(given.ref)
    if not isinstance(parsed, RunRef):
        raise InvalidInput(f"{given.ref!r} names no run; write EXPERIMENT/NUMBER or an id.", field="ref")
    run = find_run(open_session(parsed.project or given.project), parsed)
    if given.form or given.output:
        return _write(given, run.points_table(given.metrics, form=_form(given)))
    for name in given.metrics or list(run.metrics):
        found = run.metrics[name].points() if name in run.metrics else _unknown(run, name)
        rows = [
            [name, str(step), f"{value:.6g}", str(at)]
            for step, value, at in zip(found.step, found.value, found.time, strict=True)
        ]
        output.print_table(["metric", "step", "value", "time (UTC)"], rows)
    return 0


def _unknown(run: RecordedRun, name: str) -> NoReturn:
    from kinetrum.core.base.errors import NotFound

    raise NotFound(f"{run.reference} has no metric {name!r}; it has {', '.join(run.metrics) or 'none'}.")


def _form(given: argparse.Namespace) -> str:
    """Return the form asked for, else the one that the file's name tells."""
    ending = str(given.output or "").rpartition(".")[2].lower()
    return str(given.form or (ending if ending in {"csv", "jsonl", "parquet"} else "csv"))


def write_runs(session: Session, experiment: str | None, given: argparse.Namespace) -> int:
    """Write the whole table of runs of an experiment, or of the project."""
    from kinetrum.client.reading.table_export import stream_runs, stream_series
    from kinetrum.client.reading.view_names import named_columns

    if given.series:
        metrics = named_columns(given.series)
        return _write(given, stream_series(session, experiment, given.query, metrics, _form(given), given.pareto))
    columns = named_columns(given.columns or "") or None
    return _write(given, stream_runs(session, experiment, given.query, given.sort, _form(given), columns, given.pareto))


def _write(given: argparse.Namespace, pieces: Iterator[bytes]) -> int:
    if given.output:
        from kinetrum.client.reading.table_export import save_stream

        size = save_stream(pieces, given.output)
        output.note(f"{given.output}: {size:,} bytes.")
        return 0
    if given.form == "parquet" and sys.stdout.isatty():
        raise InvalidInput("Parquet is no text for a terminal; write it to a file with -o FILE.")
    sys.stdout.flush()
    for piece in pieces:
        sys.stdout.buffer.write(piece)
    return 0
