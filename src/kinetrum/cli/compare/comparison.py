"""`compare`, `effects`: which run is better, whether it really is, why; and what moves a value over an experiment."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from kinetrum.cli import output
from kinetrum.cli.arguments import add_common
from kinetrum.cli.output import number, paint, print_section
from kinetrum.cli.parser import Commands
from kinetrum.cli.registry.review_tables import on_rows
from kinetrum.core.base.errors import InvalidInput

if TYPE_CHECKING:
    from kinetrum.client.reading.comparison import Comparison
    from kinetrum.client.transport import answers

_LEVELS, _REASONS = 4, 8
_TONES = {"better": "good", "worse": "bad"}


def add_commands(commands: Commands) -> None:
    """Add this group to the parser."""
    compare = commands.add_parser("compare", help="which run is better, beyond noise or not, and why")
    compare.add_argument("refs", nargs="+", metavar="REF")
    compare.add_argument("--baseline", metavar="REF", help="changes are measured against it; the second by default")
    compare.add_argument("--each", action="store_true", help="every run for itself, without its replicates")
    compare.add_argument("--on", metavar="KEY", help="why this value differs; without it that of the first goal")
    add_common(compare, _compare)
    effects = commands.add_parser("effects", help="what moves a value over the runs of an experiment")
    effects.add_argument("query", nargs="?", default="", metavar="QUERY", help="of these runs only")
    effects.add_argument("-e", "--experiment")
    effects.add_argument("--on", metavar="KEY", help="a value; without it that of the first goal")
    add_common(effects, _effects)


def _compare(arguments: argparse.Namespace) -> int:
    from kinetrum.client.reading.comparison import compare

    if len(arguments.refs) < 2:
        raise InvalidInput("Name two or more runs to compare.", field="REF")
    refs = list(arguments.refs)
    baseline = 1
    if arguments.baseline:
        if arguments.baseline not in refs:
            refs.append(arguments.baseline)
        baseline = refs.index(arguments.baseline)
    comparison = compare(refs, project=arguments.project, baseline=baseline, each=arguments.each)
    if arguments.json:
        output.print_json(comparison)
        return 0
    _show(comparison)
    if len(comparison["runs"]) == 2:
        _show_rows(comparison.rows())
        _show_reasons(comparison, arguments.on)
    return 0


def _show(comparison: Comparison) -> None:
    head = comparison["headline"]
    sentence = output.wrapped(head["finding"] + head["rest"])
    # Lines are broken at spaces alone, so the finding is as long as before.
    at = len(head["finding"])
    print(paint(sentence[:at], "strong") + sentence[at:])
    output.say(head["reason"], "quiet")
    names = _names(comparison["runs"])
    print_section("Set differently")
    around = [{**row, "key": f"data {row['key']}"} for row in comparison["inputs"]] + comparison["surroundings"]
    rows = [[row["key"], *_cells(row)] for row in comparison["settings"] + around]
    if rows:
        output.print_table(["setting", *names], rows, keep=3)
    equal = comparison["settings_equal"] + comparison["inputs_equal"] + comparison["surroundings_equal"]
    print(paint(f"{equal} equal, not shown", "quiet"))
    print_section("Came out differently")
    many = len(names) > 2
    outcomes = [_outcome(row, comparison["baseline"], many) for row in comparison["outcomes"]]
    outcomes += [_outcome(row, comparison["baseline"], many) for row in comparison["costs"]]
    if outcomes:
        tail = [] if many else ["change", "", "", "95 % interval"]
        output.print_table(["key", *names, *tail], outcomes, keep=3)
    if many:
        print(paint(f"against {names[comparison['baseline']]}: + better, − worse, ~ within noise", "quiet"))
    print(paint(f"{comparison['outcomes_equal']} equal, not shown", "quiet"))


def _names(runs: list[answers.ComparedRun]) -> list[str]:
    """Name columns: runs of one experiment by their numbers, groups with how many they are."""
    names = []
    for run in runs:
        count = len(run["replicates"])
        names.append(f"{run['label'].lower()} ×{count}" if count > 1 else run["label"].lower())
    return names


def _cells(row: answers.ComparedOutcome) -> list[str]:
    return [number(value) if present else "–" for value, present in zip(row["values"], row["present"], strict=True)]


def _outcome(row: answers.ComparedOutcome, baseline: int, many: bool) -> list[str]:
    from kinetrum.client.reading.comparison import verdict_words

    key = row["key"] + ("" if not row["goal"] else " ↑" if row["goal"]["direction"] == "higher" else " ↓")
    cells = [
        f"{cell} ±{spread['deviation']:.2g}" if spread and spread["deviation"] is not None else cell
        for cell, spread in zip(_cells(row), row["spreads"], strict=True)
    ]
    if many:
        for at, change in enumerate(row["changes"]):
            if change is not None and at != baseline and row["goal"]:
                cells[at] += {"better": " +", "worse": " −", "within noise": " ~"}.get(verdict_words(change), "")
        return [key, *cells]
    change = next((one for one in row["changes"] if one is not None), None)
    if change is None:
        return [key, *cells, "", "", "", ""]
    difference = change["difference"]
    share = "" if change["share"] is None else f"{_signed(100 * change['share'])} %"
    interval = _interval(difference["low"], difference["high"])
    return [key, *cells, _signed(change["change"]), share, verdict_words(change), interval]


def _signed(change: float | None) -> str:
    from kinetrum.core.text.numbers import signed

    return "" if change is None else signed(change)


def _interval(low: float | None, high: float | None) -> str:
    return "" if low is None or high is None else f"{_signed(low)} to {_signed(high)}"


def _show_rows(judged: list[answers.JudgedRows]) -> None:
    differences = [(one["name"], difference) for one in judged for difference in one["differences"]]
    if differences:
        print_section("On the same rows")
        rows = [
            [
                difference["measure"],
                f"{difference['rows']:,}",
                number(difference["left"]),
                number(difference["right"]),
                _signed(difference["change"]),
                _interval(difference["low"], difference["high"]),
                on_rows(difference),
                difference["method"],
            ]
            for _, difference in differences
        ]
        output.print_table(["measure", "rows", "first", "second", "change", "95 % interval", "", "by"], rows, keep=3)
    for one in judged:
        if one["note"]:
            print(paint(output.clean(f"{one['name']}: {one['note']}"), "quiet"))


def _show_reasons(comparison: Comparison, on: str | None) -> None:
    try:
        reasons = comparison.reasons(on)
    except InvalidInput:
        if on is not None:
            raise
        return
    print_section("Why, the likeliest first")
    for reason in reasons[:_REASONS]:
        print(f"{reason['kind']:<12} {output.clean(reason['text'])}")
    if len(reasons) > _REASONS:
        print(paint(f"{len(reasons) - _REASONS} more, less likely", "quiet"))


def _effects(arguments: argparse.Namespace) -> int:
    from kinetrum.client.reading.comparison import effects

    explained = effects(arguments.experiment, on=arguments.on, query=arguments.query, project=arguments.project)
    if arguments.json:
        output.print_json(explained)
        return 0
    output.say(output.clean(explained["sentence"]), "strong")
    rows = [
        [
            output.clean(effect["factor"]),
            f"{effect['share']:.0%}",
            _certainty(effect),
            "" if effect["rank"] is None else f"{effect['rank']:+.2f}",
            _levels(effect["levels"]),
        ]
        for effect in explained["effects"]
    ]
    if rows:
        print()
        output.print_table(["factor", "share", "", "rank", f"mean {explained['key']} (runs)"], rows, keep=4)
    for one in explained["interactions"]:
        print(paint(f"{' and '.join(one['factors'])} may work together (p {one['p']:.2g}).", "quiet"))
    if explained["unvaried"]:
        output.say(f"Not varied, or different in every run: {', '.join(explained['unvaried'])}", "quiet")
    output.say(
        "What people happened to try is not a planned experiment: this is what goes along, not what causes.", "quiet"
    )
    return 0


def _certainty(effect: answers.Effect) -> str:
    together = f", with {', '.join(effect['together'][:2])}" if effect["together"] else ""
    return {"clear": "clear", "likely": "likely", "open": "not told from chance"}[effect["certainty"]] + together


def _levels(levels: list[answers.Level]) -> str:
    words = [f"{output.clean(level['name'])}: {level['mean']:.3g} ({level['runs']})" for level in levels[:_LEVELS]]
    return "  ".join(words) + (" …" if len(levels) > _LEVELS else "")
