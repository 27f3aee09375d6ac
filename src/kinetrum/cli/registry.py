"""`models`, `register`, `review`, `promote`, `demote`, `rollback`, `retire`, `lead`, `history`: the registry."""

from __future__ import annotations

import argparse
from typing import Any

from kinetrum.cli import output
from kinetrum.cli.output import moment, paint
from kinetrum.core.errors import InvalidInput


def add_commands(commands: Any) -> None:
    """Add this group to the parser."""
    models = commands.add_parser("models", help="every model's ladder at a glance")
    models.add_argument("--json", action="store_true")
    _common(models, _models)
    register = commands.add_parser("register", help="register a version of a model")
    register.add_argument("what", metavar="WHAT", help="NAME@NUMBER, a path, or with --run what that run generated")
    register.add_argument("--as-model", required=True, metavar="MODEL")
    register.add_argument("--run", dest="of_run", metavar="REF")
    register.add_argument("--origin", help="where it came from, in words, if no run made it")
    _commented(register, _register)
    review = commands.add_parser("review", help="see a version's review; approve or reject it")
    review.add_argument("ref", metavar="MODEL@VERSION")
    verdict = review.add_mutually_exclusive_group()
    verdict.add_argument("--approve", dest="verdict", action="store_const", const="approve")
    verdict.add_argument("--reject", dest="verdict", action="store_const", const="reject")
    verdict.add_argument("--take-back", dest="verdict", action="store_const", const="take back")
    _commented(review, _review)
    promote = commands.add_parser("promote", help="place a version on a stage")
    promote.add_argument("ref", metavar="MODEL@VERSION")
    promote.add_argument("stage", metavar="STAGE")
    _expecting(promote, _promote)
    demote = commands.add_parser("demote", help="empty a stage")
    demote.add_argument("ref", metavar="MODEL@STAGE")
    _expecting(demote, _demote)
    rollback = commands.add_parser("rollback", help="put a stage back to the version before")
    rollback.add_argument("ref", metavar="MODEL@STAGE")
    _expecting(rollback, _rollback)
    retire = commands.add_parser("retire", help="retire a version: no new promotion")
    retire.add_argument("ref", metavar="MODEL@VERSION")
    retire.add_argument("--undo", action="store_true", help="take the retirement back")
    _commented(retire, _retire)
    lead = commands.add_parser("lead", help="see or choose what a consumer gets who names no version")
    lead.add_argument("model", metavar="MODEL")
    lead.add_argument("version", nargs="?", metavar="NUMBER|none")
    lead.add_argument("--json", action="store_true")
    _common(lead, _lead)
    history = commands.add_parser("history", help="who did what to a model, run or experiment, latest first")
    history.add_argument("model", metavar="REF", help="frost-alarm, frost-alarm/42, experiment:frost-alarm")
    history.add_argument("--json", action="store_true")
    _common(history, _history)


def _common(parser: argparse.ArgumentParser, run: Any) -> None:
    parser.add_argument("--project")
    parser.set_defaults(run=run)


def _commented(parser: argparse.ArgumentParser, run: Any) -> None:
    parser.add_argument("-m", "--comment", default="", help="kept in the journal")
    parser.add_argument("--json", action="store_true")
    _common(parser, run)


def _expecting(parser: argparse.ArgumentParser, run: Any) -> None:
    parser.add_argument(
        "--expect",
        metavar="N|none",
        help="the version that must stand on the stage now; refused where another does",
    )
    _commented(parser, run)


def show_model(model: dict[str, Any]) -> None:
    """Print one model: its ladder and versions."""
    lead = f"  lead version {model['lead']}" if model["lead"] else "  no lead version"
    print(paint(model["name"], "strong") + lead + paint(f"  ask {model['person']}", "quiet"))
    rows = []
    for stage in reversed(model["stages"]):
        since = f"since {moment(stage['since'])} by {stage['placed_by']}" if stage["occupant"] else ""
        rows.append([stage["name"], str(stage["occupant"] or "–"), since, stage["warning"] or ""])
    output.print_table(["stage", "version", "", ""], rows)
    print()
    rows = [
        [str(v["number"]), v["review"], ", ".join(v["stages"]), v["run"] or "", moment(v["registered_at"]),
         v["registered_by"], output.clean(v["comment"])[:40]]
        for v in model["versions"]
    ]  # fmt: skip
    output.print_table(["version", "review", "on", "run", "registered", "by", "comment"], rows)


