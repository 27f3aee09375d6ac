"""`label`, `note`, `rename`, `goal`, `correct`: saying what runs are."""

from __future__ import annotations

import argparse
import sys
from typing import TYPE_CHECKING

from kinetrum.cli import output
from kinetrum.cli.arguments import add_common
from kinetrum.cli.output import moment, origin_of_note
from kinetrum.cli.parser import Commands
from kinetrum.core.base.errors import InvalidInput

if TYPE_CHECKING:
    from kinetrum.client.reading.notes import Note
    from kinetrum.client.transport import answers
    from kinetrum.client.transport.session import Session

WHOLE = ("project:", "experiment:", "artifact:", "model:")


def add_commands(commands: Commands) -> None:
    """Add this group to the parser."""
    label = commands.add_parser("label", help="set labels on runs and versions: KEY=VALUE, or KEY= to take one away")
    label.add_argument("words", nargs="+", metavar="REF… KEY=VALUE…")
    add_common(label, _label)
    note = commands.add_parser("note", help="put a note on runs, versions, models and the like, or read those of one")
    note.add_argument(
        "refs",
        nargs="+",
        metavar="REF",
        help="frost-alarm/42, frost-alarm@2, nights@3; project:, experiment:, artifact:, model: and a name",
    )
    note.add_argument("-m", "--message", metavar="TEXT", help="Markdown; - reads it from standard input")
    note.add_argument("--remove", metavar="ID", help="remove the note whose id, shown with each, this is")
    add_common(note, _note)
    rename = commands.add_parser("rename", help="give a run, an experiment or a model another name")
    rename.add_argument("ref", metavar="REF", help="frost-alarm/42, experiment:frost-alarm or model:frost-alarm")
    rename.add_argument("name", metavar="NAME", help="an empty one takes a run's name away")
    add_common(rename, _rename)
    goal = commands.add_parser("goal", help="which way is better, in which unit, and from where on good enough")
    goal.add_argument("experiment", metavar="EXPERIMENT")
    goal.add_argument("key", nargs="?", metavar="KEY", help="a metric or result; without it the goals are listed")
    goal.add_argument("direction", nargs="?", choices=["higher", "lower", "none"], help="none takes the goal away")
    goal.add_argument("--unit", help="such as s, %% or °C")
    goal.add_argument("--bound", type=float, metavar="NUMBER", help="from this value on it is good enough")
    goal.add_argument("--show", metavar="AGGREGATE", help="best, last, first, min, max, mean or count of a metric")
    add_common(goal, _goal)
    seeds = commands.add_parser("seeds", help="see or name the parameters in which replicates of an experiment differ")
    seeds.add_argument("experiment", metavar="EXPERIMENT")
    seeds.add_argument("names", nargs="*", metavar="PARAMETER")
    add_common(seeds, _seeds)
    names = commands.add_parser("run-names", help="see or say whether runs begun without a name get a generated one")
    names.add_argument("experiment", metavar="EXPERIMENT")
    names.add_argument("generate", nargs="?", choices=["on", "off"], help="without it the setting is told")
    add_common(names, _run_names)
    correct = commands.add_parser("correct", help="correct parameters that were set wrongly; the journal keeps both")
    correct.add_argument("ref", metavar="REF")
    correct.add_argument("params", nargs="+", metavar="KEY=VALUE", help="read as JSON where it is JSON, else text")
    correct.add_argument("-m", "--comment", default="", metavar="TEXT", help="why")
    add_common(correct, _correct)


def _session(arguments: argparse.Namespace, ref: str) -> tuple[Session, str]:
    """Return the session for a run's reference, and the reference without its project."""
    from kinetrum.client.transport.session import open_session
    from kinetrum.core.base.refs import RunRef, parse_ref

    parsed = parse_ref(ref)
    if not isinstance(parsed, RunRef):
        raise InvalidInput(f"{ref!r} names no run; write EXPERIMENT/NUMBER or an id.", field="ref")
    session = open_session(parsed.project or arguments.project)
    return session, f"{parsed.experiment}/{parsed.pick}" if parsed.experiment else parsed.pick


def _sessions(arguments: argparse.Namespace, refs: list[str]) -> dict[str, tuple[Session, list[str]]]:
    """Group references by project."""
    sessions: dict[str, tuple[Session, list[str]]] = {}
    for ref in refs:
        session, plain = _session(arguments, ref)
        sessions.setdefault(session.project, (session, []))[1].append(plain)
    return sessions


