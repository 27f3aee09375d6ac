"""`artifacts`, `keep`, `fetch`, `diff`, `uses`, `check`, `lineage`: files and data."""

from __future__ import annotations

import argparse
from collections.abc import Callable
from typing import Any

from kinetrum.cli import output
from kinetrum.cli.arguments import add_common
from kinetrum.cli.output import moment, paint, print_section, signed, size_text
from kinetrum.core.errors import InvalidInput

_STATE_TONES = {"changed": "bad", "gone": "bad", "not reached": "bad", "same": "good"}
_FINDING_TONES = {"only left": "bad", "only right": "good", "changed": "strong", "moved": None, "same": "quiet"}


def add_commands(commands: Any) -> None:
    """Add this group to the parser."""
    artifacts = commands.add_parser("artifacts", help="artifacts of the project, or the versions of one")
    artifacts.add_argument("name", nargs="?", metavar="NAME")
    add_common(artifacts, _artifacts)
    keep = commands.add_parser("keep", help="store a file or folder without a run")
    keep.add_argument("path", metavar="PATH")
    keep.add_argument("--name", help="the artifact's name; by default made of the path's")
    keep.add_argument("--kind", default="file", help="data, model, image, table, text, file or a word of your own")
    keep.add_argument("--about", action="append", default=[], metavar="KEY=VALUE", help="metadata of the version")
    keep.add_argument("--label", action="append", default=[], metavar="KEY=TEXT")
    keep.add_argument("--description", help="what the artifact is")
    add_common(keep, _keep)
    fetch = commands.add_parser("fetch", help="download what a reference names, verified")
    fetch.add_argument(
        "ref", nargs="?", metavar="REF", help="frost-alarm@production, nights@3, frost-alarm/42:frost-net"
    )
    fetch.add_argument("--locked", metavar="FILE", help="fetch exactly the versions of a file that kinetrum lock wrote")
    fetch.add_argument("-o", "--output", default=".", metavar="DIR")
    add_common(fetch, _fetch)
    diff = commands.add_parser("diff", help="two versions side by side, file by file; or two files, by what is in them")
    diff.add_argument("left", metavar="NAME@A[:PATH]")
    diff.add_argument("right", metavar="NAME@B[:PATH]")
    diff.add_argument("--all", action="store_true", help="equal files too")
    diff.add_argument("--only", choices=["left", "right", "changed", "moved", "same"], help="only one kind")
    diff.add_argument("--limit", type=int, default=200)
    add_common(diff, _diff)
    uses = commands.add_parser("uses", help="who used or generated exactly this: a version, a file, a digest, a path")
    uses.add_argument("what", metavar="WHAT", help="nights@3, nights@3:2024/station-09.csv, sha256:…, data/nights")
    add_common(uses, _uses)
    check = commands.add_parser("check", help="what became of files that were fingerprinted where they lie")
    check.add_argument("ref", metavar="NAME@N")
    check.add_argument("--quick", action="store_true", help="compare size and last change only, no bytes")
    add_common(check, _check)
    lineage = commands.add_parser("lineage", help="what something came from and what came of it")
    lineage.add_argument("ref", metavar="REF", help="a run, a version, a file in one, a model's version, sha256:…")
    way = lineage.add_mutually_exclusive_group()
    way.add_argument("--back", dest="way", action="store_const", const="back", help="only what it came from")
    way.add_argument("--forth", dest="way", action="store_const", const="forth", help="only what came of it")
    lineage.add_argument("--prov", action="store_true", help="as W3C PROV-JSON")
    lineage.add_argument("-o", "--output", metavar="FILE", help="with --prov: write it there")
    add_common(lineage, _lineage)


def progress_of(title: str, enough: int = 64 * 1024 * 1024) -> Callable[[int], Callable[[int], None]]:
    """Return what shows a bar on a terminal for work on many bytes, and nothing for little."""
    import sys

    def begin(total: int) -> Callable[[int], None]:
        if total < enough or not sys.stderr.isatty():
            return lambda _: None
        from tqdm import tqdm

        bar = tqdm(total=total, desc=title, unit="B", unit_scale=True, leave=False)

        def tick(count: int) -> None:
            bar.update(count)

        return tick

    return begin


def _state(version: dict[str, Any]) -> str:
    if version["purged_at"]:
        return "purged"
    if version["binned_at"]:
        return "in the bin"
    marks = ["by reference" if version["by_reference"] else "stored"]
    marks += ["damaged"] if version["damaged"] else []
    marks += ["imported"] if version["imported_from"] else []
    return ", ".join(marks)


def _artifacts(given: argparse.Namespace) -> int:
    from kinetrum.client.http import path_of
    from kinetrum.client.session import open_session

    session = open_session(given.project)
    path = path_of("projects", session.project, "artifacts")
    found = session.service.get(path + (path_of(given.name) if given.name else ""))
    if given.json:
        output.print_json(found)
        return 0
    rows = found["versions"] if given.name else found
    if given.name:
        _print_artifact(found)
    if not rows:
        print("There are no artifacts yet: kinetrum keep PATH --name NAME stores one.")
        return 0
    output.print_table(
        ["version", "kind", "", "files", "size", "made", "digest"],
        [
            [row["reference"], row["kind"], _state(row), f"{row['file_count']:,}", size_text(row["size_bytes"]),
             moment(row["created_at"]), row["digest"][:12]]
            for row in rows
        ],
    )  # fmt: skip
    return 0


