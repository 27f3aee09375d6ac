"""`runs`: the table of runs that fit a query, in the terminal or as a file; without either, the experiments."""

from __future__ import annotations

import argparse
from collections.abc import Mapping
from typing import TYPE_CHECKING, Literal, cast

from kinetrum.cli import output
from kinetrum.cli.arguments import add_common, add_exact
from kinetrum.cli.output import moment, number
from kinetrum.cli.parser import Commands
from kinetrum.cli.search.headings import head_of
from kinetrum.core.base.errors import InvalidInput

if TYPE_CHECKING:
    from kinetrum.client.transport import answers
    from kinetrum.client.transport.session import Session

_LATEST = "started:desc"
_SHOWN = {"started": "started_at", "ended": "ended_at", "parent": "parent_id"}


def add_commands(commands: Commands) -> None:
    """Add this group to the parser."""
    runs = commands.add_parser("runs", help="table of the runs that fit a query, or of the experiments")
    runs.add_argument(
        "query", nargs="?", default="", metavar="QUERY", help="in quotes: 'recall >= 0.9 and learner = forest'"
    )
    runs.add_argument("-e", "--experiment", help="of this experiment; else of the whole project")
    runs.add_argument("--sort", default="", help="keys, the strongest first: recall,fit_seconds:asc")
    runs.add_argument(
        "--columns",
        help="what to show, separated by commas: recall,min(loss),param:depth,duration; without it what differs",
    )
    runs.add_argument("--group", metavar="COLUMN", help="a line for each value of a column: mean ± spread and count")
    runs.add_argument(
        "--replicates",
        dest="group",
        action="store_const",
        const="replicates",
        help="a line for runs that are the same but for the seed",
    )
    runs.add_argument(
        "--pareto",
        default="",
        metavar="GOALS",
        help="only runs that no other beats in all of two or three goals: recall,loss",
    )
    runs.add_argument("--view", metavar="NAME", help="query, columns, sort and groups of a saved view")
    runs.add_argument("--series", metavar="METRICS", help="with a form: every point of these metrics of all the runs")
    runs.add_argument("--limit", type=int, default=50)
    runs.add_argument("--all", action="store_true", help="runs of all experiments, without a query too")
    forms = runs.add_mutually_exclusive_group()
    for form, what in (("csv", "CSV"), ("jsonl", "JSON Lines"), ("parquet", "Parquet")):
        forms.add_argument(
            f"--{form}", dest="form", action="store_const", const=form, help=f"the whole table as {what}"
        )
    add_exact(runs)
    runs.add_argument("-o", "--output", metavar="FILE", help="write the table there")
    add_common(runs, _runs)
    views = commands.add_parser("views", help="saved views, one's own and the project's")
    views.add_argument("-e", "--experiment", help="of this experiment only")
    add_common(views, _views)


def _views(arguments: argparse.Namespace) -> int:
    from kinetrum.client.transport.http import path_of
    from kinetrum.client.transport.session import open_session

    session = open_session(arguments.project)
    options = {"experiment": arguments.experiment} if arguments.experiment else {}
    answer = session.service.get(path_of("projects", session.project, "views"), **options)
    if arguments.json:
        output.print_json(answer)
        return 0
    if not answer:
        print("No views are saved here; the console saves them, under Views.")
        return 0
    rows = [
        [
            output.clean(view["name"]),
            view["experiment"] or "",
            "the project" if view["shared"] else "mine",
            view["author"],
            moment(view["saved_at"]),
            output.clean(view["arrangement"].get("q", "")),
        ]
        for view in answer
    ]
    output.print_table(["view", "experiment", "of", "saved by", "at", "query"], rows, keep=3)
    return 0


def _apply_view(session: Session, arguments: argparse.Namespace) -> None:
    """Let a view fill in what was not given."""
    from kinetrum.client.reading.view_names import view_named

    view = view_named(session, arguments.view, arguments.experiment)
    arrangement = view["arrangement"]
    arguments.experiment = arguments.experiment or view["experiment"]
    for name, key in (("query", "q"), ("sort", "sort"), ("columns", "cols"), ("group", "group"), ("pareto", "pareto")):
        setattr(arguments, name, getattr(arguments, name) or arrangement.get(key) or getattr(arguments, name))


def _runs(arguments: argparse.Namespace) -> int:
    from kinetrum.client.transport.connection import find_connection
    from kinetrum.client.transport.session import open_session

    session = open_session(arguments.project)
    if arguments.view:
        _apply_view(session, arguments)
    chosen = (
        None if arguments.all else arguments.experiment or find_connection(project=arguments.project).chosen_experiment
    )
    if chosen is None and not (arguments.query or arguments.all or arguments.form):
        return _experiments(session, arguments.json)
    if arguments.form or arguments.series:
        from kinetrum.cli.archives.points import write_runs

        return write_runs(session, chosen, arguments)
    if arguments.group:
        from kinetrum.cli.search.groups import print_groups

        return print_groups(session, chosen, arguments)
    page = _read_page(session, chosen, arguments)
    if arguments.json:
        output.print_json(page)
        return 0
    for remark in page["remarks"]:
        output.note(remark)
    where = chosen or session.project
    if not page["rows"]:
        print(f"No run of {where} fits." if arguments.query else f"{where} has no runs yet.")
        return 0
    _print_runs(page, arguments.columns is not None)
    return 0