def _models(given: argparse.Namespace) -> int:
    from kinetrum.client.registry import models

    found = models(project=given.project)
    if given.json:
        output.print_json([model.data for model in found])
        return 0
    stages = list(dict.fromkeys(stage for model in found for stage in model.stages))
    rows = []
    for model in found:
        pending = sum(1 for version in model.data["versions"] if version["review"] == "pending")
        rows.append(
            [model.name, *[str(model.stages.get(stage) or "–") for stage in stages], str(model.lead or "–"),
             str(pending), str(len(model.versions))]
        )  # fmt: skip
    output.print_table(["model", *stages, "lead", "pending", "versions"], rows)
    return 0


def _register(given: argparse.Namespace) -> int:
    from kinetrum.client.registry import register

    version = register(
        given.what, as_model=given.as_model, run=given.of_run, origin=given.origin, comment=given.comment,
        project=given.project,
    )  # fmt: skip
    if given.json:
        output.print_json(version.data)
    else:
        print(f"Registered {version.reference} from {version.run or 'no run'}; its review is {version.review}.")
    return 0


def _version(text: str, project: str | None) -> Any:
    from kinetrum.client.registry import ModelVersion
    from kinetrum.client.session import open_session
    from kinetrum.core.refs import VersionRef, parse_ref

    ref = parse_ref(text)
    if not isinstance(ref, VersionRef) or ref.path:
        raise InvalidInput(f"{text!r} names no version; write MODEL@NUMBER or MODEL@STAGE.", field="version")
    session = open_session(ref.project or project)
    return ModelVersion.read(session, ref.project or session.project, ref.name, ref.which)


def _stage(text: str, project: str | None) -> tuple[Any, str]:
    from kinetrum.client.registry import Model
    from kinetrum.client.session import open_session
    from kinetrum.core.refs import VersionRef, parse_ref

    ref = parse_ref(text)
    if not isinstance(ref, VersionRef) or ref.which.isdigit() or ref.path:
        raise InvalidInput(f"{text!r} names no stage; write MODEL@STAGE.", field="stage")
    session = open_session(ref.project or project)
    return Model.read(session, ref.project or session.project, ref.name), ref.which


def _expected(text: str | None) -> Any:
    from kinetrum.client.registry import SEEN

    if text is None:
        return SEEN
    if text == "none":
        return None
    if not text.isdigit():
        raise InvalidInput(f"--expect takes a version number or none, not {text!r}.", field="expect")
    return int(text)


def _review(given: argparse.Namespace) -> int:
    version = _version(given.ref, given.project)
    if given.verdict == "take back":
        version.take_back_verdict(given.comment)
    elif given.verdict == "approve":
        version.approve(given.comment)
    elif given.verdict == "reject":
        version.reject(given.comment)
    version.refresh()
    if given.json:
        output.print_json(version.data)
        return 0
    print(f"{version.reference} is {version.review}; {version.data['approvals_needed']} approval(s) needed.")
    for verdict in version.data["verdicts"]:
        word = "approved" if verdict["approves"] else "rejected"
        print(f"  {verdict['person']} {word} {moment(verdict['given_at'])}: {output.clean(verdict['comment'])}")
    return 0


def _promote(given: argparse.Namespace) -> int:
    version = _version(given.ref, given.project)
    before = version.model.occupant_seen(given.stage)
    version.promote(given.stage, expect=_expected(given.expect), comment=given.comment)
    if given.json:
        output.print_json(version.model.data)
    else:
        was = f"; version {before} stood there before" if before else ""
        print(f"{version.reference} stands on {given.stage} now{was}.")
    return 0


