"""`points`, and `runs --csv`: whole tables in open forms, streamed to a file or a pipe."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Iterator
from typing import TYPE_CHECKING, NoReturn

from kinetrum.cli import output
from kinetrum.cli.arguments import add_exact
from kinetrum.cli.parser import Commands
from kinetrum.cli.terminal import write_data
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
    add_exact(points)
    points.add_argument("-o", "--output", metavar="FILE", help="write there")
    points.add_argument("--project")
    points.set_defaults(run=_points)


def _points(arguments: argparse.Namespace) -> int:
    from kinetrum.client.reading.recorded_run import find_run
    from kinetrum.client.transport.session import open_session
    from kinetrum.core.base.refs import RunRef, parse_ref

    parsed = parse_ref(arguments.ref)
    if not isinstance(parsed, RunRef):
        raise InvalidInput(f"{arguments.ref!r} names no run; write EXPERIMENT/NUMBER or an id.", field="ref")
    run = find_run(open_session(parsed.project or arguments.project), parsed)
    if arguments.form or arguments.output:
        return _write(arguments, run.points_table(arguments.metrics, form=_form(arguments), exact=arguments.exact))
    for name in arguments.metrics or list(run.metrics):
        points = run.metrics[name].points() if name in run.metrics else _unknown(run, name)
        rows = [
            [name, str(step), f"{value:.6g}", str(at)]
            for step, value, at in zip(points.step, points.value, points.time, strict=True)
        ]
        output.print_table(["metric", "step", "value", "time (UTC)"], rows)
    return 0


def _unknown(run: RecordedRun, name: str) -> NoReturn:
    from kinetrum.core.base.errors import NotFound

    raise NotFound(f"{run.reference} has no metric {name!r}; it has {', '.join(run.metrics) or 'none'}.")


def _form(arguments: argparse.Namespace) -> str:
    """Return the form asked for, else the one that the file's name tells."""
    ending = str(arguments.output or "").rpartition(".")[2].lower()
    return str(arguments.form or (ending if ending in {"csv", "jsonl", "parquet"} else "csv"))


def write_runs(session: Session, experiment: str | None, arguments: argparse.Namespace) -> int:
    """Write the whole table of runs of an experiment, or of the project."""
    from kinetrum.client.reading.table_export import RunsWanted, stream_runs, stream_series
    from kinetrum.client.reading.view_names import named_columns

    if arguments.series:
        metrics = named_columns(arguments.series)
        return _write(
            arguments,
            stream_series(
                session, experiment, arguments.query, metrics, _form(arguments), arguments.pareto, exact=arguments.exact
            ),
        )
    columns = named_columns(arguments.columns or "") or None
    return _write(
        arguments,
        stream_runs(
            session,
            experiment,
            RunsWanted(arguments.query, arguments.sort, columns, arguments.pareto),
            _form(arguments),
            exact=arguments.exact,
        ),
    )


def _write(arguments: argparse.Namespace, pieces: Iterator[bytes]) -> int:
    if arguments.output:
        from kinetrum.client.reading.table_export import save_stream

        size = save_stream(pieces, arguments.output)
        output.note(f"{arguments.output}: {size:,} bytes.")
        return 0
    if arguments.form == "parquet" and sys.stdout.isatty():
        raise InvalidInput("Parquet is not text for a terminal; write it to a file with -o FILE.")
    write_data(pieces)
    return 0