def _read_page(session: Session, chosen: str | None, arguments: argparse.Namespace) -> answers.RunPage:
    from kinetrum.client.reading.table_export import table_path
    from kinetrum.client.reading.view_names import named_columns

    # Numbers count within an experiment; over several of them the latest run is the one that began last.
    sort = arguments.sort or ("" if chosen else _LATEST)
    try:
        page: answers.RunPage = session.service.get(
            f"{table_path(session.project, chosen)}/runs",
            query=arguments.query,
            sort=sort,
            limit=max(1, min(arguments.limit, 500)),
            column=named_columns(arguments.columns or "") or None,
            pareto=arguments.pareto,
        )
    except InvalidInput:
        experiments = session.service.get(f"{table_path(session.project, None)}/experiments")
        if arguments.query not in {experiment["name"] for experiment in experiments}:
            raise
        raise InvalidInput(
            f"{arguments.query!r} is an experiment, not a question about runs. "
            f"Its runs: kinetrum runs -e {arguments.query}"
        ) from None
    return page


def _print_runs(page: answers.RunPage, are_chosen: bool) -> None:
    columns = page["chosen"] if are_chosen else _leading_columns(page)
    if not are_chosen:
        columns = [column for column in columns if any(cell_of(run, column)[0] for run in page["rows"])]
    always = [name for name in ("name", "status", "started") if not any(_is_field(column, name) for column in columns)]
    if not any(run["name"] for run in page["rows"]) and "name" in always:
        always.remove("name")
    heads = ["run", *always, *[head_of(page["goals"], column) for column in columns]]
    cells = [_cells(page["rows"], column) for column in columns]
    rows = [
        [run["reference"], *[_always(run, name) for name in always], *[column[at] for column in cells]]
        for at, run in enumerate(page["rows"])
    ]
    output.print_table(heads, rows, spare=len(always) if columns else 0)
    total = f"{page['count']:,}{'+' if page['count_is_capped'] else ''}"
    keys = {key for run in page["rows"] for key in run["params"]}
    same = (column for column in page["columns"] if column["scope"] == "param" and not column["differs"])
    equal = sum(column["name"] in keys for column in same)
    word = "setting is" if equal == 1 else "settings are"
    tail = f"; {equal} {word} equal in all of them and not shown" if equal and not are_chosen else ""
    output.say(f"{len(rows)} of {total} {'run' if total == '1' else 'runs'}{tail}", "quiet")


def _is_field(column: answers.ChosenColumn, name: str) -> bool:
    return bool(column["scope"] == "field" and column["name"] == name)


def _always(run: answers.RunRow, name: str) -> str:
    return (
        moment(run["started_at"])
        if name == "started"
        else output.clean(str(cast("Mapping[str, object]", run)[name] or ""))
    )


def _cells(rows: list[answers.RunRow], column: answers.ChosenColumn) -> list[str]:
    """Write one column; results with aligned decimals, settings as they were set."""
    cells = [cell_of(run, column) for run in rows]
    present = [value for is_there, value in cells if is_there]
    texts = iter(output.numbers(present) if column["scope"] == "value" else [number(value) for value in present])
    if column["scope"] == "field" and column["name"] in {"started", "ended"}:
        texts = iter([moment(str(value)) for value in present])
    return [output.short(next(texts), 28) if is_there else "–" for is_there, _ in cells]


def cell_of(run: answers.RunRow, column: answers.ChosenColumn) -> tuple[bool, object]:
    """Return (present, value) of a column in a row as the service sent it."""
    name, scope = column["name"], column["scope"]
    if scope == "field":
        value = _duration(run) if name == "duration" else run.get(_SHOWN.get(name, name))
        if name == "problem":
            value = "; ".join(problem["text"] for problem in run["problems"]) or None
        return value is not None, value
    if column.get("aggregate"):
        metric = run["metrics"].get(name)
        return metric is not None, cast("Mapping[str, object]", metric or {}).get(column["aggregate"] or "")
    values: Mapping[str, object] = {"value": run["values"], "param": run["params"], "label": run["labels"]}[scope]
    return name in values, values.get(name)


def _duration(run: answers.RunRow) -> float | None:
    from datetime import datetime

    if run["ended_at"] is None:
        return None
    return (datetime.fromisoformat(run["ended_at"]) - datetime.fromisoformat(run["started_at"])).total_seconds()


def _leading_columns(page: answers.RunPage) -> list[answers.ChosenColumn]:
    """Without any named: values with goals, settings that differ, the other values."""
    goals = [goal["key"] for goal in page["goals"]]
    values = [column["name"] for column in page["columns"] if column["scope"] == "value"]
    ordered = [key for key in goals if key in values] + [key for key in values if key not in goals]
    # Settings of searches (where they look, and how long) are no settings of what was tried.
    differing = [
        column["name"]
        for column in page["columns"]
        if column["scope"] == "param" and column["differs"] and not column["name"].startswith(("space.", "budget."))
    ]
    leading = ordered[: max(1, len(goals))]
    named = [("value", key) for key in leading] + [("param", key) for key in differing]
    named += [("value", key) for key in ordered if key not in leading]
    return [
        {"text": "", "scope": cast("Literal['value', 'param']", scope), "name": key, "aggregate": None}
        for scope, key in named
    ]


def _experiments(session: Session, as_json: bool) -> int:
    from kinetrum.client.transport.http import path_of

    answer = session.service.get(path_of("projects", session.project, "experiments"))
    if as_json:
        output.print_json(answer)
        return 0
    rows = []
    for row in answer:
        goal = row["goals"][0] if row["goals"] else None
        best = f"{goal['key']} {number(row['best_value'])} ({row['best_run']})" if goal and row["best_run"] else ""
        rows.append([row["name"], str(row["runs"]), str(row["running"]), moment(row["last_activity"]), best])
    output.print_table(["experiment", "runs", "running", "last activity", "best"], rows)
    return 0