def _print_artifact(found: dict[str, Any]) -> None:
    labels = "  ".join(f"{output.clean(key)}={output.clean(text)}" for key, text in found["labels"].items())
    if found["description"]:
        print(output.clean(found["description"]))
    if labels:
        print(labels)


def _pairs(texts: list[str], what: str) -> dict[str, str]:
    found = {}
    for text in texts:
        key, sign, value = text.partition("=")
        if not sign or not key:
            raise InvalidInput(f"{text!r} is no KEY=VALUE.", field=what)
        found[key] = value
    return found


def about_of(texts: list[str]) -> dict[str, Any]:
    """Read metadata given as KEY=VALUE; a value is JSON where it is JSON, else text."""
    from kinetrum.core.values import read_typed

    return {key: read_typed(text) for key, text in _pairs(texts, "about").items()}


def _keep(given: argparse.Namespace) -> int:
    from kinetrum.client.copies import find_files
    from kinetrum.client.linking import artifact_name, described
    from kinetrum.client.session import open_session
    from kinetrum.client.stored import describe_artifact, keep_files

    name = artifact_name(given.name, given.path)
    said = described(given.kind, about=about_of(given.about), labels=_pairs(given.label, "label"))
    session = open_session(given.project)
    reference, sent = keep_files(
        session, find_files(given.path), name, said.kind, said.about, said.labels, progress_of(name)
    )
    if given.description is not None:
        describe_artifact(session, name, given.description, {})
    if given.json:
        output.print_json({"reference": reference, "sent_files": sent.files, "sent_bytes": sent.size_bytes})
        return 0
    print(reference)
    files = f"{sent.files:,} file{'' if sent.files == 1 else 's'}"
    output.note(f"{files}, {size_text(sent.size_bytes)} sent; the rest was there." if sent.files else "All was there.")
    return 0


def _fetch(given: argparse.Namespace) -> int:
    from kinetrum.client.reading import fetch
    from kinetrum.client.registering import fetch_locked

    if (given.ref is None) == (given.locked is None):
        raise InvalidInput("Fetch what? Name a reference, or a lock file with --locked.", field="ref")
    if given.locked:
        paths = fetch_locked(given.locked, given.output)
    else:
        paths = fetch(given.ref, given.output, project=given.project, progress=progress_of(given.ref))
    if given.json:
        output.print_json([str(path) for path in paths])
        return 0
    for path in paths[:50]:
        print(path)
    if len(paths) > 50:
        print(paint(f"{len(paths) - 50:,} more", "quiet"))
    output.note(f"{len(paths):,} file{'' if len(paths) == 1 else 's'} of {given.ref or given.locked}, verified.")
    return 0


def _diff(given: argparse.Namespace) -> int:
    from kinetrum.client.stored import difference

    words = {"left": "only left", "right": "only right"}
    findings = [words.get(given.only, given.only)] if given.only else None
    if given.all:
        findings = ["only left", "only right", "changed", "moved", "same"]
    found = difference(given.left, given.right, findings=findings, project=given.project)
    if given.json:
        output.print_json(found)
        return 0
    print(paint(output.clean(found["sentence"]), "strong"))
    if "text" in found:
        _print_inside(found, given.limit)
        return 0
    print("  ".join(f"{count['sign']} {count['files']:,} {count['finding']}" for count in found["counts"]))
    if found["pairs"]:
        print()
        signs = {count["finding"]: count["sign"] for count in found["counts"]}
        for pair in found["pairs"][: given.limit]:
            print(_pair_line(pair, signs[pair["finding"]]))
    more = len(found["pairs"]) - given.limit + found["more"]
    if more > 0:
        print(paint(f"{more:,} more; --limit shows them, --json all", "quiet"))
    return 0


def _print_inside(found: dict[str, Any], limit: int) -> None:
    if found["columns"]:
        print()
        rows = [
            [output.clean(column["name"]), f"{column['rows']:,}",
             *(signed(column[key]) for key in ("mean", "least", "most"))]
            for column in found["columns"]
        ]  # fmt: skip
        output.print_table(["column", "rows", "on average", "least", "most"], rows)
    lines = found["text"].split("\n") if found["text"] else []
    if lines:
        print()
    for line in lines[:limit]:
        tone = {"+": "good", "-": "bad"}.get(line[:1]) if line[:3] not in {"+++", "---"} else "quiet"
        print(paint(output.clean(line), tone) if tone else output.clean(line))
    if len(lines) > limit:
        print(paint(f"{len(lines) - limit:,} more lines; --limit shows them, --json all", "quiet"))


