"""`models`, `register`, `review`, `promote`, `demote`, `rollback`, `retire`, `lead`: versions and where they stand."""

from __future__ import annotations

import argparse
from collections.abc import Callable
from typing import TYPE_CHECKING

from kinetrum.cli import output
from kinetrum.cli.output import moment, paint
from kinetrum.cli.parser import Commands
from kinetrum.core.base.errors import InvalidInput

if TYPE_CHECKING:
    from kinetrum.client.registry.models import Expect, Model, ModelVersion
    from kinetrum.client.transport import answers


def add_commands(commands: Commands) -> None:
    """Add this group to the parser."""
    models = commands.add_parser("models", help="every model's ladder at a glance")
    models.add_argument("find", nargs="*", metavar="WORD", help="words in name, purpose, person or labels")
    models.add_argument("--state", choices=["pending", "warning", "unplaced"], help="only those in this state")
    models.add_argument("--everywhere", action="store_true", help="of all projects that you may see")
    models.add_argument("--json", action="store_true")
    common(models, _models)
    register = commands.add_parser("register", help="register a version of a model")
    register.add_argument("what", metavar="WHAT", help="NAME@NUMBER, a path, or with --run what that run generated")
    register.add_argument("--as-model", required=True, metavar="MODEL")
    register.add_argument("--run", dest="of_run", metavar="REF")
    register.add_argument("--step", type=int, metavar="N", help="with --run: the checkpoint of this step")
    register.add_argument("--best", metavar="KEY", help="with --run: the checkpoint at which this metric was best")
    register.add_argument("--origin", help="where it came from, in words, if no run made it")
    register.add_argument(
        "--by-reference", action="store_true", help="fingerprint the files and leave them where they are"
    )
    register.add_argument("--label", action="append", default=[], metavar="K=V")
    register.add_argument(
        "--metric", action="append", default=[], metavar="K=NUMBER", help="a value beside those of the run"
    )
    register.add_argument("--sample", metavar="FILE", help="an input as CSV or .npy, to infer the signature from")
    _commented(register, _register)
    review = commands.add_parser("review", help="see a version's review; approve or reject it")
    review.add_argument("ref", metavar="MODEL@VERSION")
    review.add_argument("--stage", help="beside this stage's occupant; by default the highest stage's")
    review.add_argument("--against", metavar="N", help="beside this version")
    verdict = review.add_mutually_exclusive_group()
    verdict.add_argument("--approve", dest="verdict", action="store_const", const="approve")
    verdict.add_argument("--reject", dest="verdict", action="store_const", const="reject")
    verdict.add_argument("--take-back", dest="verdict", action="store_const", const="take back")
    _commented(review, _review)
    promote = commands.add_parser("promote", help="place a version on a stage")
    promote.add_argument("ref", metavar="MODEL@VERSION")
    promote.add_argument("stage", metavar="STAGE")
    promote.add_argument("--override", metavar="REASON", help="place it although gates are not met; for maintainers")
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
    _commented(lead, _lead)


def common(parser: argparse.ArgumentParser, run: Callable[[argparse.Namespace], int]) -> None:
    """Add what every command of the registry takes."""
    parser.add_argument("--project")
    parser.set_defaults(run=run)


def _commented(parser: argparse.ArgumentParser, run: Callable[[argparse.Namespace], int]) -> None:
    parser.add_argument("-m", "--comment", default="", help="kept in the journal")
    parser.add_argument("--json", action="store_true")
    common(parser, run)


def _expecting(parser: argparse.ArgumentParser, run: Callable[[argparse.Namespace], int]) -> None:
    parser.add_argument(
        "--expect",
        metavar="N|none",
        help="the version that must stand on the stage now; refused where another does",
    )
    _commented(parser, run)


def show_model(model: answers.Model) -> None:
    """Print one model: its ladder and versions."""
    lead = f"  lead version {model['lead']}" if model["lead"] else "  no lead version"
    print(paint(model["name"], "strong") + lead + paint(f"  ask {model['person']}", "quiet"))
    if model["purpose"]:
        print(output.clean(model["purpose"]))
    if model["labels"]:
        print("  ".join(f"{output.clean(key)}={output.clean(text)}" for key, text in model["labels"].items()))
    if model["imported_from"]:
        print(f"imported from {output.clean(model['imported_from'])}")
    if model["binned_at"]:
        print(paint(f"in the bin since {moment(model['binned_at'])}", "bad"))
    if model["missing_sections"]:
        print(paint(f"The card lacks {', '.join(model['missing_sections'])}.", "bad"))
    rows = []
    for stage in reversed(model["stages"]):
        since = f"since {moment(stage['since'])} by {stage['placed_by']}" if stage["occupant"] else ""
        rows.append([stage["name"], str(stage["occupant"] or "–"), since, stage["warning"] or ""])
    output.print_table(["stage", "version", "", ""], rows)
    print()
    rows = [
        [
            str(v["number"]),
            v["review"],
            ", ".join(v["stages"]),
            _source_of(v),
            moment(v["registered_at"]),
            v["registered_by"],
            output.short(v["comment"], 40),
        ]
        for v in model["versions"]
    ]
    output.print_table(["version", "review", "on", "run", "registered", "by", "comment"], rows)


