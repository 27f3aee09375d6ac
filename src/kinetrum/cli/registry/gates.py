"""`gates`, `evidence`, `card`, `rules`, `ladder`, `lock`, `fetches`: rules, and what they are asked of."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path
from typing import TYPE_CHECKING

from kinetrum.cli import output
from kinetrum.cli.output import moment, paint
from kinetrum.cli.parser import Commands
from kinetrum.cli.registry.models import common, version_of
from kinetrum.cli.registry.review_tables import print_checks
from kinetrum.core.base.errors import InvalidInput

if TYPE_CHECKING:
    from kinetrum.client.registry.models import Model
    from kinetrum.client.transport import answers


def add_commands(commands: Commands) -> None:
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
    _add_rules(commands)
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


def _add_rules(commands: Commands) -> None:
    rules = commands.add_parser("rules", help="see or set a model's purpose, person to ask, approvals, card sections")
    rules.add_argument("model", metavar="MODEL")
    rules.add_argument("--purpose")
    rules.add_argument("--ask", metavar="PERSON", help="the person to ask")
    rules.add_argument("--image", metavar="NAME@N:PATH", help="an image that is kept; empty for none")
    rules.add_argument("--approvals", type=int, metavar="N")
    rules.add_argument(
        "--second-pair", choices=["yes", "no"], help="whether who registered a version may not approve it"
    )
    rules.add_argument(
        "--renewed-approvals",
        choices=["yes", "no"],
        help="whether approvals older than the newest evidence have to be given again",
    )
    rules.add_argument(
        "--evidence",
        action="append",
        default=[],
        metavar="DATA=PERSON+PERSON|experiment:NAME|anybody",
        help="who alone adds evidence on named data, or of which experiment its run is",
    )
    rules.add_argument("--yes", action="store_true", help="do not ask where approved versions would no longer be")
    rules.add_argument("--sections", metavar="A,B", help="sections that the card requires")
    rules.add_argument("--json", action="store_true")
    common(rules, _rules)


def _gates(arguments: argparse.Namespace) -> int:
    from kinetrum.client.registry.models import model

    if "@" in arguments.ref:
        version = version_of(arguments.ref, arguments.project)
        stages = [arguments.stage] if arguments.stage else list(version.model.stages)
        checks_by_stage = {stage: version.look_at_gates(stage) for stage in stages}
        if arguments.json:
            output.print_json(checks_by_stage)
            return 0
        for stage, checks in checks_by_stage.items():
            unmet = sum(1 for check in checks if not check["met"])
            summary = "no gate" if not checks else f"{unmet} of {len(checks)} not met" if unmet else "all met"
            print(paint(f"{stage}: {summary}", "strong"))
            print_checks(checks)
        return 1 if any(not check["met"] for checks in checks_by_stage.values() for check in checks) else 0
    found_model = model(arguments.ref, project=arguments.project)
    if arguments.file:
        found_model.set_gates(_text_of(arguments.file))
    if arguments.json:
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


def _evidence(arguments: argparse.Namespace) -> int:
    version = version_of(arguments.ref, arguments.project)
    if arguments.of_run or arguments.predictions:
        if not arguments.on:
            raise InvalidInput("Evidence on what? Name the data: --on holdout.", field="on")
        truth, score, rows = _predictions(arguments.predictions) if arguments.predictions else (None, None, None)
        version.add_evidence(
            arguments.on, run=arguments.of_run, y_true=truth, y_score=score, rows=rows, data=arguments.data
        )
    if arguments.json:
        output.print_json(version.data["evidence"])
        return 0
    if not version.evidence:
        print(f"{version.reference} has no evidence; add it with --on NAME and --run or --predictions.")
    for on, one in version.evidence.items():
        digest = f" sha256:{one['digest'][:12]}" if one["digest"] else "  no fingerprint of the data"
        rows_hint = f"; rows in {one['rows']}" if one["rows"] else ""
        print(paint(f"{on}{digest}", "strong") + f"  by {one['run']}, {one['person']}, {moment(one['at'])}{rows_hint}")
        output.print_table(["result", ""], [[key, output.number(value)] for key, value in one["results"].items()])
    return 0


def _predictions(path: str) -> tuple[list[object], list[object], list[str]]:
    """Read a CSV of predictions: row, truth, and prediction or score."""
    import csv

    try:
        with Path(path).open(encoding="utf-8", newline="") as file:
            table = list(csv.DictReader(file))
    except OSError as error:
        raise InvalidInput(f"{path} cannot be read ({error.strerror}).", field="predictions") from None
    kind = "score" if table and "score" in table[0] else "prediction"
    if not table or not {"row", "truth", kind} <= set(table[0]):
        raise InvalidInput(f"{path} needs the columns row, truth, and prediction or score.", field="predictions")
    numbers = [[_number(line[name]) for line in table] for name in ("truth", kind)]
    return numbers[0], numbers[1], [line["row"] for line in table]


def _number(text: str) -> object:
    try:
        number = float(text)
    except ValueError:
        return text
    return int(number) if number.is_integer() else number


def _card(arguments: argparse.Namespace) -> int:
    from kinetrum.client.registry.models import model

    model_read = model(arguments.model, project=arguments.project)
    if arguments.write:
        model_read.card = _text_of(arguments.write)
        print(f"The card of {model_read.name} is written.")
    else:
        print(model_read.card)
    if model_read.missing_sections:
        output.note(f"Still to be written: {', '.join(model_read.missing_sections)}.")
    return 0


def _rules(arguments: argparse.Namespace) -> int:
    from kinetrum.client.registry.models import model

    model_read = model(arguments.model, project=arguments.project)
    if any(one is not None for one in (arguments.purpose, arguments.ask, arguments.image)):
        model_read.describe(purpose=arguments.purpose, owner=arguments.ask, image=arguments.image)
    rules_asked = (
        arguments.approvals,
        arguments.second_pair,
        arguments.sections,
        arguments.renewed_approvals,
        arguments.evidence or None,
    )
    if any(one is not None for one in rules_asked):
        _change_rules(model_read, arguments)
    data = model_read.refresh().data
    if arguments.json:
        output.print_json(data)
        return 0
    rows = [
        ["purpose", output.clean(data["purpose"]) or "none said"],
        ["ask", f"{data['person']} ({data['person_name']})"],
        ["approvals needed", str(data["approvals_needed"])],
        ["second pair of eyes", "yes" if data["second_pair"] else "no"],
        ["new evidence", "asks for approvals again" if data["renewed_approvals"] else "leaves approvals as they are"],
        *[[f"evidence on {on}", _bound_to(rule)] for on, rule in data["evidence_rules"].items()],
        ["card requires", ", ".join(data["card_sections"]) or "nothing"],
        ["still to be written", ", ".join(data["missing_sections"]) or "nothing"],
        ["labels", ", ".join(f"{key}={text}" for key, text in data["labels"].items()) or "none"],
        ["image", data["image"] or "none"],
    ]
    output.print_table(["rule", ""], rows)
    return 0


def _change_rules(model: Model, arguments: argparse.Namespace) -> None:
    """Change rules; where approved versions would no longer be, say which and ask first."""
    sections = None if arguments.sections is None else [part.strip() for part in arguments.sections.split(",")]
    second, renewed = (
        None if word is None else word == "yes" for word in (arguments.second_pair, arguments.renewed_approvals)
    )
    evidence = {**model.evidence_rules, **dict(map(_bound, arguments.evidence))} if arguments.evidence else None
    turned = (
        []
        if arguments.yes
        else [
            one
            for one in model.preview_rules(approvals_needed=arguments.approvals, renewed_approvals=renewed)
            if one["before"] == "approved"
        ]
    )
    if turned:
        print("With these rules no longer approved, and not to be placed until approved again:")
        for one in turned:
            stays = f"  stays on {', '.join(one['stages'])}" if one["stages"] else ""
            print(f"  {model.name}@{one['number']}  {one['before']} → {one['after']}{stays}")
        if not output.confirmed("Change the rules?"):
            raise InvalidInput("Nothing was changed; --yes changes the rules without asking.", field="yes")
    model.rule(
        approvals_needed=arguments.approvals,
        second_pair=second,
        card_sections=sections,
        renewed_approvals=renewed,
        evidence=evidence,
        confirmed=arguments.yes or bool(turned),
    )


def _bound(text: str) -> tuple[str, dict[str, object]]:
    """Read `holdout=rex+lea`, `holdout=experiment:nightly` or `holdout=anybody`."""
    on, sign, whom = text.partition("=")
    if not sign or not on or not whom:
        raise InvalidInput(
            f"--evidence takes DATA=PERSON+PERSON, DATA=experiment:NAME or DATA=anybody, not {text!r}.",
            field="evidence",
        )
    if whom == "anybody":
        return on, {}
    if whom.startswith("experiment:"):
        return on, {"experiment": whom.removeprefix("experiment:")}
    return on, {"people": whom.split("+")}


def _bound_to(rule: answers.EvidenceRule) -> str:
    people = f"by {' or '.join(rule['people'])} alone" if rule["people"] else ""
    runs = f"from runs of {rule['experiment']} alone" if rule["experiment"] else ""
    return ", ".join(part for part in (people, runs) if part)


def _ladder(arguments: argparse.Namespace) -> int:
    from kinetrum.client.registry.models import model

    model_read = model(arguments.model, project=arguments.project)
    if arguments.stages:
        model_read.set_ladder([_stage(text) for text in arguments.stages])
    if arguments.json:
        output.print_json(model_read.data["stages"])
        return 0
    rows = [
        [
            stage["name"],
            str(stage["occupant"] or "–"),
            "an approved version" if stage["asks_approved"] else "nothing",
            ", ".join(stage["placers"]) or f"{stage['least_role']}s",
            stage["why_not"] or "you may place here",
        ]
        for stage in reversed(model_read.data["stages"])
    ]
    output.print_table(["stage", "version", "asks", "placed by", ""], rows)
    return 0


def _stage(text: str) -> dict[str, object]:
    """Read `production:approved:approver` or `staging:approved:ilse+noor`."""
    name, *more = text.split(":")
    stage: dict[str, object] = {"name": name, "asks_approved": False}
    for word in more:
        if word == "approved":
            stage["asks_approved"] = True
        elif word in {"contributor", "approver", "maintainer"}:
            stage["least_role"] = word
        elif word:
            stage["placers"] = word.split("+")
    return stage


def _lock(arguments: argparse.Namespace) -> int:
    from kinetrum.client.registry.registration import lock

    lines = lock(arguments.refs, arguments.output, project=arguments.project)
    print("\n".join(lines))
    if arguments.output:
        output.note(
            f"Written to {arguments.output}; kinetrum fetch --locked {arguments.output} -o DIR fetches exactly these."
        )
    return 0


def _fetches(arguments: argparse.Namespace) -> int:
    from kinetrum.client.registry.models import model

    fetches = model(arguments.model, project=arguments.project).fetches()
    if arguments.json:
        output.print_json(fetches)
        return 0
    if not fetches:
        print(f"Nobody has fetched a version of {arguments.model} yet.")
        return 0
    rows = [
        [
            str(one["number"]),
            one["asked"],
            one["person"],
            f"{one['fetches']:,}",
            moment(one["first_at"]),
            moment(one["last_at"]),
        ]
        for one in fetches
    ]
    output.print_table(["version", "asked for", "by", "fetches", "since", "last"], rows)
    return 0