def _demote(given: argparse.Namespace) -> int:
    model, stage = _stage(given.ref, given.project)
    before = model.occupant_seen(stage)
    model.demote(stage, expect=_expected(given.expect), comment=given.comment)
    if given.json:
        output.print_json(model.data)
    else:
        print(f"The stage {stage} of {model.name} is empty now; version {before} stood there.")
    return 0


def _rollback(given: argparse.Namespace) -> int:
    model, stage = _stage(given.ref, given.project)
    before = model.occupant_seen(stage)
    now = model.roll_back(stage, expect=_expected(given.expect), comment=given.comment)
    if given.json:
        output.print_json(model.data)
    else:
        print(f"{stage} of {model.name} holds version {now} again; version {before} was taken off.")
    return 0


def _retire(given: argparse.Namespace) -> int:
    version = _version(given.ref, given.project)
    version.retire(not given.undo, given.comment)
    if given.json:
        output.print_json(version.data)
    else:
        print(f"{version.reference} is {'in use again' if given.undo else 'retired'}.")
    return 0


def _lead(given: argparse.Namespace) -> int:
    from kinetrum.client.registry import model

    found = model(given.model, project=given.project)
    if given.version is not None:
        found.lead = _expected(given.version)
    if given.json:
        output.print_json({"model": found.name, "lead": found.lead, "chosen": found.data["lead_chosen"]})
    elif found.lead is None:
        print(f"{found.name} has no lead version: no stage holds an approved version and none was chosen.")
    else:
        how = "chosen" if found.data["lead_chosen"] else "the occupant of the highest occupied stage"
        print(f"The lead version of {found.name} is {found.lead} ({how}).")
    return 0


def _history(given: argparse.Namespace) -> int:
    from kinetrum.client.http import path_of
    from kinetrum.client.session import open_session

    session = open_session(given.project)
    subject = _subject(session, given.model)
    entries = session.service.get(path_of("projects", session.project, "journal"), subject=subject)
    if given.json:
        output.print_json(entries)
        return 0
    if not entries:
        print(f"Nothing is told of {given.model}.")
    rows = []
    for entry in entries:
        rows.append([moment(entry["at"]), entry["person"] or "", entry["act"], entry["subject"],
                     _change(entry), output.clean(entry["comment"])[:60]])  # fmt: skip
    if rows:
        output.print_table(["when", "who", "act", "what", "change", "comment"], rows)
    return 0


def _subject(session: Any, text: str) -> str:
    """Return how the journal names what was typed: a run by its number, an experiment or model by its name."""
    from kinetrum.client.reading import find_run
    from kinetrum.core.refs import RunRef, parse_ref

    if text.startswith("experiment:"):
        return text
    parsed = parse_ref(text)
    return f"run:{find_run(session, parsed).reference}" if isinstance(parsed, RunRef) else text


def _change(entry: dict[str, Any]) -> str:
    before, after = entry["before"], entry["after"]
    if entry["subject"].startswith(("run:", "experiment:")):
        return " → ".join(part for part in (_stated(before), _stated(after)) if part)
    if isinstance(before, dict) and isinstance(after, dict) and len(after) == 1:
        ((stage, now),) = after.items()
        return f"{stage}: {before.get(stage) or 'empty'} → {now or 'empty'}"
    if isinstance(before, str) and isinstance(after, str) and before != after:
        return f"{before} → {after}"
    return ""


def _stated(state: Any) -> str:
    """Write a state of the journal: `depth 5, rate 0.1`."""
    if isinstance(state, dict) and "direction" in state:
        bound = (
            "" if state["bound"] is None else f" {'>=' if state['direction'] == 'higher' else '<='} {state['bound']:g}"
        )
        return f"{state['key']} {state['direction']}{bound} {state['unit'] or ''}".rstrip()
    if isinstance(state, dict):
        return ", ".join(f"{key} {'none' if value is None else output.number(value)}" for key, value in state.items())
    return "" if state is None else output.clean(str(state))
