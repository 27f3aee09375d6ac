"""`show`: looking at what was recorded."""

from __future__ import annotations

import argparse
from collections.abc import Callable, Mapping
from typing import TYPE_CHECKING, TypeVar

from kinetrum.cli import output
from kinetrum.cli.arguments import add_common
from kinetrum.cli.output import moment, number, origin_of_note, paint, print_section, size_text
from kinetrum.cli.parser import Commands
from kinetrum.cli.registry.review_tables import imported_verdict
from kinetrum.core.base.errors import InvalidInput

if TYPE_CHECKING:
    from kinetrum.client.transport import answers


_Answer = TypeVar("_Answer")


def add_commands(commands: Commands) -> None:
    """Add this group to the parser."""
    show = commands.add_parser("show", help="one run, artifact, model or version")
    show.add_argument(
        "ref",
        metavar="REF",
        help="frost-alarm/42, nights@3, frost-alarm@production, experiment:frost-alarm, model:frost-alarm",
    )
    show.add_argument("--output", action="store_true", help="what the run printed; with --json an object a line")
    show.add_argument("--follow", action="store_true", help="what the run prints, until it ends")
    show.add_argument("--stream", choices=["stdout", "stderr"], help="with --output: only this stream")
    show.add_argument("--search", default="", metavar="TEXT", help="with --output: only lines that hold this text")
    show.add_argument("--resources", action="store_true", help="what the run used of its machine over time")
    show.add_argument("--code", action="store_true", help="the run's code, packages and job")
    show.add_argument(
        "--against", metavar="REF", help="with --code: previous, parent or a run to tell differences from"
    )
    add_common(show, _show)


def _goal_mark(goals: list[answers.Goal], key: str) -> str:
    for goal in goals:
        if goal["key"] == key:
            return f"{key} {'↑' if goal['direction'] == 'higher' else '↓'}"
    return key


def _show(arguments: argparse.Namespace) -> int:
    from kinetrum.client.data.artifact_versions import StoredVersion
    from kinetrum.client.reading.descriptions import Experiment
    from kinetrum.client.reading.recorded_run import RecordedRun
    from kinetrum.client.reading.run_table import parse_kind, resolve
    from kinetrum.client.registry.models import Model, ModelVersion
    from kinetrum.client.transport.session import open_session
    from kinetrum.core.base.refs import RunRef

    kind, ref = parse_kind(arguments.ref)
    session = open_session(ref.project or arguments.project, wait=not arguments.follow)
    thing = resolve(session, ref, kind)
    if isinstance(thing, RecordedRun) and isinstance(ref, RunRef) and ref.path:
        # frost-alarm/42:frost-net is what the run generated under that name.
        thing = thing.generated_version(ref.path.partition("/")[0])
    if arguments.output or arguments.follow or arguments.code or arguments.resources:
        from kinetrum.cli.runs.environment import show_surroundings

        if not isinstance(thing, RecordedRun):
            raise InvalidInput(
                f"{arguments.ref} is not a run; --output, --code and --resources are of runs.", field="ref"
            )
        return show_surroundings(thing, arguments)
    if isinstance(thing, RecordedRun):
        data = thing._whole()
        _print(data, arguments.json, _show_run)
    elif isinstance(thing, StoredVersion):
        _print(thing.data, arguments.json, _show_artifact)
    elif isinstance(thing, ModelVersion):
        _print(thing.data, arguments.json, _show_version)
    elif isinstance(thing, Experiment):
        _print(thing.data, arguments.json, _show_experiment)
    elif isinstance(thing, Model):
        from kinetrum.cli.registry.models import show_model

        _print(thing.data, arguments.json, show_model)
    return 0


def _print(data: _Answer, as_json: bool, form: Callable[[_Answer], None]) -> None:
    if as_json:
        output.print_json(data)
    else:
        form(data)


def _show_experiment(data: answers.Experiment) -> None:
    runs = "1 run" if data["runs"] == 1 else f"{data['runs']:,} runs"
    running = f", {data['running']} running" if data["running"] else ""
    last = f", last active {moment(data['last_activity'])}" if data["last_activity"] else ""
    print(f"{paint(data['name'], 'strong')}  {runs}{running}{last}")
    if data["labels"]:
        print("  ".join(f"{output.clean(key)}={output.clean(text)}" for key, text in data["labels"].items()))
    if data["description"]:
        print(output.clean(data["description"]))
    if data["best_run"]:
        print(f"best: {data['best_run']} with {number(data['best_value'])}")
    if data["goals"]:
        print_section("Goals")
        output.print_table(
            ["value", "better", "bound", "unit"],
            [
                [
                    goal["key"],
                    goal["direction"],
                    number(goal["bound"]) if goal["bound"] is not None else "",
                    goal["unit"] or "",
                ]
                for goal in data["goals"]
            ],
        )
    print(paint(f"kinetrum runs -e {data['name']} lists its runs", "quiet"))