def _source_of(version: answers.ModelVersion) -> str:
    step = "" if version["step"] is None else f" step {version['step']}"
    return f"{version['run']}{step}" if version["run"] else ""


def _models(arguments: argparse.Namespace) -> int:
    from kinetrum.client.registry.models import models

    models_listed = models(
        " ".join(arguments.find), state=arguments.state, project=arguments.project, everywhere=arguments.everywhere
    )
    if arguments.json:
        output.print_json([model.data for model in models_listed])
        return 0
    stages = list(dict.fromkeys(stage for model in models_listed for stage in model.stages))
    where = ["project"] if arguments.everywhere else []
    rows = []
    for model in models_listed:
        marks = {name: " !" for name in model.warnings}
        rows.append(
            [
                model.name,
                *([model.project] if arguments.everywhere else []),
                *[f"{model.stages.get(stage) or '–'}{marks.get(stage, '')}" for stage in stages],
                str(model.lead or "–"),
                str(model.glance["reviews"]["pending"]),
                str(model.glance["versions"]),
                model.person,
                output.short(model.purpose, 50),
            ]
        )
    output.print_table(["model", *where, *stages, "lead", "pending", "versions", "ask", "purpose"], rows)
    for model in models_listed:
        for stage, warning in model.warnings.items():
            print(paint(f"! {model.name} on {stage}: {warning}; kinetrum rollback {model.name}@{stage}", "bad"))
    return 0


def _sample(path: str | None) -> object:
    """Read an input to infer a signature from: CSV with a head, or an array of NumPy."""
    if path is None:
        return None
    import numpy as np

    try:
        if path.endswith(".npy"):
            return np.load(path, allow_pickle=False)
        table = np.genfromtxt(path, delimiter=",", names=True, dtype=None, encoding="utf-8")
    except (OSError, ValueError) as error:
        raise InvalidInput(f"{path} is neither CSV with a head nor an .npy file ({error}).", field="sample") from None
    return {name: np.atleast_1d(table[name]) for name in table.dtype.names or ()}


def _pairs(words: list[str], option: str) -> dict[str, str]:
    pairs = {}
    for word in words:
        key, sign, text = word.partition("=")
        if not sign or not key:
            raise InvalidInput(f"{option} takes KEY=VALUE, not {word!r}.", field=option.strip("-"))
        pairs[key] = text
    return pairs


def _numbers(words: list[str]) -> dict[str, float]:
    numbers = {}
    for key, text in _pairs(words, "--metric").items():
        try:
            numbers[key] = float(text)
        except ValueError:
            raise InvalidInput(f"--metric {key} takes a number, not {text!r}.", field="metric") from None
    return numbers


def _register(arguments: argparse.Namespace) -> int:
    from kinetrum.client.registry.registration import register

    version = register(
        arguments.what,
        as_model=arguments.as_model,
        run=arguments.of_run,
        step=arguments.step,
        best=arguments.best,
        origin=arguments.origin,
        comment=arguments.comment,
        labels=_pairs(arguments.label, "--label"),
        metrics=_numbers(arguments.metric),
        sample=_sample(arguments.sample),
        upload=not arguments.by_reference,
        project=arguments.project,
    )
    if arguments.json:
        output.print_json(version.data)
        return 0
    signature = version.signature
    takes = f"; takes {', '.join(one.text() for one in signature.inputs[:4])}" if signature and signature.inputs else ""
    evidence = f"; evidence on {', '.join(version.evidence)}" if version.evidence else ""
    at = f", step {version.step}" if version.step is not None else ""
    source = f"{version.data['artifact']['reference']} of {version.run}{at}" if version.run else "no run"
    print(f"Registered {version.reference} from {source}; its review is {version.review}{evidence}{takes}.")
    tell_of_checkpoint(version.data)
    return 0


def tell_of_checkpoint(version: answers.ModelVersionDetail) -> None:
    """Say on standard error which values of a checkpoint are not of its step, and what does not count for it."""
    for key, step in version["earlier"].items():
        output.note(f"{key} is that of step {step}, the latest before step {version['step']}.")
    if version["left_out"]:
        keys = ", ".join(version["left_out"][:8]) + (" …" if len(version["left_out"]) > 8 else "")
        output.note(f"Left out, because they are not of step {version['step']}: {keys}.")
    for on, reason in version.get("left_out_evidence", {}).items():
        output.note(f"Its run's evidence on {on} was not added: {reason}.")


