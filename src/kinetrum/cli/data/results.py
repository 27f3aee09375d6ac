"""`media` and `rows`: what a run kept to be seen, and tables row by row."""

from __future__ import annotations

import argparse
import csv
import io
from pathlib import Path
from typing import TYPE_CHECKING

from kinetrum.cli import output
from kinetrum.cli.arguments import add_common, add_exact
from kinetrum.cli.output import paint, size_text
from kinetrum.cli.parser import Commands
from kinetrum.cli.terminal import write_data
from kinetrum.core.base.errors import InvalidInput
from kinetrum.core.rows.outcomes import OUTCOMES

if TYPE_CHECKING:
    from kinetrum.client.data.rows import Rows
    from kinetrum.client.reading.recorded_media import KeptMedia, RecordedMedia

_SHOWN = 50


def add_commands(commands: Commands) -> None:
    """Add this group to the parser."""
    media = commands.add_parser("media", help="images, sounds, videos, texts and tables that a run kept")
    media.add_argument("ref", metavar="RUN", help="frost-alarm/24")
    media.add_argument("name", nargs="?", metavar="NAME", help="what of it; without it all are listed")
    media.add_argument("--step", type=int, help="at which step; without it the last")
    media.add_argument("-o", "--output", metavar="DIR", help="save the files there")
    add_common(media, _media)
    rows = commands.add_parser("rows", help="a stored table row by row, or two of them side by side")
    rows.add_argument("ref", metavar="NAME@N[:PATH]", help="hail-predictions@3, or frost-alarm/24 for its predictions")
    rows.add_argument("--with", dest="other", metavar="NAME@M[:PATH]", help="join another table by its row key")
    rows.add_argument("--on", metavar="DATA", help="where a run is named: predictions on which data")
    rows.add_argument("--key", metavar="COLUMN", help="with --with: the column that tells rows apart")
    rows.add_argument("--outcome", action="append", default=[], choices=OUTCOMES, help="with --with: only these rows")
    rows.add_argument("--wrong", action="store_true", help="only rows whose prediction is not the truth")
    rows.add_argument(
        "--where", action="append", default=[], metavar="CONDITION", help="'score > 0.9'; may be repeated"
    )
    rows.add_argument("--find", default="", metavar="TEXT", help="only rows in which this stands")
    rows.add_argument("--sort", default="", metavar="COLUMN", help="COLUMN or COLUMN:desc")
    rows.add_argument("--limit", type=int, default=_SHOWN, help=f"how many rows; {_SHOWN} without it")
    rows.add_argument("--csv", metavar="FILE", help="write them there, - for here")
    add_exact(rows)
    add_common(rows, _rows)


def _media(arguments: argparse.Namespace) -> int:
    from kinetrum.cli.compare.plots import run_of

    media = run_of(arguments.ref, arguments.project).media
    if arguments.name is None:
        return _list(arguments.ref, media, arguments.json)
    media_kept = media.at(arguments.name, arguments.step)
    if arguments.json:
        output.print_json({"reference": media_kept.reference, "step": media_kept.step, "items": list(media_kept.items)})
        return 0
    if arguments.output:
        output.note(f"{media_kept.reference} is in {media_kept.download(Path(arguments.output))}.")
        return 0
    _show(media_kept, media.steps(arguments.name))
    return 0


def _list(reference: str, media: RecordedMedia, as_json: bool) -> int:
    listed = media.listed()
    if as_json:
        output.print_json(listed)
        return 0
    if not listed:
        print(f"{reference} kept no images, sounds, videos, texts or tables.")
        return 0
    rows = []
    for row in listed:
        steps = [step["step"] for step in row["steps"] if step["step"] is not None]
        steps_text = f"{min(steps):,} to {max(steps):,}" if len(set(steps)) > 1 else "".join(map(str, steps[:1]))
        rows.append(
            [
                output.clean(row["name"]),
                row["kind"],
                steps_text,
                f"{output.clean(row['name'])}@{row['steps'][-1]['version']}",
            ]
        )
    output.print_table(["name", "kind", "steps", "last version"], rows, keep=2)
    return 0


