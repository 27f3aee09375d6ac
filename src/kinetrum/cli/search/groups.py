"""`runs --group` and `--replicates`: a line for each group, with mean ± spread and count."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from kinetrum.cli import output
from kinetrum.cli.output import moment, number, paint

if TYPE_CHECKING:
    from kinetrum.client.transport import answers
    from kinetrum.client.transport.session import Session


def print_groups(session: Session, experiment: str | None, arguments: argparse.Namespace) -> int:
    """Print the groups of runs that fit."""
    from kinetrum.cli.search.headings import head_of
    from kinetrum.client.reading.table_export import table_path
    from kinetrum.client.reading.view_names import named_columns

    page = session.service.get(
        f"{table_path(session.project, experiment)}/groups",
        by=arguments.group,
        query=arguments.query,
        sort=arguments.sort,
        pareto=arguments.pareto,
        limit=max(1, min(arguments.limit, 500)),
        column=named_columns(arguments.columns or "") or None,
    )
    if arguments.json:
        output.print_json(page)
        return 0
    for remark in page["remarks"]:
        output.note(remark)
    if not page["groups"]:
        print("No run fits.")
        return 0
    rows = [[*_title(group, arguments.group), *_cells(group, page["columns"])] for group in page["groups"]]
    heads = [*_title_heads(arguments.group), *[head_of(page["goals"], column) for column in page["columns"]]]
    columns = [at for at in range(len(heads)) if at < 3 or any(row[at] != "–" for row in rows)]
    output.print_table([heads[at] for at in columns], [[row[at] for at in columns] for row in rows], keep=2)
    total = f"{page['count']:,}{'+' if page['count_is_capped'] else ''}"
    print(
        paint(
            f"{len(rows)} of {total} groups by {arguments.group}; mean ± standard deviation over their runs, "
            "of settings from … to",
            "quiet",
        )
    )
    return 0


def _title_heads(by: str) -> list[str]:
    return ["latest run" if by == "replicates" else by, "runs", "started"]


def _title(group: answers.RunGroup, by: str) -> list[str]:
    if by == "replicates":
        name = group["last"]["name"]
        text = group["last"]["reference"] + (f" {output.short(name, 24)}" if name else "")
    else:
        text = output.short(number(group["value"]), 32) if group["present"] else f"no {by}"
    return [text, f"×{group['runs']:,}", moment(group["last"]["started_at"])]


def _cells(group: answers.RunGroup, columns: list[answers.ChosenColumn]) -> list[str]:
    return [_cell(cell, column["scope"] == "param") for cell, column in zip(group["cells"], columns, strict=True)]


def _cell(cell: answers.GroupCell | None, is_setting: bool) -> str:
    if cell is None:
        return "–"
    if cell["is_shared"]:
        return output.short(number(cell["shared"]), 28)
    spread = cell["spread"]
    if spread is None:
        return f"{cell['several']} kinds"
    if is_setting:
        return f"{number(spread['low'])}…{number(spread['high'])}"
    return f"{spread['mean']:.4g}" + (f" ±{spread['deviation']:.2g}" if spread["deviation"] is not None else "")