def _pair_line(pair: dict[str, Any], sign: str) -> str:
    left, right = pair["left"], pair["right"]
    tone = _FINDING_TONES[pair["finding"]]
    head = paint(f"{sign} {pair['finding']:10}", tone)
    path = output.clean((left or right)["path"])
    if pair["finding"] == "moved":
        return f"{head}  {path} → {output.clean(right['path'])}"
    if pair["finding"] == "changed":
        sizes = size_text(left["size"])
        if left["size"] != right["size"]:
            sizes += f" → {size_text(right['size'])}"
        told = f"{sizes}  {left['sha256'][:8]} → {right['sha256'][:8]}"
        return f"{head}  {path}  {paint(told, 'quiet')}"
    return f"{head}  {path}  {paint(size_text((left or right)['size']), 'quiet')}"


def _uses(given: argparse.Namespace) -> int:
    from kinetrum.client.stored import uses

    found = uses(given.what, project=given.project)
    if given.json:
        output.print_json(found)
        return 0
    runs = {use["run"]["run"] for use in found["uses"]}
    versions = [version["reference"] for version in found["versions"]]
    what = "This content" if found["exact"] else "This file"
    verb = "is" if found["exact"] else "stands in"
    count = f"{len(runs):,} run{'' if len(runs) == 1 else 's'}"
    print(f"{paint(what, 'strong')} {verb} {', '.join(versions[:8])}{' …' if len(versions) > 8 else ''}; {count}.")
    print(paint(found["what"], "quiet"))
    if found["uses"]:
        rows = [
            [use["run"]["run"], output.clean(use["run"]["name"] or ""), use["run"]["relation"],
             use["run"]["role"] or use["run"]["activity"] or "", use["version"], use["run"]["author"],
             moment(use["run"]["at"])]
            for use in found["uses"]
        ]  # fmt: skip
        output.print_table(["run", "name", "", "as", "version", "by", "when"], rows)
    return 0


def _check(given: argparse.Namespace) -> int:
    from kinetrum.client.reading import open as open_ref
    from kinetrum.client.stored import StoredVersion

    version = open_ref(given.ref, project=given.project)
    if not isinstance(version, StoredVersion):
        raise InvalidInput(f"{given.ref} is no artifact version; write NAME@NUMBER.", field="ref")
    tick = progress_of(given.ref)(version.data["size_bytes"])
    found = version.check(given.quick, tick)
    wrong = [file for file in found if file.state != "same"]
    if given.json:
        output.print_json([vars(file) for file in found])
        return 1 if wrong else 0
    how = "by size and last change only" if given.quick else "every byte compared"
    counts = ", ".join(
        f"{sum(file.state == state for file in found):,} {state}"
        for state in _STATE_TONES if any(file.state == state for file in found)
    )  # fmt: skip
    print(f"{paint(version.reference, 'strong')}: {counts} ({how}).")
    for file in wrong:
        detail = f"  {file.detail}" if file.detail else ""
        print(f"{paint(f'{file.state:11}', _STATE_TONES[file.state])}  {output.clean(file.address)}{detail}")
    return 1 if wrong else 0


def _lineage(given: argparse.Namespace) -> int:
    from pathlib import Path

    from kinetrum.client.lineage import lineage

    found = lineage(given.ref, way=given.way or "both", project=given.project)
    if given.prov:
        doc = found.to_prov(given.output)
        if given.output:
            print(f"{Path(given.output)}: {len(found.nodes)} things as PROV-JSON.")
        else:
            output.print_json(doc)
        return 0
    if given.json:
        output.print_json(found.data)
        return 0
    print(paint(found.sentence, "strong"))
    _print_side(found, "Came from", -1)
    _print_side(found, "Led to", 1)
    return 0


def _print_side(found: Any, title: str, sign: int) -> None:
    nodes = [node for node in found.nodes.values() if node["steps"] * sign > 0]
    if not nodes:
        return
    print_section(title)
    shown = sorted(nodes, key=lambda node: (abs(node["steps"]), node["kind"], node["reference"]))
    for node in shown[:60]:
        links = [edge for edge in found.edges if node["id"] in (edge["source"], edge["target"])]
        how = sorted({_how(edge, node["id"]) for edge in links})
        marks = ["purged"] if node["gone"] else [node["detail"]] if node["detail"] else []
        marks += [f"on {stage}" for stage in node["stages"]]
        told = f"  {paint('; '.join(how[:3]), 'quiet')}"
        print(f"{'  ' * abs(node['steps'])}{node['reference']}{'  ' + ', '.join(marks) if marks else ''}{told}")
    if len(shown) > 60:
        print(paint(f"{len(shown) - 60:,} more; --json lists all", "quiet"))


def _how(edge: dict[str, Any], node: str) -> str:
    other = (edge["target"] if edge["source"] == node else edge["source"]).partition(":")[2]
    as_ = f" as {edge['role']}" if edge["role"] else ""
    words = {
        "used": ("used by", "used"), "generated": ("generated", "generated by"),
        "registered": ("registered as", "registered from"), "began": ("began", "under"),
    }[edge["relation"]]  # fmt: skip
    return f"{words[0] if edge['source'] == node else words[1]} {other}{as_}"