def things_by_project(arguments: argparse.Namespace, refs: list[str]) -> dict[str, tuple[Session, list[str]]]:
    """Group references of runs, versions (`nights@2`) and whole things (`artifact:nights`) by project."""
    from kinetrum.client.transport.session import open_session
    from kinetrum.core.base.refs import VersionRef, parse_ref

    sessions: dict[str, tuple[Session, list[str]]] = {}
    for text in refs:
        before, _, after = text.rpartition("/")
        if after.startswith(WHOLE):
            of = after.removeprefix("project:") if after.startswith("project:") else before
            session, plain = open_session(of or arguments.project), after
        elif "@" in text:
            ref = parse_ref(text)
            session = open_session(ref.project or arguments.project)
            plain = f"{ref.name}@{ref.which}" if isinstance(ref, VersionRef) else text
        else:
            session, plain = _session(arguments, text)
        sessions.setdefault(session.project, (session, []))[1].append(plain)
    return sessions


def done_with(arguments: argparse.Namespace, done: list[str], what: str) -> int:
    """Say what was done to things, by their references where they are few; returns the exit status."""
    if arguments.json:
        output.print_json(done)
    else:
        print(f"{', '.join(done) if 0 < len(done) <= 6 else output.counted_things(done)} {what}.")
    return 0


def _pairs(words: list[str]) -> dict[str, str]:
    return {key: value for key, _, value in (word.partition("=") for word in words)}


def _label(arguments: argparse.Namespace) -> int:
    from kinetrum.client.reading.descriptions import label_runs

    at = next((at for at, word in enumerate(arguments.words) if "=" in word), len(arguments.words))
    refs, words = arguments.words[:at], arguments.words[at:]
    if not refs or not words or not all("=" in word for word in words):
        raise InvalidInput(
            "Write runs or versions first, then the labels: kinetrum label frost-alarm/42 purpose=baseline."
        )
    labels = {key: value or None for key, value in _pairs(words).items()}
    of_files = [ref for ref in refs if ref.startswith(("artifact:", "model:", "experiment:")) or "@" in ref]
    done = []
    for session, plain in things_by_project(arguments, of_files).values():
        done += [_label_files(session, ref, labels) for ref in plain]
    for session, plain in _sessions(arguments, [ref for ref in refs if ref not in of_files]).values():
        done += label_runs(session, session.project, plain, labels)
    return done_with(arguments, done, "labelled")


def _label_files(session: Session, ref: str, labels: dict[str, str | None]) -> str:
    """Label an artifact, model or experiment (`artifact:nights`, `model:frost-alarm`) or a version (`nights@3`)."""
    from kinetrum.client.data.artifact_versions import StoredVersion, describe_artifact
    from kinetrum.client.reading.run_table import thing_named

    if ref.startswith("artifact:"):
        describe_artifact(session, ref.removeprefix("artifact:"), None, labels)
        return ref
    if ref.startswith("experiment:"):
        from kinetrum.client.reading.descriptions import Experiment

        Experiment(session, ref.removeprefix("experiment:")).label(**labels)
        return ref
    if ref.startswith("model:"):
        from kinetrum.client.registry.models import Model

        return f"model:{Model.read(session, session.project, ref.removeprefix('model:')).describe(labels=labels).name}"
    name, _, which = ref.partition("@")
    if thing_named(session, session.project, name) == "model":
        from kinetrum.client.registry.models import ModelVersion

        version = ModelVersion.read(session, session.project, name, which)
        version.label(**labels)
        return version.reference
    return StoredVersion.read(session, session.project, name, which).label(**labels).reference


def _note(arguments: argparse.Namespace) -> int:
    from kinetrum.client.reading.notes import note_things, notes_on, remove_note

    by_project = things_by_project(arguments, arguments.refs).values()
    if arguments.message is not None:
        text = sys.stdin.read() if arguments.message == "-" else arguments.message
        done = [ref for session, refs in by_project for ref in note_things(session, session.project, refs, text)]
        return done_with(arguments, done, "noted")
    if len(arguments.refs) > 1:
        raise InvalidInput("Notes are read of one thing at a time; -m TEXT puts one on many.", field="ref")
    ((session, (ref,)),) = by_project
    if arguments.remove is not None:
        remove_note(session, session.project, ref, arguments.remove)
        return done_with(arguments, [ref], "has that note no more")
    return _print_notes(arguments, notes_on(session, session.project, ref))


def _print_notes(arguments: argparse.Namespace, notes: list[Note]) -> int:
    if arguments.json:
        output.print_json([vars(note) for note in notes])
        return 0
    for note in notes:
        head = f"{note.author}, {moment(note.written_at)}{origin_of_note(note.imported_from)}  {note.id}"
        print(output.paint(head, "quiet"))
        print("\n".join(output.clean(line) for line in note.text.splitlines()))
    if not notes:
        print("No note. Put one there with -m TEXT.")
    return 0