def version_of(text: str, project: str | None) -> ModelVersion:
    """Read the version that `MODEL@NUMBER`, `MODEL@STAGE`, `MODEL@lead` or `MODEL@newest` names."""
    from kinetrum.client.registry.models import ModelVersion
    from kinetrum.client.transport.session import open_session
    from kinetrum.core.base.refs import VersionRef, parse_ref

    ref = parse_ref(text)
    if not isinstance(ref, VersionRef) or ref.path:
        raise InvalidInput(f"{text!r} names no version; write MODEL@NUMBER or MODEL@STAGE.", field="version")
    session = open_session(ref.project or project)
    return ModelVersion.read(session, ref.project or session.project, ref.name, ref.which)


def _stage(text: str, project: str | None) -> tuple[Model, str]:
    from kinetrum.client.registry.models import Model
    from kinetrum.client.transport.session import open_session
    from kinetrum.core.base.refs import VersionRef, parse_ref

    ref = parse_ref(text)
    if not isinstance(ref, VersionRef) or ref.which.isdigit() or ref.path:
        raise InvalidInput(f"{text!r} names no stage; write MODEL@STAGE.", field="stage")
    session = open_session(ref.project or project)
    return Model.read(session, ref.project or session.project, ref.name), ref.which


def _expected(text: str | None) -> Expect:
    from kinetrum.client.registry.models import SEEN

    if text is None:
        return SEEN
    if text == "none":
        return None
    if not text.isdigit():
        raise InvalidInput(f"--expect takes a version number or none, not {text!r}.", field="expect")
    return int(text)


def _review(arguments: argparse.Namespace) -> int:
    version = version_of(arguments.ref, arguments.project)
    if arguments.verdict == "take back":
        version.take_back_verdict(arguments.comment)
    elif arguments.verdict == "approve":
        version.approve(arguments.comment)
    elif arguments.verdict == "reject":
        version.reject(arguments.comment)
    review = version.beside(arguments.stage, against=arguments.against)
    if arguments.json:
        output.print_json(review)
    else:
        from kinetrum.cli.registry.review_tables import show_review

        show_review(review)
    return 0


def _promote(arguments: argparse.Namespace) -> int:
    version = version_of(arguments.ref, arguments.project)
    before = version.model.occupant_seen(arguments.stage)
    version.promote(
        arguments.stage, expect=_expected(arguments.expect), comment=arguments.comment, override=arguments.override
    )
    if arguments.json:
        output.print_json(version.model.data)
    else:
        was = f"; version {before} stood there before" if before else ""
        print(f"{version.reference} stands on {arguments.stage} now{was}.")
        checks = version.model.timeline[-1]["checks"]
        if checks:
            from kinetrum.cli.registry.review_tables import print_checks

            print_checks(checks)
    return 0


def _demote(arguments: argparse.Namespace) -> int:
    model, stage = _stage(arguments.ref, arguments.project)
    before = model.occupant_seen(stage)
    model.demote(stage, expect=_expected(arguments.expect), comment=arguments.comment)
    if arguments.json:
        output.print_json(model.data)
    else:
        print(f"The stage {stage} of {model.name} is empty now; version {before} stood there.")
    return 0


def _rollback(arguments: argparse.Namespace) -> int:
    model, stage = _stage(arguments.ref, arguments.project)
    before = model.occupant_seen(stage)
    now = model.roll_back(stage, expect=_expected(arguments.expect), comment=arguments.comment)
    if arguments.json:
        output.print_json(model.data)
    else:
        print(f"{stage} of {model.name} holds version {now} again; version {before} was taken off.")
    return 0


def _retire(arguments: argparse.Namespace) -> int:
    version = version_of(arguments.ref, arguments.project)
    version.retire(not arguments.undo, arguments.comment)
    if arguments.json:
        output.print_json(version.data)
    else:
        print(f"{version.reference} is {'in use again' if arguments.undo else 'retired'}.")
    return 0


def _lead(arguments: argparse.Namespace) -> int:
    from kinetrum.client.registry.models import model

    model_read = model(arguments.model, project=arguments.project)
    if arguments.version is not None:
        number = _expected(arguments.version)
        model_read.choose_lead(number if isinstance(number, int) else None, arguments.comment)
    if arguments.json:
        output.print_json({"model": model_read.name, "lead": model_read.lead, "chosen": model_read.data["lead_chosen"]})
    elif model_read.lead is None:
        print(f"{model_read.name} has no lead version: no stage holds an approved version and none was chosen.")
    else:
        how = "chosen" if model_read.data["lead_chosen"] else "the occupant of the highest occupied stage"
        print(f"The lead version of {model_read.name} is {model_read.lead} ({how}).")
    return 0
