"""`media` and `rows`: what a run kept to be seen, and tables row by row."""

from __future__ import annotations

import argparse
import csv
import sys
from pathlib import Path
from typing import TYPE_CHECKING

from kinetrum.cli import output
from kinetrum.cli.arguments import add_common
from kinetrum.cli.output import paint, size_text
from kinetrum.cli.parser import Commands
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
    add_common(rows, _rows)


def _media(arguments: argparse.Namespace) -> int:
    from kinetrum.cli.compare.plots import run_of

    found = run_of(arguments.ref, arguments.project).media
    if arguments.name is None:
        return _list(arguments.ref, found, arguments.json)
    kept = found.at(arguments.name, arguments.step)
    if arguments.json:
        output.print_json({"reference": kept.reference, "step": kept.step, "items": list(kept.items)})
        return 0
    if arguments.output:
        output.note(f"{kept.reference} is in {kept.download(Path(arguments.output))}.")
        return 0
    _show(kept, found.steps(arguments.name))
    return 0


def _list(reference: str, found: RecordedMedia, as_json: bool) -> int:
    listed = found.listed()
    if as_json:
        output.print_json(listed)
        return 0
    if not listed:
        print(f"{reference} kept no images, sounds, videos, texts or tables.")
        return 0
    rows = []
    for row in listed:
        steps = [step["step"] for step in row["steps"] if step["step"] is not None]
        said = f"{min(steps):,} to {max(steps):,}" if len(set(steps)) > 1 else "".join(map(str, steps[:1]))
        rows.append(
            [output.clean(row["name"]), row["kind"], said, f"{output.clean(row['name'])}@{row['steps'][-1]['version']}"]
        )
    output.print_table(["name", "kind", "steps", "last version"], rows, keep=2)
    return 0


def _show(kept: KeptMedia, steps: list[int]) -> None:
    at = "" if kept.step is None else f" at step {kept.step}"
    print(paint(output.clean(f"{kept.reference}, {kept.kind}{at}"), "strong"))
    if len(steps) > 1:
        print(f"kept at {len(steps)} steps, {steps[0]:,} to {steps[-1]:,}; --step chooses")
    if kept.kind == "text" and len(kept.items) == 1:
        print("\n".join(output.clean(line) for line in kept.text().splitlines()))
        return
    if kept.kind == "table" and len(kept.items) == 1:
        _show_rows(kept.rows(limit=20))
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
        for item in kept.items[:_SHOWN]
    ]
    output.print_table(["file", "type", "size", "boxes", "masks", "caption"], table, keep=2)
    if len(kept.items) > _SHOWN:
        print(f"{len(kept.items) - _SHOWN} more; -o DIR saves all.")
    if kept.note:
        print(paint(output.clean(kept.note), "quiet"))


def _rows(arguments: argparse.Namespace) -> int:
    found = _asked(arguments)
    if arguments.json:
        output.print_json(
            {
                "columns": list(found.columns),
                "rows": [list(row) for row in found.rows],
                "total": found.total,
                "of": found.of,
                "wrong": found.wrong,
                "counts": dict(found.counts),
            }
        )
        return 0
    if arguments.csv:
        _write_csv(found, arguments.csv)
        return 0
    _show_rows(found)
    return 0


def _asked(arguments: argparse.Namespace) -> Rows:
    from kinetrum.client.data.rows import join_rows, rows

    asked = {
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
        return rows(table, wrong=arguments.wrong, **asked)
    if arguments.wrong:
        raise InvalidInput("--wrong is for one table; with two of them --outcome 'both wrong'.", field="wrong")
    return join_rows(table, _table(arguments.other, arguments), key=arguments.key, outcome=arguments.outcome, **asked)


def _table(reference: str, arguments: argparse.Namespace) -> str:
    """Return the table that a reference names; of a run its predictions."""
    from kinetrum.cli.compare.plots import run_of

    return reference if "@" in reference else run_of(reference, arguments.project).predictions(arguments.on)


def _show_rows(found: Rows) -> None:
    fits = f"{found.total:,} of {found.of:,} rows" if found.total < found.of else f"{found.of:,} rows"
    said = [fits]
    if found.key is not None:
        said.append(f"joined by {output.clean(found.key)}")
    if found.wrong is not None and "error" not in found.columns:
        said.append(f"{found.wrong:,} predicted wrong")
    said += [f"{count:,} {outcome}" for outcome, count in found.counts.items()]
    print(", ".join(said))
    if found.rows:
        from kinetrum.core.base.values import show

        output.print_table(
            [output.clean(name) for name in found.columns],
            [["" if value is None else output.clean(show(value)) for value in row] for row in found.rows],
            keep=3,
        )
    if found.total > len(found.rows):
        print(f"{found.total - len(found.rows):,} more; --limit shows more of them, --csv writes them.")


def _write_csv(found: Rows, to: str) -> None:
    if to == "-":
        table = csv.writer(sys.stdout, lineterminator="\n")
        table.writerow(found.columns)
        table.writerows(found.rows)
        return
    with Path(to).open("w", newline="", encoding="utf-8") as file:
        table = csv.writer(file, lineterminator="\n")
        table.writerow(found.columns)
        table.writerows(found.rows)
    output.note(f"{to}: {len(found.rows):,} rows of {found.total:,}.")