def _rename(arguments: argparse.Namespace) -> int:
    from kinetrum.client.transport.http import path_of

    kind, colon, _ = arguments.ref.rpartition("/")[2].partition(":")
    if colon and kind in {"experiment", "model"}:
        return _rename_thing(arguments, kind)
    session, plain = _session(arguments, arguments.ref)
    run = _found(session, plain)
    path = path_of("projects", session.project, "experiments", run["experiment"], "runs", run["id"], "name")
    done = session.service.call("PUT", path, json={"name": arguments.name or None})["runs"]
    return done_with(
        arguments, done, f"is named {output.clean(arguments.name)}" if arguments.name else "has no name now"
    )


def _rename_thing(arguments: argparse.Namespace, kind: str) -> int:
    from kinetrum.client.transport.http import path_of

    ((session, (ref,)),) = things_by_project(arguments, [arguments.ref]).values()
    before = ref.removeprefix(f"{kind}:")
    path = path_of("projects", session.project, f"{kind}s", before, "name")
    name = session.service.call("PUT", path, json={"name": arguments.name})["name"]
    return done_with(arguments, [f"{kind}:{name}"], f"is the name now; {before} goes on leading there")


def _run_names(arguments: argparse.Namespace) -> int:
    from kinetrum.client.reading.descriptions import experiment

    experiment_read = experiment(arguments.experiment, project=arguments.project)
    if arguments.generate is not None:
        experiment_read.generates_names = arguments.generate == "on"
    if arguments.json:
        output.print_json({"generates_names": experiment_read.generates_names})
    else:
        some = "get a generated one" if experiment_read.generates_names else "have none"
        print(f"Runs of {arguments.experiment} that are begun without a name {some}.")
    return 0


def _found(session: Session, plain: str) -> answers.RunRow:
    from kinetrum.client.reading.recorded_run import find_run
    from kinetrum.core.base.refs import RunRef, parse_ref

    parsed = parse_ref(plain)
    assert isinstance(parsed, RunRef)
    return find_run(session, parsed)._data


def _seeds(arguments: argparse.Namespace) -> int:
    from kinetrum.client.reading.descriptions import experiment

    experiment_read = experiment(arguments.experiment, project=arguments.project)
    if arguments.names:
        experiment_read.seeds = arguments.names
    names = experiment_read.seeds
    if arguments.json:
        output.print_json(names)
    else:
        print(f"Replicates of {arguments.experiment} differ in {', '.join(names)} alone.")
    return 0


def _goal(arguments: argparse.Namespace) -> int:
    from kinetrum.client.reading.descriptions import experiment

    experiment_read = experiment(arguments.experiment, project=arguments.project)
    if arguments.key is not None:
        if arguments.direction is None:
            raise InvalidInput(f"Say which way {arguments.key} is better: higher or lower (none takes the goal away).")
        if arguments.direction == "none":
            experiment_read.remove_goal(arguments.key)
        else:
            parts = {"unit": arguments.unit, "bound": arguments.bound, "aggregate": arguments.show}
            given_parts = {key: value for key, value in parts.items() if value is not None}
            experiment_read.set_goal(arguments.key, {"direction": arguments.direction, **given_parts})
    goals = experiment_read.goals
    if arguments.json:
        output.print_json(goals)
        return 0
    rows = [
        [
            key,
            f"{goal['direction']} is better",
            "" if goal["bound"] is None else f"{goal['bound']:g}",
            goal["unit"] or "",
            goal["aggregate"],
        ]
        for key, goal in goals.items()
    ]
    if rows:
        output.print_table(["key", "goal", "bound", "unit", "shown of a metric"], rows)
    else:
        print(f"{arguments.experiment} has no goals; set one: kinetrum goal {arguments.experiment} recall higher")
    return 0


def _correct(arguments: argparse.Namespace) -> int:
    from kinetrum.client.reading.descriptions import correct_run
    from kinetrum.client.transport.http import path_of
    from kinetrum.core.base.values import read_typed

    session, plain = _session(arguments, arguments.ref)
    run = _found(session, plain)
    wrong = next((word for word in arguments.params if "=" not in word), None)
    if wrong is not None:
        raise InvalidInput(f"{wrong!r} is not of the form KEY=VALUE.", field="params")
    path = path_of("projects", session.project, "experiments", run["experiment"], "runs", run["id"])
    params = {key: read_typed(text) for key, text in _pairs(arguments.params).items()}
    correct_run(session, path, params, arguments.comment)
    return done_with(arguments, [run["reference"]], "corrected")
