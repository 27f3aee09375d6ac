"""What a review prints: gates, results on the same rows, what changed."""

from __future__ import annotations

from typing import TYPE_CHECKING

from kinetrum.cli import output
from kinetrum.cli.output import moment, paint

if TYPE_CHECKING:
    from kinetrum.client.registry.review import Review
    from kinetrum.client.transport import answers


def print_checks(checks: list[answers.GateCheck]) -> None:
    """Print the outcome of gates, one a line."""
    for check in checks:
        mark = paint("met    ", "good") if check["met"] else paint("not met", "bad")
        text = output.wrapped(f"  {' ' * 7}  {output.clean(check['asks'])}: {output.clean(check['found'])}", " " * 11)
        print(f"  {mark}  {text[11:]}")


def imported_verdict(verdict: answers.ImportedVerdict) -> str:
    """Say which verdict stood on a version where it was imported from."""
    word = "approved" if verdict["approves"] else "rejected"
    text = f"{output.clean(verdict['said_by'])} {word} it {moment(verdict['given_at'])} where it was imported from"
    comment = f": {output.clean(verdict['comment'])}" if verdict["comment"] else ""
    return f"{text}, which does not count here{comment}"


def show_review(review: Review) -> None:
    """Print a version beside another: the sentence, gates, results on the same data, what changed."""
    candidate, other = review["candidate"], review["other"]
    output.say(output.clean(review["sentence"]), "strong")
    if review["emptied"]:
        print(paint(f"{output.clean(review['emptied'])}.", "bad"))
    approvals = sum(1 for verdict in candidate["verdicts"] if verdict["approves"])
    print(
        f"{candidate['reference']} is {candidate['review']}: {approvals} of {candidate['approvals_needed']} approvals."
    )
    for verdict in candidate["verdicts"]:
        word = "approved" if verdict["approves"] else "rejected"
        comment = f": {output.clean(verdict['comment'])}" if verdict["comment"] else ""
        older = paint("  older than the newest evidence", "bad") if verdict["older"] else ""
        print(f"  {verdict['person']} {word} {moment(verdict['given_at'])}{comment}{older}")
    for verdict in candidate["imported_verdicts"]:
        print(paint(f"  {imported_verdict(verdict)}", "quiet"))
    if review["checks"]:
        print(f"\nGates of {review['stage']}")
        print_checks(review["checks"])
    for part in review["on_data"]:
        _show_on_data(part, candidate["number"], other["number"] if other else None)
        show_evidence([one for one in candidate["evidence"] if one["on"] == part["on"]])
    for on, reason in candidate["left_out_evidence"].items():
        print(paint(f"\nEvidence of its run on {output.clean(on)} was left out: {output.clean(reason)}.", "quiet"))
    _show_changes(review, other)


def show_evidence(every: list[answers.Evidence]) -> None:
    """Print who added evidence on named data, when, from which run, on which data; and what it replaced."""
    for at, one in enumerate(reversed(every)):
        data = f"data sha256:{one['digest'][:12]}" if one["digest"] else paint("no fingerprint of the data", "bad")
        word = "added by" if at == 0 else "replaced: added by"
        print(f"  {word} {output.clean(one['person'])}, {moment(one['at'])}, from {one['run']}, {data}")
        if one["refusal"]:
            print(paint(f"  does not count: {output.clean(one['refusal'])}", "bad"))
        if at > 0:
            was = ", ".join(f"{output.clean(key)} {output.number(value)}" for key, value in one["results"].items())
            print(f"    it said {was or 'nothing but predictions'}")


def _show_on_data(part: answers.OnData, number: int, other: int | None) -> None:
    print(f"\nOn {output.clean(part['on'])}{' (different data)' if part['same_data'] is False else ''}")
    differences = {one["measure"]: one for one in part["differences"]}
    rows = []
    for key in dict.fromkeys((*differences, *part["candidate"], *part["other"])):
        one = differences.get(key)
        sides = [
            {**({key: one["left"]} if one else {}), **part["candidate"]},
            {**({key: one["right"]} if one else {}), **part["other"]},
        ]
        figures = [output.number(side[key]) if key in side else "–" for side in sides]
        rows.append([key, figures[0], *([figures[1]] if other else []), *(_judged(one) if differences else [])])
    output.print_table(
        [
            "result",
            f"version {number}",
            *([f"version {other}"] if other else []),
            *(["on the same rows", "95 % interval", "", "by"] if differences else []),
        ],
        rows,
    )
    if part["note"]:
        print(paint(output.clean(part["note"]), "quiet"))


def _judged(one: answers.RowsVerdict | None) -> list[str]:
    """Return change, interval, verdict and method of a measure on the same rows."""
    from kinetrum.core.text.numbers import signed

    if one is None:
        return ["", "", "", ""]
    low, high = one["low"], one["high"]
    return [
        "" if one["change"] is None else signed(one["change"]),
        "" if low is None or high is None else f"{signed(low)} to {signed(high)}",
        on_rows(one),
        one["method"],
    ]


def on_rows(verdict: answers.RowsVerdict) -> str:
    """Say what the same rows tell: better, worse, within noise, or how many more rows it takes."""
    if verdict["outcome"] == "too few to tell":
        return f"too few to tell ({verdict['counted']:,} of {verdict['needed']:,} rows)"
    return str(verdict["outcome"])


def _show_changes(review: Review, other: answers.ModelVersionDetail | None) -> None:
    if review["misfits"] is None:
        print("\nIts signature is not known.")
    elif review["misfits"]:
        print(paint(f"\nIts signature does not fit: {'; '.join(review['misfits'])}.", "bad"))
    if not other:
        return
    if review["packages"]:
        changes = [
            f"{one['name']} {one['before'] or 'none'} → {one['after'] or 'none'}" for one in review["packages"][:8]
        ]
        print(f"\nPackages: {', '.join(changes)}")
    size, before = (side["artifact"]["size_bytes"] for side in (review["candidate"], other))
    print(f"\nSize {size:,} bytes, {before:,} before. Settings, code and data:", end=" ")
    runs = [side["run"] for side in (review["candidate"], other)]
    print(f"kinetrum compare {runs[0]} {runs[1]}" if all(runs) else "not both have a run")
