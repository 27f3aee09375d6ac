"""What differs between two versions, or in two files of them."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING, cast

from kinetrum.cli import output
from kinetrum.cli.output import paint, signed, size_text

if TYPE_CHECKING:
    from kinetrum.client.transport import answers


_FINDING_TONES = {"only left": "bad", "only right": "good", "changed": "strong", "moved": None, "same": "quiet"}


def show_difference(arguments: argparse.Namespace) -> int:
    """Print what differs between two versions file by file, or inside two files."""
    from kinetrum.client.data.artifact_versions import difference

    words = {"left": "only left", "right": "only right"}
    findings = [words.get(arguments.only, arguments.only)] if arguments.only else None
    if arguments.all:
        findings = ["only left", "only right", "changed", "moved", "same"]
    answer = difference(arguments.left, arguments.right, findings=findings, project=arguments.project)
    if arguments.json:
        output.print_json(answer)
        return 0
    output.say(output.clean(answer["sentence"]), "strong")
    if "text" in answer:
        _print_inside(cast("answers.ContentDifference", answer), arguments.limit)
        return 0
    return _print_pairs(answer, arguments.limit)


def _print_pairs(answer: answers.Difference, limit: int) -> int:
    print("  ".join(f"{count['sign']} {count['files']:,} {count['finding']}" for count in answer["counts"]))
    if answer["pairs"]:
        print()
        signs = {count["finding"]: count["sign"] for count in answer["counts"]}
        for pair in answer["pairs"][:limit]:
            print(_pair_line(pair, signs[pair["finding"]]))
    more = len(answer["pairs"]) - limit + answer["more"]
    if more > 0:
        print(paint(f"{more:,} more; --limit shows them, --json all", "quiet"))
    return 0


def _print_inside(content: answers.ContentDifference, limit: int) -> None:
    if content["columns"]:
        print()
        rows = [
            [
                output.clean(column["name"]),
                f"{column['rows']:,}",
                *(signed(value) for value in (column["mean"], column["least"], column["most"])),
            ]
            for column in content["columns"]
        ]
        output.print_table(["column", "rows", "on average", "least", "most"], rows)
    lines = content["text"].split("\n") if content["text"] else []
    if lines:
        print()
    for line in lines[:limit]:
        tone = {"+": "good", "-": "bad"}.get(line[:1]) if line[:3] not in {"+++", "---"} else "quiet"
        print(paint(output.clean(line), tone) if tone else output.clean(line))
    if len(lines) > limit:
        print(paint(f"{len(lines) - limit:,} more lines; --limit shows them, --json all", "quiet"))


def _pair_line(pair: answers.FilePair, sign: str) -> str:
    left, right = pair["left"], pair["right"]
    tone = _FINDING_TONES[pair["finding"]]
    head = paint(f"{sign} {pair['finding']:10}", tone)
    there = left or right
    assert there is not None
    path = output.clean(there["path"])
    if left is None or right is None:
        return f"{head}  {path}  {paint(size_text(there['size']), 'quiet')}"
    if pair["finding"] == "moved":
        return f"{head}  {path} → {output.clean(right['path'])}"
    if pair["finding"] == "changed":
        sizes = size_text(left["size"])
        if left["size"] != right["size"]:
            sizes += f" → {size_text(right['size'])}"
        words = f"{sizes}  {left['sha256'][:8]} → {right['sha256'][:8]}"
        return f"{head}  {path}  {paint(words, 'quiet')}"
    return f"{head}  {path}  {paint(size_text(left['size']), 'quiet')}"