def _show_head(run: answers.RunDetail) -> None:
    from kinetrum.cli.runs.environment import code_line, progress_line

    name = f"  {output.clean(run['name'])}" if run["name"] else ""
    print(paint(run["reference"], "strong") + name + f"  {paint(run['status'], _tone(run['status']))}")
    ended = f", ended {moment(run['ended_at'])}" if run["ended_at"] else ""
    host = f" on {output.clean(run['host'])}" if run["host"] else ""
    print(f"started {moment(run['started_at'])} by {run['author']}{host}{ended}")
    for line in (progress_line(run), code_line(run)):
        if line:
            print(line)
    print(paint(f"id {run['id']}", "quiet"))
    if run["output_lines"]:
        print(paint(f"{run['output_lines']:,} printed lines: kinetrum show {run['reference']} --output", "quiet"))
    if run["binned_at"]:
        print(paint(f"in the bin since {moment(run['binned_at'])}, put there by {run['binned_by']}", "bad"))
    if run["purged_at"]:
        print(paint(f"purged {moment(run['purged_at'])}: only what it used and generated is still known", "bad"))
    if run["imported_from"]:
        print(f"imported from {output.clean(run['imported_from'])}")
    if run["labels"]:
        print("  ".join(f"{output.clean(key)}={output.clean(text)}" for key, text in run["labels"].items()))
    if run["reason"]:
        print(paint(output.clean(run["reason"].strip().splitlines()[-1]), "bad"))
    for problem in run["problems"]:
        print(paint(f"problem: {output.clean(problem['text'])}", "bad"))


def _show_run(run: answers.RunDetail) -> None:
    _show_head(run)
    if run["params"]:
        print_section("Settings")
        output.print_table(["parameter", "value"], [[key, number(value)] for key, value in run["params"].items()])
    if run["values"]:
        print_section("Results")
        rows = [_result_row(run, key) for key in run["values"]]
        output.print_table(["key", "value", "goal", "points", "best at step"], rows)
    for title, links in (("Used", run["used"]), ("Generated", run["generated"])):
        if links:
            print_section(title)
            # Most runs name no activities.
            named = ["activity"] if any(link["activity"] for link in links) else []
            rows = [
                [
                    link["reference"],
                    link["kind"],
                    link["role"] or "",
                    *[link["activity"] or "" for _ in named],
                    link["digest"][:12],
                ]
                for link in links
            ]
            output.print_table(["artifact", "kind", "role", *named, "digest"], rows)
    if run["activities"]:
        from kinetrum.cli.runs.environment import activity_rows

        print_section("Activities")
        output.print_table(["activity", "from", "took", ""], activity_rows(run))
    if run["children"]:
        print_section("Children")
        _show_children(run)
    for title, names in (("Parent", [run["parent"]] if run["parent"] else []), ("Registered as", run["versions"])):
        if names:
            print(f"\n{paint(title, 'strong')}  {', '.join(names)}")
    for note in run["notes"]:
        origin = origin_of_note(note["imported_from"])
        print(f"\n{paint('Note', 'strong')}  {note['author']}, {moment(note['written_at'])}{origin}")
        print("\n".join(output.clean(line) for line in note["text"].splitlines()))


def _show_children(run: answers.RunDetail) -> None:
    keys = [goal["key"] for goal in run["goals"]]
    rows = [
        [
            child["reference"],
            output.clean(child["name"] or ""),
            child["status"],
            *[number(child["values"][key]) if key in child["values"] else "–" for key in keys],
        ]
        for child in run["children"]
    ]
    output.print_table(["run", "name", "status", *[_goal_mark(run["goals"], key) for key in keys]], rows)


def _tone(status: str) -> str | None:
    return {"failed": "bad", "lost": "bad", "running": "good"}.get(status)


def _result_row(run: answers.RunDetail, key: str) -> list[str]:
    goal = next((goal for goal in run["goals"] if goal["key"] == key), None)
    metric = run["metrics"].get(key)
    text = ""
    if goal:
        text = ("↑ higher" if goal["direction"] == "higher" else "↓ lower") + " is better"
        if goal["bound"] is not None:
            text += f", {'≥' if goal['direction'] == 'higher' else '≤'} {goal['bound']:g}"
    unit = f" {goal['unit']}" if goal and goal["unit"] else ""
    return [
        key,
        number(run["values"][key]) + unit,
        text,
        f"{metric['count']:,}" if metric else "",
        str(metric["best_step"]) if metric and metric["best_step"] is not None else "",
    ]


def _print_said(word: str, values: Mapping[str, object]) -> None:
    if values:
        print(f"{word}: {'  '.join(f'{output.clean(key)}={number(value)}' for key, value in values.items())}")


