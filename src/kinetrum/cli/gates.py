"""`gates`, `evidence`, `card`, `rules`, `ladder`, `lock`, `fetches`, `history`: rules and what came of them."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path
from typing import Any

from kinetrum.cli import output
from kinetrum.cli.output import moment, paint
from kinetrum.cli.registry import common, version_of
from kinetrum.core.errors import InvalidInput


def add_commands(commands: Any) -> None:
    """Add this group to the parser."""
    gates = commands.add_parser("gates", help="see or set what a version must meet to enter a stage; ask them now")
    gates.add_argument("ref", metavar="MODEL|MODEL@VERSION")
    gates.add_argument("stage", nargs="?", metavar="STAGE", help="with MODEL@VERSION: ask this stage's gates")
    gates.add_argument("--set", dest="file", metavar="FILE", help="TOML with a table per stage; - reads standard input")
    gates.add_argument("--json", action="store_true")
    common(gates, _gates)
    evidence = commands.add_parser("evidence", help="see or add what a version achieved on named data")
    evidence.add_argument("ref", metavar="MODEL@VERSION")
    evidence.add_argument("--on", metavar="NAME", help="the data's name, as in holdout")
    evidence.add_argument("--run", dest="of_run", metavar="REF", help="a run that judged the version")
    evidence.add_argument(
        "--predictions", metavar="FILE", help="CSV with the columns row, truth, prediction (or score)"
    )
    evidence.add_argument(
        "--data", metavar="PATH", help="the file, folder or version judged on; its fingerprint is kept"
    )
    evidence.add_argument("--json", action="store_true")
    common(evidence, _evidence)
    card = commands.add_parser("card", help="see or write a model's card, Markdown")
    card.add_argument("model", metavar="MODEL")
    card.add_argument("--write", metavar="FILE", help="- reads standard input")
    common(card, _card)
    rules = commands.add_parser("rules", help="see or set a model's purpose, person to ask, approvals, card sections")
    rules.add_argument("model", metavar="MODEL")
    rules.add_argument("--purpose")
    rules.add_argument("--ask", metavar="PERSON", help="the person to ask")
    rules.add_argument("--image", metavar="NAME@N:PATH", help="an image that is kept; empty for none")
    rules.add_argument("--approvals", type=int, metavar="N")
    rules.add_argument(
        "--second-pair", choices=["yes", "no"], help="whether who registered a version may not approve it"
    )
    rules.add_argument("--sections", metavar="A,B", help="sections that the card requires")
    rules.add_argument("--json", action="store_true")
    common(rules, _rules)
    ladder = commands.add_parser("ladder", help="see or set a model's stages, from the lowest")
    ladder.add_argument("model", metavar="MODEL")
    ladder.add_argument("stages", nargs="*", metavar="STAGE[:approved][:ROLE][:PERSON+PERSON]")
    ladder.add_argument("--json", action="store_true")
    common(ladder, _ladder)
    lock = commands.add_parser("lock", help="write which versions to deploy, with the digests of their files")
    lock.add_argument("refs", nargs="+", metavar="MODEL@VERSION")
    lock.add_argument("-o", "--output", metavar="FILE", help="for kinetrum fetch --locked FILE")
    common(lock, _lock)
    fetches = commands.add_parser("fetches", help="who fetches which version of a model, how often and since when")
    fetches.add_argument("model", metavar="MODEL")
    fetches.add_argument("--json", action="store_true")
    common(fetches, _fetches)
    history = commands.add_parser("history", help="who did what to a model, run or experiment, latest first")
    history.add_argument("model", metavar="REF", help="frost-alarm, frost-alarm/42, experiment:frost-alarm")
    history.add_argument("--stages", action="store_true", help="of a model: its stages alone, with the gates asked")
    history.add_argument("--json", action="store_true")
    common(history, _history)


def print_checks(checks: list[dict[str, Any]]) -> None:
    """Print the outcome of gates, one a line."""
    for check in checks:
        mark = paint("met    ", "good") if check["met"] else paint("not met", "bad")
        print(f"  {mark}  {output.clean(check['asks'])}: {output.clean(check['found'])}")


def show_review(found: dict[str, Any]) -> None:
    """Print a version beside another: the sentence, gates, results on the same data, what changed."""
    candidate, other = found["candidate"], found["other"]
    print(paint(output.clean(found["sentence"]), "strong"))
    approvals = sum(1 for verdict in candidate["verdicts"] if verdict["approves"])
    print(
        f"{candidate['reference']} is {candidate['review']}: {approvals} of {candidate['approvals_needed']} approvals."
    )
    for verdict in candidate["verdicts"]:
        word = "approved" if verdict["approves"] else "rejected"
        comment = f": {output.clean(verdict['comment'])}" if verdict["comment"] else ""
        print(f"  {verdict['person']} {word} {moment(verdict['given_at'])}{comment}")
    if found["checks"]:
        print(f"\nGates of {found['stage']}")
        print_checks(found["checks"])
    for part in found["on_data"]:
        _show_on_data(part, candidate["number"], other["number"] if other else None)
    _show_changes(found, other)


def _show_on_data(part: dict[str, Any], number: int, other: int | None) -> None:
    print(f"\nOn {output.clean(part['on'])}{' (different data)' if part['same_data'] is False else ''}")
    told = {one["measure"]: one for one in part["differences"]}
    rows = []
    for key in dict.fromkeys((*told, *part["candidate"], *part["other"])):
        one = told.get(key)
        sides = [
            {**({key: one[side]} if one else {}), **part[held]}
            for side, held in (("left", "candidate"), ("right", "other"))
        ]
        held = [output.number(side[key]) if key in side else "–" for side in sides]
        rows.append([key, held[0], *([held[1]] if other else []), *(_judged(one) if told else [])])
    output.print_table(
        ["result", f"version {number}", *([f"version {other}"] if other else []),
         *(["on the same rows", "95 % interval", "", "by"] if told else [])], rows
    )  # fmt: skip
    if part["note"]:
        print(paint(output.clean(part["note"]), "quiet"))


def _judged(one: dict[str, Any] | None) -> list[str]:
    """Return change, interval, verdict and method of a measure on the same rows."""
    from kinetrum.core.compare.sentence import signed

    if one is None:
        return ["", "", "", ""]
    known = one["low"] is not None and one["high"] is not None
    return [
        signed(one["change"]), f"{signed(one['low'])} to {signed(one['high'])}" if known else "", on_rows(one),
        one["method"],
    ]  # fmt: skip


def on_rows(one: dict[str, Any]) -> str:
    """Say whether the first of two is better or worse on the same rows, or that noise does not tell."""
    if not one["beyond"]:
        return "within noise"
    return "better" if (one["change"] > 0) == one["higher_is_better"] else "worse"


def _show_changes(found: dict[str, Any], other: dict[str, Any] | None) -> None:
    if found["misfits"] is None:
        print("\nIts signature is not known.")
    elif found["misfits"]:
        print(paint(f"\nIts signature does not fit: {'; '.join(found['misfits'])}.", "bad"))
    if not other:
        return
    if found["packages"]:
        changes = [
            f"{one['name']} {one['before'] or 'none'} → {one['after'] or 'none'}" for one in found["packages"][:8]
        ]
        print(f"\nPackages: {', '.join(changes)}")
    size, before = (side["artifact"]["size_bytes"] for side in (found["candidate"], other))
    print(f"\nSize {size:,} bytes, {before:,} before. Settings, code and data:", end=" ")
    runs = [side["run"] for side in (found["candidate"], other)]
    print(f"kinetrum compare {runs[0]} {runs[1]}" if all(runs) else "not both have a run")


def _gates(given: argparse.Namespace) -> int:
    from kinetrum.client.registry import model

    if "@" in given.ref:
        version = version_of(given.ref, given.project)
        stages = [given.stage] if given.stage else list(version.model.stages)
        found = {stage: version.look_at_gates(stage) for stage in stages}
        if given.json:
            output.print_json(found)
            return 0
        for stage, checks in found.items():
            unmet = sum(1 for check in checks if not check["met"])
            said = "no gate" if not checks else f"{unmet} of {len(checks)} not met" if unmet else "all met"
            print(paint(f"{stage}: {said}", "strong"))
            print_checks(checks)
        return 1 if any(not check["met"] for checks in found.values() for check in checks) else 0
    found_model = model(given.ref, project=given.project)
    if given.file:
        found_model.set_gates(_text_of(given.file))
    if given.json:
        output.print_json({"gates": found_model.gates})
    else:
        print(found_model.gates or f"{found_model.name} has no gates; kinetrum gates {found_model.name} --set FILE")
    return 0


def _text_of(path: str) -> str:
    if path == "-":
        return sys.stdin.read()
    try:
        return Path(path).read_text("utf-8")
    except OSError as error:
        raise InvalidInput(f"{path} cannot be read ({error.strerror}).", field="file") from None


def _evidence(given: argparse.Namespace) -> int:
    version = version_of(given.ref, given.project)
    if given.of_run or given.predictions:
        if not given.on:
            raise InvalidInput("Evidence on what? Name the data: --on holdout.", field="on")
        truth, score, rows = _predictions(given.predictions) if given.predictions else (None, None, None)
        version.add_evidence(
            given.on, run=given.of_run, y_true=truth, y_score=score, rows=rows, data=given.data
        )  # fmt: skip
    if given.json:
        output.print_json(version.data["evidence"])
        return 0
    if not version.evidence:
        print(f"{version.reference} has no evidence; add it with --on NAME and --run or --predictions.")
    for on, one in version.evidence.items():
        digest = f" sha256:{one['digest'][:12]}" if one["digest"] else ""
        kept = f"; rows in {one['rows']}" if one["rows"] else ""
        print(paint(f"{on}{digest}", "strong") + f"  by {one['run']}, {one['person']}, {moment(one['at'])}{kept}")
        output.print_table(["result", ""], [[key, output.number(value)] for key, value in one["results"].items()])
    return 0


def _predictions(path: str) -> tuple[list[Any], list[Any], list[str]]:
    """Read a CSV of predictions: row, truth, and prediction or score."""
    import csv

    try:
        with Path(path).open(encoding="utf-8", newline="") as file:
            table = list(csv.DictReader(file))
    except OSError as error:
        raise InvalidInput(f"{path} cannot be read ({error.strerror}).", field="predictions") from None
    given = "score" if table and "score" in table[0] else "prediction"
    if not table or not {"row", "truth", given} <= set(table[0]):
        raise InvalidInput(f"{path} needs the columns row, truth, and prediction or score.", field="predictions")
    numbers = [[_number(line[name]) for line in table] for name in ("truth", given)]
    return numbers[0], numbers[1], [line["row"] for line in table]


def _number(text: str) -> Any:
    try:
        number = float(text)
    except ValueError:
        return text
    return int(number) if number.is_integer() else number


def _card(given: argparse.Namespace) -> int:
    from kinetrum.client.registry import model

    found = model(given.model, project=given.project)
    if given.write:
        found.card = _text_of(given.write)
        print(f"The card of {found.name} is written.")
    else:
        print(found.card)
    if found.missing_sections:
        output.note(f"Still to be written: {', '.join(found.missing_sections)}.")
    return 0


def _rules(given: argparse.Namespace) -> int:
    from kinetrum.client.registry import model

    found = model(given.model, project=given.project)
    if any(one is not None for one in (given.purpose, given.ask, given.image)):
        found.describe(purpose=given.purpose, owner=given.ask, image=given.image)
    if any(one is not None for one in (given.approvals, given.second_pair, given.sections)):
        sections = None if given.sections is None else [part.strip() for part in given.sections.split(",")]
        second = None if given.second_pair is None else given.second_pair == "yes"
        found.rule(approvals_needed=given.approvals, second_pair=second, card_sections=sections)
    data = found.refresh().data
    if given.json:
        output.print_json(data)
        return 0
    rows = [
        ["purpose", output.clean(data["purpose"]) or "none said"], ["ask", f"{data['person']} ({data['person_name']})"],
        ["approvals needed", str(data["approvals_needed"])],
        ["second pair of eyes", "yes" if data["second_pair"] else "no"],
        ["card requires", ", ".join(data["card_sections"]) or "nothing"],
        ["still to be written", ", ".join(data["missing_sections"]) or "nothing"],
        ["labels", ", ".join(f"{key}={text}" for key, text in data["labels"].items()) or "none"],
        ["image", data["image"] or "none"],
    ]  # fmt: skip
    output.print_table(["rule", ""], rows)
    return 0


def _ladder(given: argparse.Namespace) -> int:
    from kinetrum.client.registry import model

    found = model(given.model, project=given.project)
    if given.stages:
        found.set_ladder([_stage(text) for text in given.stages])
    if given.json:
        output.print_json(found.data["stages"])
        return 0
    rows = [
        [stage["name"], str(stage["occupant"] or "–"), "an approved version" if stage["asks_approved"] else "nothing",
         ", ".join(stage["placers"]) or f"{stage['least_role']}s", stage["why_not"] or "you may place here"]
        for stage in reversed(found.data["stages"])
    ]  # fmt: skip
    output.print_table(["stage", "version", "asks", "placed by", ""], rows)
    return 0


def _stage(text: str) -> dict[str, Any]:
    """Read `production:approved:approver` or `staging:approved:ilse+noor`."""
    name, *more = text.split(":")
    stage: dict[str, Any] = {"name": name, "asks_approved": False}
    for word in more:
        if word == "approved":
            stage["asks_approved"] = True
        elif word in {"contributor", "approver", "maintainer"}:
            stage["least_role"] = word
        elif word:
            stage["placers"] = word.split("+")
    return stage


def _lock(given: argparse.Namespace) -> int:
    from kinetrum.client.registering import lock

    lines = lock(given.refs, given.output, project=given.project)
    print("\n".join(lines))
    if given.output:
        output.note(f"Written to {given.output}; kinetrum fetch --locked {given.output} -o DIR fetches exactly these.")
    return 0


def _fetches(given: argparse.Namespace) -> int:
    from kinetrum.client.registry import model

    found = model(given.model, project=given.project).fetches()
    if given.json:
        output.print_json(found)
        return 0
    if not found:
        print(f"Nobody has fetched a version of {given.model} yet.")
        return 0
    rows = [
        [str(one["number"]), one["asked"], one["person"], f"{one['fetches']:,}", moment(one["first_at"]),
         moment(one["last_at"])] for one in found
    ]  # fmt: skip
    output.print_table(["version", "asked for", "by", "fetches", "since", "last"], rows)
    return 0


def _history(given: argparse.Namespace) -> int:
    from kinetrum.client.http import path_of
    from kinetrum.client.session import open_session

    if given.stages:
        return _stages(given)
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
                     _change(entry), output.short(entry["comment"], 60)])  # fmt: skip
    if rows:
        output.print_table(["when", "who", "act", "what", "change", "comment"], rows)
    return 0


def _stages(given: argparse.Namespace) -> int:
    from kinetrum.client.registry import model

    events = model(given.model.removeprefix("model:"), project=given.project).timeline
    if given.json:
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
        print(f"No version of {given.model} was placed on a stage yet.")
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
    said = after if isinstance(after, str) else before
    return output.short(f"“{said}”", 60) if "note" in entry["act"] else ""


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