def _show(media_kept: KeptMedia, steps: list[int]) -> None:
    at = "" if media_kept.step is None else f" at step {media_kept.step}"
    print(paint(output.clean(f"{media_kept.reference}, {media_kept.kind}{at}"), "strong"))
    if len(steps) > 1:
        print(f"kept at {len(steps)} steps, {steps[0]:,} to {steps[-1]:,}; --step chooses")
    if media_kept.kind == "text" and len(media_kept.items) == 1:
        print("\n".join(output.clean(line) for line in media_kept.text().splitlines()))
        return
    if media_kept.kind == "table" and len(media_kept.items) == 1:
        _show_rows(media_kept.rows(limit=20))
        return
    table = [
        [
            output.clean(item["file"]),
            item["type"] or item["kind"] or "",
            size_text(item["size"]),
            str(len(item["boxes"]) or ""),
            ", ".join(output.clean(mask["name"]) for mask in item["masks"]),
            output.clean(item["caption"]),
        ]
        for item in media_kept.items[:_SHOWN]
    ]
    output.print_table(["file", "type", "size", "boxes", "masks", "caption"], table, keep=2)
    if len(media_kept.items) > _SHOWN:
        print(f"{len(media_kept.items) - _SHOWN} more; -o DIR saves all.")
    if media_kept.note:
        print(paint(output.clean(media_kept.note), "quiet"))


def _rows(arguments: argparse.Namespace) -> int:
    rows = _asked(arguments)
    if arguments.json:
        output.print_json(
            {
                "columns": list(rows.columns),
                "rows": [list(row) for row in rows.rows],
                "total": rows.total,
                "of": rows.of,
                "wrong": rows.wrong,
                "counts": dict(rows.counts),
            }
        )
        return 0
    if arguments.csv:
        _write_csv(rows, arguments.csv, arguments.exact)
        return 0
    _show_rows(rows)
    return 0


def _asked(arguments: argparse.Namespace) -> Rows:
    from kinetrum.client.data.rows import join_rows, rows

    options = {
        "where": arguments.where,
        "find": arguments.find,
        "sort": arguments.sort,
        "limit": arguments.limit,
        "project": arguments.project,
    }
    table = _table(arguments.ref, arguments)
    if arguments.other is None:
        if arguments.key or arguments.outcome:
            raise InvalidInput("--key and --outcome are for two tables; name the other one --with.", field="with")
        return rows(table, wrong=arguments.wrong, **options)
    if arguments.wrong:
        raise InvalidInput("--wrong is for one table; with two of them --outcome 'both wrong'.", field="wrong")
    return join_rows(table, _table(arguments.other, arguments), key=arguments.key, outcome=arguments.outcome, **options)


def _table(reference: str, arguments: argparse.Namespace) -> str:
    """Return the table that a reference names; of a run its predictions."""
    from kinetrum.cli.compare.plots import run_of

    return reference if "@" in reference else run_of(reference, arguments.project).predictions(arguments.on)


def _show_rows(rows: Rows) -> None:
    fits = f"{rows.total:,} of {rows.of:,} rows" if rows.total < rows.of else f"{rows.of:,} rows"
    parts = [fits]
    if rows.key is not None:
        parts.append(f"joined by {output.clean(rows.key)}")
    if rows.wrong is not None and "error" not in rows.columns:
        parts.append(f"{rows.wrong:,} predicted wrong")
    parts += [f"{count:,} {outcome}" for outcome, count in rows.counts.items()]
    print(", ".join(parts))
    if rows.rows:
        from kinetrum.core.base.values import show

        output.print_table(
            [output.clean(name) for name in rows.columns],
            [["" if value is None else output.clean(show(value)) for value in row] for row in rows.rows],
            keep=3,
        )
    if rows.total > len(rows.rows):
        print(f"{rows.total - len(rows.rows):,} more; --limit shows more of them, --csv writes them.")


def _write_csv(rows: Rows, to: str, exact: bool) -> None:
    from kinetrum.core.rows.tables import no_formula

    safe = (lambda text: text) if exact else no_formula
    lines = [[safe(name) for name in rows.columns]]
    lines += [[safe(value) if isinstance(value, str) else value for value in row] for row in rows.rows]
    if to == "-":
        text = io.StringIO()
        csv.writer(text, lineterminator="\n").writerows(lines)
        write_data([text.getvalue().encode()])
        return
    with Path(to).open("w", newline="", encoding="utf-8") as file:
        csv.writer(file, lineterminator="\n").writerows(lines)
    output.note(f"{to}: {len(rows.rows):,} rows of {rows.total:,}.")
