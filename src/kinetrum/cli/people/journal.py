"""`history`: who did what to a model, run or experiment."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from kinetrum.cli import output
from kinetrum.cli.output import moment, paint
from kinetrum.cli.parser import Commands
from kinetrum.cli.registry.models import common
from kinetrum.cli.registry.review_tables import print_checks

if TYPE_CHECKING:
    from kinetrum.client.transport import answers
    from kinetrum.client.transport.session import Session


def add_commands(commands: Commands) -> None:
    """Add this group to the parser."""
    history = commands.add_parser("history", help="who did what to a model, run or experiment, latest first")
    history.add_argument("model", metavar="REF", help="frost-alarm, frost-alarm/42, experiment:frost-alarm")
    history.add_argument("--stages", action="store_true", help="of a model: its stages alone, with the gates asked")
    history.add_argument("--json", action="store_true")
    common(history, _history)


def _history(arguments: argparse.Namespace) -> int:
    from kinetrum.client.transport.http import path_of
    from kinetrum.client.transport.session import open_session

    if arguments.stages:
        return _stages(arguments)
    session = open_session(arguments.project)
    subject = _subject(session, arguments.model)
    entries = session.service.get(path_of("projects", session.project, "journal"), subject=subject)
    if arguments.json:
        output.print_json(entries)
        return 0
    if not entries:
        print(f"Nothing is told of {arguments.model}.")
    rows = []
    for entry in entries:
        rows.append(
            [
                moment(entry["at"]),
                entry["person"] or "",
                entry["act"],
                entry["subject"],
                output.short(_change(entry), 60),
                output.short(entry["comment"], 60),
            ]
        )
    if rows:
        output.print_table(["when", "who", "act", "what", "change", "comment"], rows)
    return 0


def _stages(arguments: argparse.Namespace) -> int:
    from kinetrum.client.registry.models import model

    events = model(arguments.model.removeprefix("model:"), project=arguments.project).timeline
    if arguments.json:
        output.print_json(events)
        return 0
    words = {"promote": "promoted", "demote": "demoted", "roll back": "rolled back"}
    for event in reversed(events):
        change = f"{event['stage']}: {event['before'] or 'empty'} → {event['after'] or 'empty'}"
        comment = f"  {output.clean(event['comment'])}" if event["comment"] else ""
        print(f"{moment(event['at'])}  {event['person']} {words[event['act']]}  {paint(change, 'strong')}{comment}")
        if event["override_reason"]:
            print(paint(f"  gates overridden: {output.clean(event['override_reason'])}", "bad"))
        print_checks(event["checks"] or [])
    if not events:
        print(f"No version of {arguments.model} was placed on a stage yet.")
    return 0


def _subject(session: Session, text: str) -> str:
    """Return how the journal names what was typed: a run by its number, an experiment or model by its name."""
    from kinetrum.client.reading.recorded_run import find_run
    from kinetrum.core.base.refs import RunRef, parse_ref

    if text.startswith("experiment:"):
        return text
    parsed = parse_ref(text)
    return f"run:{find_run(session, parsed).reference}" if isinstance(parsed, RunRef) else text


def _change(entry: answers.JournalRow) -> str:
    before, after = entry["before"], entry["after"]
    if entry["subject"].startswith(("run:", "experiment:")):
        return " → ".join(part for part in (_stated(before), _stated(after)) if part)
    if isinstance(before, dict) and isinstance(after, dict) and len(after) == 1:
        ((stage, now),) = after.items()
        return f"{stage}: {before.get(stage) or 'empty'} → {now or 'empty'}"
    if isinstance(before, str) and isinstance(after, str) and before != after:
        return f"{before} → {after}"
    text = after if isinstance(after, str) else before
    return output.short(f"“{text}”", 60) if "note" in entry["act"] else ""


def _stated(state: object) -> str:
    """Write a state of the journal: `depth 5, rate 0.1`."""
    if isinstance(state, dict) and "direction" in state:
        bound = (
            "" if state["bound"] is None else f" {'>=' if state['direction'] == 'higher' else '<='} {state['bound']:g}"
        )
        return f"{state['key']} {state['direction']}{bound} {state['unit'] or ''}".rstrip()
    if isinstance(state, dict):
        return ", ".join(f"{key} {'none' if value is None else output.number(value)}" for key, value in state.items())
    return "" if state is None else output.clean(str(state))