def _show_artifact(version: answers.ArtifactVersionDetail) -> None:
    state = "by reference" if version["by_reference"] else "stored"
    marks = [
        mark
        for mark, there in (
            ("damaged", version["damaged"]),
            ("in the bin", version["binned_at"]),
            ("purged", version["purged_at"]),
        )
        if there
    ]
    tail = paint(f"  {', '.join(marks)}", "bad") if marks else ""
    print(f"{paint(version['reference'], 'strong')}  {version['kind']}, {state}{tail}")
    files = f"{version['file_count']:,} file{'' if version['file_count'] == 1 else 's'}"
    print(f"{files}, {size_text(version['size_bytes'])}, sha256:{version['digest'][:16]}…")
    print(f"made {moment(version['created_at'])} by {version['made_by']}")
    if version["imported_from"]:
        print(f"imported from {output.clean(version['imported_from'])}")
    if version["bin_reason"]:
        print(f"in the bin because {output.clean(version['bin_reason'])}")
    if version["address"]:
        print(f"files lie at {output.clean(version['address'])}")
    _print_said("metadata", version["about"])
    _print_said("labels", version["labels"])
    for relation in ("generated", "used"):
        runs = [link["run"] for link in version["runs"] if link["relation"] == relation]
        if runs:
            more = f" and {len(runs) - 12} more" if len(runs) > 12 else ""
            print(f"{relation} by {', '.join(dict.fromkeys(runs[:12]))}{more}")
    if version["equal"]:
        print(f"the same content as {', '.join(version['equal'][:12])}")
    if version["models"]:
        print(f"registered as {', '.join(version['models'])}")
    print_section("Files")
    rows = [
        [output.clean(entry["path"]), size_text(entry["size"]), entry["sha256"][:12]] for entry in version["files"][:50]
    ]
    output.print_table(["path", "size", "sha256"], rows)
    if len(version["files"]) > 50:
        print(paint(f"{len(version['files']) - 50} more; --json lists all", "quiet"))


def _show_version(version: answers.ModelVersionDetail) -> None:
    stages = f"  on {', '.join(version['stages'])}" if version["stages"] else ""
    marks = ("  retired" if version["retired"] else "") + ("  damaged" if version["damaged"] else "")
    review = paint(version["review"], _review_tone(version["review"]))
    print(paint(version["reference"], "strong") + f"  {review}{stages}" + paint(marks, "bad"))
    print(
        f"registered {moment(version['registered_at'])} by {version['registered_by']}: "
        + output.clean(version["comment"])
    )
    if version["imported_from"]:
        print(f"imported from {output.clean(version['imported_from'])}")
    step = "" if version["step"] is None else f", its checkpoint of step {version['step']}"
    source = version["run"] or output.clean(version["origin"] or "")
    print(f"from {source}{step}, files {version['artifact']['reference']}")
    print(f"sha256:{version['artifact']['digest']}")
    for reason in version["overrides"]:
        print(paint(f"gates overridden on {output.clean(reason)}", "bad"))
    if version["labels"]:
        print("labels " + ", ".join(f"{key}={output.clean(text)}" for key, text in version["labels"].items()))
    if version["signature"]:
        _show_signature(version["signature"])
    for verdict in version["verdicts"]:
        word = "approved" if verdict["approves"] else "rejected"
        older = paint("  older than the newest evidence", "bad") if verdict["older"] else ""
        print(f"{verdict['person']} {word} {moment(verdict['given_at'])}: {output.clean(verdict['comment'])}{older}")
    for imported in version["imported_verdicts"]:
        print(paint(imported_verdict(imported), "quiet"))
    if version["values"]:
        print_section("Values" if version["step"] is None else f"Values at step {version['step']}")
        rows = [
            [key, number(value), f"of step {version['earlier'][key]}" if key in version["earlier"] else ""]
            for key, value in version["values"].items()
        ]
        output.print_table(["key", "value", ""], rows)
    for one in version["evidence"]:
        print_section(f"Evidence on {output.clean(one['on'])}, by {one['run']}")
        output.print_table(["key", "value"], [[key, number(value)] for key, value in one["results"].items()])
    obstacles = [f"{stage}: {why}" for stage, why in version["obstacles"].items() if why]
    if obstacles:
        print_section("Cannot be promoted to")
        print("\n".join(obstacles))


def _show_signature(signature: answers.Signature) -> None:
    for fields, side, word in ((signature["inputs"], "inputs", "takes"), (signature["outputs"], "outputs", "gives")):
        for one in fields[:8]:
            shape = ", ".join("?" if length is None else str(length) for length in one["shape"])
            print(f"{word} {output.clean(one['name'])} {one['type']} [{shape}]")
        if len(fields) > 8:
            print(paint(f"{len(fields) - 8} more {side}", "quiet"))


def _review_tone(review: str) -> str | None:
    return {"approved": "good", "rejected": "bad"}.get(review)
